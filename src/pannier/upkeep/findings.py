"""What verifying finds: one thing wrong, or one thing to know."""

from __future__ import annotations

from dataclasses import dataclass

from pannier.results import Result

FROM_COPY = "bring the file back from a copy of the store: verify it with `repair_from` COPY"


@dataclass(frozen=True, repr=False)
class Finding(Result):
    """One thing found: in which file, what is wrong, what it harms, what to do. Information alone where not `is_damage`.

    `keys` are the records that are harmed, where that can be told.
    """

    file: str
    problem: str
    harms: str
    advice: str
    is_damage: bool = True
    keys: tuple[str, ...] = ()
