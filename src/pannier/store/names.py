"""Names that move: tracks and tags are numbered entries made by create-if-absent, a compare-and-swap without locks."""

from __future__ import annotations

import re
from dataclasses import dataclass

from pannier.errors import DamageError, NotFoundError, UsageError
from pannier.store.documents import Document, sealed, unsealed
from pannier.store.files import Directory

TRACKS, TAGS = "tracks", "tags"
FIRST_TRACK = "main"

_NAME = re.compile(r"[a-z0-9.-]+")
_LIKE_AN_ID = re.compile(r"[0-9a-f]{6,}")
_ENTRY = re.compile(r"([0-9]{8})\.json")


@dataclass(frozen=True)
class Entry:
    """One step of a name: `snapshot` is what it names from then on."""

    number: int
    snapshot: str
    time: str
    author: str


def checked_name(name: str) -> str:
    """A name for a track or tag: lower case letters, digits, "-" and ".", and not like a snapshot's id."""
    if not _NAME.fullmatch(name) or name.strip(".") == "":
        raise UsageError(f"{name!r} is no name for a track or tag: use lower case letters, digits, '-' and '.'")
    if _LIKE_AN_ID.fullmatch(name):
        raise UsageError(f"{name!r} would be read as a snapshot's id: use another name")
    return name


class Names:
    """All names of one kind in a store ("tracks" or "tags"). Holds nothing; safe between threads and processes."""

    def __init__(self, directory: Directory, kind: str) -> None:
        self._directory, self.kind = directory, kind

    def all_names(self) -> list[str]:
        return [name for name in self._directory.list(self.kind) if _NAME.fullmatch(name) and self._numbers(name)]

    def head(self, name: str) -> Entry | None:
        """The newest entry, or None where there is no such name."""
        numbers = self._numbers(name)
        return self.entry(name, numbers[-1]) if numbers else None

    def entry(self, name: str, number: int) -> Entry:
        file = self.file(name, number)
        try:
            document = unsealed(self._directory.read(file), file)
            entry = Entry(document["number"], document["snapshot"], document["time"], document["author"])
        except KeyError:
            raise DamageError(f"{file} is damaged: a field is missing", file=file) from None
        except NotFoundError:
            raise DamageError(f"{file} is missing", file=file) from None
        if document.get("name") != name or document.get("kind") != self.kind or entry.number != number:
            raise DamageError(f"{file} is damaged: it belongs elsewhere", file=file)
        return entry

    def append(self, name: str, number: int, snapshot: str, time: str, author: str) -> bool:
        """Makes entry `number`; False where somebody else has made it first."""
        document: Document = {
            "kind": self.kind,
            "name": checked_name(name),
            "number": number,
            "snapshot": snapshot,
            "time": time,
            "author": author,
        }
        return self._directory.create(self.file(name, number), sealed(document))

    def file(self, name: str, number: int) -> str:
        return f"{self.kind}/{name}/{number:08}.json"

    def numbers(self, name: str) -> list[int]:
        return self._numbers(name)

    def _numbers(self, name: str) -> list[int]:
        found = (_ENTRY.fullmatch(file) for file in self._directory.list(f"{self.kind}/{name}"))
        return sorted(int(match[1]) for match in found if match)
