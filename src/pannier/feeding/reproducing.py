"""Feeding by a docket: the same batches as where it was made, or an error that names what differs."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from pannier.budget import limit_bytes
from pannier.errors import UsageError
from pannier.images.treatment import Treatment
from pannier.store.state import State
from pannier.versions.docket import Docket, refuse_no_split


def read_feed(
    docket: str | Path | Docket, *, store: str | Path | None = None, **options: Any
) -> tuple[State, str | None, Treatment | None, dict[str, Any]]:
    """(snapshot, split, treatment, options) of the feed that a docket describes. options: for what the docket leaves open.

    Raises NotFoundError, UsageError where content, class numbers, treatment or decoder differ, or an option contradicts.
    """
    read = docket if isinstance(docket, Docket) else Docket.read(docket)
    state = read.open(store, beside=None if isinstance(docket, Docket) else Path(docket).parent)
    fixed = read.feed.options()
    for name, value in options.items():
        if name in fixed and value is not None and value != fixed[name]:
            raise UsageError(f"{name} = {value!r}: the docket says {fixed[name]!r}; leave it out, or make another docket")
    given = {name: value for name, value in options.items() if value is not None or name == "memory_limit"} | fixed
    treatment = given.pop("treatment", None)
    own = read.read_treatment(limit_bytes(options.get("memory_limit", "auto")))
    if treatment is not None and own is not None and treatment != own:
        raise UsageError("the treatment differs from the docket's: leave it out, or make another docket")
    split = given.pop("split", None)
    refuse_no_split(state, split)
    return state, split, own or treatment, given
