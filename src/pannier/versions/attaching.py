"""Additions: facts and attached files that are added to a snapshot later, each as an entry of its own: who, when."""

from __future__ import annotations

import hashlib
import re
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from pannier.errors import ConflictError, DamageError, NotFoundError, UsageError, did_you_mean
from pannier.files import whole_file
from pannier.results import Result
from pannier.storage.layout import ADDITIONS, FILES, attached_file, entry_file
from pannier.storage.local import disk_errors_translated
from pannier.storage.opening import pieces_of
from pannier.storage.protocol import Storage
from pannier.store.documents import Document, sealed, unsealed
from pannier.store.facts import Fact, FactsByKey, author, now, read_facts
from pannier.store.leases import WRITER, holding
from pannier.store.names import entry_numbers
from pannier.store.state import State

MOST_TRIES = 100
_PIECE_BYTES = 1 << 20
_SHA256 = re.compile("[0-9a-f]{64}")


@dataclass(frozen=True, repr=False)
class Attachment(Result):
    """A file that belongs to a snapshot: the name it has there, its SHA-256, its bytes."""

    name: str
    sha256: str
    byte_count: int
    _storage: Storage = field(repr=False, compare=False)

    def to_document(self) -> Document:
        return {"name": self.name, "sha256": self.sha256, "byte_count": self.byte_count}

    @property
    def file(self) -> str:
        """Where it lies in the store."""
        return attached_file(self.sha256)

    def bytes(self) -> bytes:
        """Its content. Raises DamageError."""
        return b"".join(self._pieces())

    def save(self, path: str | Path) -> None:
        """Writes it to a file, whole or not at all; memory: a megabyte. Raises DamageError."""
        Path(path).parent.mkdir(parents=True, exist_ok=True)
        with whole_file(path) as draft, open(draft, "wb") as file:
            for piece in self._pieces():
                file.write(piece)

    def _pieces(self) -> Iterator[Any]:
        """Its content piece by piece; what is wrong with it is said after the last."""
        hasher = hashlib.sha256()
        try:
            for piece in pieces_of(self._storage, self.file):
                hasher.update(piece)
                yield piece
        except NotFoundError:
            raise self._damaged("it is missing") from None
        if hasher.hexdigest() != self.sha256:
            raise self._damaged("its digest is not its name")

    def _damaged(self, what: str) -> DamageError:
        advice = "bring it back from a copy of the store"
        return DamageError(f"attachment {self.name!r} ({self.file}) is damaged: {what}; {advice}", file=self.file)


@dataclass(frozen=True, repr=False)
class Addition(Result):
    """What somebody added to a snapshot at one time. `removed` are names of attachments that were taken off."""

    number: int
    time: str
    author: str
    facts: FactsByKey
    attachments: Sequence[Attachment]
    removed: Sequence[str] = ()


def read_additions(storage: Storage, snapshot_id: str) -> list[Addition]:
    """All that was added to a snapshot, in order. Raises DamageError."""
    return [read_addition(storage, snapshot_id, number) for number in addition_numbers(storage, snapshot_id)]


def addition_numbers(storage: Storage, snapshot_id: str) -> list[int]:
    return entry_numbers(storage, f"{ADDITIONS}/{snapshot_id}")


def addition_file(snapshot_id: str, number: int) -> str:
    return entry_file(f"{ADDITIONS}/{snapshot_id}", number)


def read_addition(storage: Storage, snapshot_id: str, number: int) -> Addition:
    file = addition_file(snapshot_id, number)
    document = unsealed(storage.read(file), file)
    try:
        if (document["snapshot"], document["number"]) != (snapshot_id, number):
            raise DamageError(f"{file} is damaged: it belongs elsewhere", file=file)
        attached = attachments_of(storage, document["attachments"])
        told = {name: document[name] for name in ("time", "author", "facts")}
        return Addition(number, **told, attachments=attached, removed=document.get("removed", ()))
    except (KeyError, TypeError):
        raise DamageError(f"{file} is damaged: a field is missing", file=file) from None


def attachments_of(storage: Storage, documents: Sequence[Document]) -> list[Attachment]:
    """Attachments as a document tells of them. Raises DamageError for names that lead elsewhere, which no writer gives."""
    for document in documents:
        if not _SHA256.fullmatch(str(document["sha256"])) or _path_within(str(document["name"])) != document["name"]:
            raise DamageError(f"attachment {document['name']!r} is damaged: its name leads elsewhere")
    return [Attachment(document["name"], document["sha256"], document["byte_count"], storage) for document in documents]


def additions_at(state: State) -> list[Addition]:
    """What was added to a snapshot after it was made: facts and attached files, who and when."""
    return read_additions(state.storage, state.id)


def facts_at(state: State) -> FactsByKey:
    """A snapshot's facts by key, what was added later before what was said when it was made."""
    return all_facts(state.document["facts"], additions_at(state))


def attachments_at(state: State) -> list[Attachment]:
    """The files that belong to a snapshot. Raises DamageError."""
    return all_attachments(attachments_of(state.storage, state.document["attachments"]), additions_at(state))


def all_facts(frozen: FactsByKey, added: Sequence[Addition]) -> FactsByKey:
    """A snapshot's facts, what was added later before what was said earlier."""
    facts = dict(frozen)
    for each in added:
        facts |= each.facts
    return facts


def all_attachments(frozen: Sequence[Attachment], added: Sequence[Addition]) -> list[Attachment]:
    """A snapshot's attachments by name, each as it was attached last."""
    by_name = {each.name: each for each in frozen}
    for addition in added:
        for name in addition.removed:
            by_name.pop(name, None)
        by_name |= {attachment.name: attachment for attachment in addition.attachments}
    return [by_name[name] for name in sorted(by_name)]


def attach(
    state: State,
    *,
    facts: Mapping[str, Fact] | str | Sequence[str] | None = None,
    files: Mapping[str, str | Path] | None = None,
    remove: Sequence[str] = (),
) -> Addition:
    """Adds facts and files to a snapshot as one entry. files: paths by the names that they get. remove: names of files.

    Raises UsageError.
    """
    new_facts = read_facts(facts)
    names = [each.name for each in attachments_at(state)]
    for name in remove:
        if name not in names:
            raise UsageError(f"`remove` {name}: there is no such attachment{did_you_mean(name, names)}")
    if not (new_facts or files or remove):
        raise UsageError("say what to add: `facts` key=value, or `files` FILE")
    with holding(state.storage, WRITER):
        return _attach(state.storage, state.id, new_facts, files or {}, remove)


def _attach(
    storage: Storage, snapshot_id: str, said: FactsByKey, files: Mapping[str, str | Path], remove: Sequence[str]
) -> Addition:
    attached = [_attached(storage, checked_attachment_name(name), Path(path)) for name, path in files.items()]
    for _ in range(MOST_TRIES):
        numbers = addition_numbers(storage, snapshot_id)
        entry = Addition(numbers[-1] + 1 if numbers else 1, now(), author(), said, attached, tuple(remove))
        document: Document = {"kind": "addition", "snapshot": snapshot_id, **vars(entry), "removed": list(remove)}
        document["attachments"] = [each.to_document() for each in attached]
        if storage.create(addition_file(snapshot_id, entry.number), sealed(document)):
            return entry
    raise ConflictError(f"snapshot {snapshot_id[:12]} was added by others {MOST_TRIES} times in the meantime: try again")


def checked_attachment_name(name: str) -> str:
    """A relative path with `/` that leads nowhere else. Raises UsageError."""
    path = _path_within(name)
    if path is None:
        raise UsageError(f"`files` {name}: must be a relative path, as results/run-3.npz")
    return path


def _path_within(name: str) -> str | None:
    """The name as a path with `/` below a folder; None where it leads elsewhere."""
    parts = name.replace("\\", "/").split("/")
    leads_elsewhere = any(part in ("", ".", "..") or part != part.strip() or "\0" in part for part in parts)
    return None if leads_elsewhere else "/".join(parts)


def _attached(storage: Storage, name: str, path: Path) -> Attachment:
    """Brings a file into the store, under its SHA-256."""
    if not path.is_file():
        raise NotFoundError(f"there is no file {path} to attach")
    hasher = hashlib.sha256()
    with storage.draft(FILES) as draft, open(path, "rb") as source:
        with disk_errors_translated(str(path)):
            while piece := source.read(_PIECE_BYTES):
                hasher.update(piece)
                draft.sink.write(piece)
            byte_count = source.tell()
        draft.publish(attached_file(hasher.hexdigest()))
    return Attachment(name, hasher.hexdigest(), byte_count, storage)
