"""Names that move: strands and tags are numbered entries made by create-if-absent, a compare-and-swap without locks."""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass

from pannier.errors import DamageError, NotFoundError, StoreError, UsageError
from pannier.storage.layout import entry_file
from pannier.storage.protocol import Storage
from pannier.store.documents import Document, sealed, unsealed

FIRST_STRAND = "main"

_NAME = re.compile(r"[a-z0-9.-]+")
_LIKE_AN_ID = re.compile(r"[0-9a-f]{6,}")
_ENTRY = re.compile(r"([0-9]{8})\.json")


@dataclass(frozen=True)
class Entry:
    """One step of a name: `snapshot` is what it names from then on, None where it was removed.

    `note` says why; `other_name` is what it was called before, or is called now, where it was renamed.
    """

    number: int
    snapshot: str | None
    time: str
    author: str
    note: str = ""
    other_name: str | None = None


@dataclass(frozen=True)
class Head(Entry):
    """The newest entry of a name that is there."""

    snapshot: str


def checked_name(name: str) -> str:
    """A name for a strand or tag: lower case letters, digits, "-" and ".", and not like a snapshot's id."""
    if not _NAME.fullmatch(name) or name.strip(".") == "":
        raise UsageError(f"{name!r} is no name for a strand or tag: use lower case letters, digits, '-' and '.'")
    if _LIKE_AN_ID.fullmatch(name):
        raise UsageError(f"{name!r} would be read as a snapshot's id: use another name")
    return name


class MovingNames:
    """All names of one kind in a store ("strands" or "tags"). Holds nothing; safe between threads and processes."""

    def __init__(self, storage: Storage, kind: str) -> None:
        self._storage, self.kind = storage, kind

    def all_names(self) -> list[str]:
        """Those that are there; a name that was removed is not."""
        return [name for name, _ in self.heads()]

    def listed(self) -> list[str]:
        """The names of all folders of entries, without reading any; also of those that were removed."""
        return [name for name in self._storage.list(self.kind) if _NAME.fullmatch(name)]

    def ever_used(self) -> list[str]:
        """Also those that were removed."""
        return [name for name in self._storage.list(self.kind) if _NAME.fullmatch(name) and self.numbers(name)]

    def heads(self) -> Iterator[tuple[str, Head]]:
        """Those that are there, with their newest entries."""
        for name in self.ever_used():
            head = self.head(name)
            if head:
                yield name, head

    def head(self, name: str) -> Head | None:
        """The newest entry, or None where there is no such name, or it was removed."""
        last = self.last(name)
        return None if last is None or last.snapshot is None else Head(**vars(last))

    def last(self, name: str) -> Entry | None:
        """The newest entry, be it that the name was removed; None where there never was such a name."""
        numbers = self.numbers(name)
        if not numbers:
            return None
        try:
            return self.entry(name, numbers[-1])
        except DamageError as error:
            before = self._newest_readable(name, numbers[:-1])
            if before is None:
                raise
            earlier = f"the entry before it leads to snapshot {before[:12]}, which can be read under that id"
            mended = "verify the store with `repair_from` COPY to bring the file back"
            raise DamageError(f"{error}; {earlier}; {mended}", file=error.file) from error

    def _newest_readable(self, name: str, numbers: list[int]) -> str | None:
        """What the newest of some entries that can be read leads to."""
        for number in reversed(numbers):
            try:
                return self.entry(name, number).snapshot
            except StoreError:
                continue
        return None

    def content(self, name: str, number: int) -> bytes | None:
        """An entry's bytes, as they are; None where there is none."""
        try:
            return self._storage.read(self.file(name, number))
        except NotFoundError:
            return None

    def lacking(self, other: MovingNames, name: str) -> list[int]:
        """The numbers of entries that another store has beyond those that are here; none where the two differ."""
        numbers = self.numbers(name)
        is_same = all(self.content(name, number) == other.content(name, number) for number in numbers)
        return other.numbers(name)[len(numbers) :] if is_same else []

    def take(self, name: str, number: int, content: bytes | None) -> None:
        """Makes an entry out of the bytes that it has in another store. Raises DamageError where those are not an entry."""
        if content is not None:
            read_entry(content, self.kind, name, number, self.file(name, number))
            self._storage.create(self.file(name, number), content)

    def entries(self, name: str) -> list[Entry]:
        return [self.entry(name, number) for number in self.numbers(name)]

    def entry(self, name: str, number: int) -> Entry:
        file = self.file(name, number)
        try:
            content = self._storage.read(file)
        except NotFoundError:
            raise DamageError(f"{file} is missing", file=file) from None
        return read_entry(content, self.kind, name, number, file)

    def append(self, name: str, entry: Entry) -> bool:
        """Makes an entry; False where somebody else has made that number first."""
        document: Document = {"kind": self.kind, "name": checked_name(name)} | {
            field: value for field, value in vars(entry).items() if value or field in ("number", "snapshot")
        }
        return self._storage.create(self.file(name, entry.number), sealed(document))

    def file(self, name: str, number: int) -> str:
        return entry_file(f"{self.kind}/{name}", number)

    def numbers(self, name: str) -> list[int]:
        """The numbers of a name's entries."""
        return entry_numbers(self._storage, f"{self.kind}/{name}")


def read_entry(content: bytes, kind: str, name: str, number: int, file: str) -> Entry:
    """An entry out of a file's bytes. Raises DamageError where they are not that entry of that name."""
    document = unsealed(content, file)
    try:
        number_there, snapshot, time, author = (document[field] for field in ("number", "snapshot", "time", "author"))
        entry = Entry(number_there, snapshot, time, author, document.get("note", ""), document.get("other_name"))
    except KeyError:
        raise DamageError(f"{file} is damaged: a field is missing", file=file) from None
    if document.get("name") != name or document.get("kind") != kind or entry.number != number:
        raise DamageError(f"{file} is damaged: it belongs elsewhere", file=file)
    return entry


def entry_numbers(storage: Storage, folder: str) -> list[int]:
    """The numbers of the entries in a folder, in order."""
    matches = (_ENTRY.fullmatch(file) for file in storage.list(folder))
    return sorted(int(match[1]) for match in matches if match)
