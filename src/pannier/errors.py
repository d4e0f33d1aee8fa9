"""Every error that a user can meet, one family.

PannierError
├── UsageError            the call was wrong: a missing path, an unknown name, shares that do not sum up
│   ├── TreatmentError    a field of a treatment that is unknown or has a value it cannot have
│   └── NotFoundError     no such store, snapshot, strand, tag, split or record
├── SourceError           the pictures to bring in have a problem: none found, names that differ, one key twice
├── PictureError          one picture cannot be used: broken, empty, too large, of a kind that is not read
├── StoreError            the store or its disk has a problem: newer format, no hard links, full, read-only
│   ├── DamageError       bytes are not what was written; names file, record and key
│   └── ConflictError     somebody else changed the same record at the same moment
└── LimitError            a memory limit that is too small; names the smallest one, or the batch size that would fit
"""

from __future__ import annotations

import difflib
import re
from collections.abc import Iterable

from pannier.kinds import LeftOutKind

LONGEST_MESSAGE = 1500
# what to do stands at the end of a message
_KEPT_END = 300
_LONGEST_NAME = 200


class PannierError(Exception):
    """The root of the family. Its message is one line that says what is wrong and what to do; arguments stand as `name`.

    `exit_status` is what a command that ends with it gives to the shell: 1 the data have a problem, 2 the call was wrong.
    """

    exit_status = 1

    def __init__(self, *parts: object) -> None:
        super().__init__(*(_in_one_line(part) if isinstance(part, str) else part for part in parts))


class UsageError(PannierError, ValueError):
    """The call was wrong."""

    exit_status = 2

    def __init__(self, *parts: object, argument: str | None = None) -> None:
        super().__init__(*parts)
        self._argument = argument

    @property
    def argument(self) -> str | None:
        """The name of the argument that it is about: the first that stands as `name`, or as "name = value" ahead of all."""
        if self._argument is not None:
            return self._argument
        named = re.search(r"`([a-z_]+)`", str(self)) or re.match(r"([a-z_]+) = ", str(self))
        return named[1] if named else None


class TreatmentError(UsageError):
    """A treatment has an unknown field or one with an impossible value."""


class NotFoundError(UsageError, LookupError):
    """Nothing bears that name: a path, store, snapshot, strand, tag, split or record."""


class SourceError(PannierError):
    """What is to be brought in has a problem that stops all of it."""


class PictureError(PannierError):
    """One picture cannot be used. `reason` is a few words fit for a list: "cut short", "0 bytes"."""

    def __init__(self, reason: str, kind: LeftOutKind = "broken") -> None:
        super().__init__(reason)
        self.reason = reason
        self.kind = kind


class StoreError(PannierError):
    """The store, or the disk under it, has a problem."""


class DamageError(StoreError):
    """Bytes in a store are not what was written there."""

    def __init__(self, message: str, *, file: str | None = None, row: int | None = None, key: str | None = None) -> None:
        super().__init__(message)
        self.file = file
        self.row = row
        self.key = key


class ConflictError(StoreError):
    """Two writers gave one key different bytes at the same moment."""


class LimitError(PannierError):
    """Nothing fits under the memory limit.

    `smallest_limit` (bytes) would do for this batch size; `batch_size` (or None) would do for this limit.
    """

    def __init__(self, message: str, *, smallest_limit: int, batch_size: int | None = None) -> None:
        super().__init__(message)
        self.smallest_limit = smallest_limit
        self.batch_size = batch_size


def _in_one_line(message: str) -> str:
    """A message as one line of bearable length, whatever names and values of strangers stand in it."""
    if not message.isprintable():
        message = "".join(letter if letter.isprintable() else ascii(letter)[1:-1] for letter in message)
    if len(message) > LONGEST_MESSAGE:
        message = f"{message[: LONGEST_MESSAGE - _KEPT_END]} ... {message[-_KEPT_END:]}"
    return message


def did_you_mean(name: str, choices: Iterable[str]) -> str:
    """The end of an error message: the nearest of the choices, or all of them, or nothing where there are none."""
    known = list(choices)
    near = difflib.get_close_matches(name[:_LONGEST_NAME], known, n=1)
    if near:
        return f"; did you mean {near[0]!r}?"
    return f"; there is {', '.join(map(repr, known[:12]))}" if known else ""
