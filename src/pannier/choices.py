"""Arguments that several floors take: what each may be, said once."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, Literal, get_args

from pannier.errors import UsageError

# how labels come in a batch; what becomes of a last, smaller batch; how a snapshot is laid out in a folder
LabelAs = Literal["number", "one_hot", "name"]
Last = Literal["keep", "drop", "wrap"]
Layout = Literal["class", "split", "flat"]
# what becomes of what gets no label
Unlabeled = Literal["leave", "keep"]
# whose word goes where a source and a correction have both changed a record
Relabel = Literal["source", "store"]
# what becomes of rows that are doubtful, as one picture under two labels
Doubtful = Literal["leave-out", "keep"]
# which of two strands, where both have changed a record
Side = Literal["ours", "theirs"]
# what becomes of records that a group or double ties to a split which is fixed from outside
Ties = Literal["follow", "leave-out"]
# what long work calls now and then, with (done, in all)
Progress = Callable[[int, int], None]


def checked_choice(argument: str, value: Any, choices: Any) -> Any:
    """The value, if it is one of a Literal's. Raises UsageError."""
    known = get_args(choices)
    if value not in known:
        *others, last = map(repr, known)
        raise UsageError(f"{argument} = {value!r}: must be {', '.join(others)} or {last}")
    return value
