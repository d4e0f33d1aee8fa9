"""Annotations: facts and attached files that are added to a snapshot later, each as an entry of its own: who, when."""

from __future__ import annotations

import hashlib
import os
import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from pannier.errors import ConflictError, DamageError, NotFoundError, UsageError, did_you_mean
from pannier.store.documents import Document, sealed, unsealed
from pannier.store.facts import Fact, Facts, author, now, read_facts
from pannier.store.files import Directory, disk_errors_translated
from pannier.store.leases import WRITER, holding
from pannier.store.names import entry_numbers

FOLDER = "annotations"
FILES = "files"
MOST_TRIES = 100
_CHUNK = 1 << 20
_SHA256 = re.compile("[0-9a-f]{64}")


@dataclass(frozen=True)
class Attachment:
    """A file that belongs to a snapshot: the name it has there, its SHA-256, its bytes."""

    name: str
    sha256: str
    byte_count: int
    _directory: Directory = field(repr=False, compare=False)

    @property
    def file(self) -> str:
        """Where it lies in the store."""
        return f"{FILES}/{self.sha256}"

    def bytes(self) -> bytes:
        """Its content. Raises DamageError."""
        content = self._read()
        if hashlib.sha256(content).hexdigest() != self.sha256:
            raise self._damaged("its digest is not its name")
        return content

    def save(self, path: str | Path) -> None:
        """Writes it to a file, whole or not at all; memory: a megabyte. Raises DamageError."""
        target = Path(path)
        target.parent.mkdir(parents=True, exist_ok=True)
        draft = target.with_name(f".{target.name}.new")
        try:
            with open(self._directory.path(self.file), "rb") as source, open(draft, "wb") as file:
                sha256 = copied(source, file)
            if sha256 != self.sha256:
                raise self._damaged("its digest is not its name")
            os.replace(draft, target)
        except FileNotFoundError:
            raise self._damaged("it is missing") from None
        finally:
            draft.unlink(missing_ok=True)

    def _read(self) -> Any:
        try:
            return self._directory.read(self.file)
        except NotFoundError:
            raise self._damaged("it is missing") from None

    def _damaged(self, what: str) -> DamageError:
        advice = "bring it back from a copy of the store"
        return DamageError(f"attachment {self.name!r} ({self.file}) is damaged: {what}; {advice}", file=self.file)


@dataclass(frozen=True)
class Annotation:
    """What somebody added to a snapshot at one time. `detached` are names of attachments that were taken off."""

    number: int
    time: str
    author: str
    facts: Facts
    attachments: Sequence[Attachment]
    detached: Sequence[str] = ()


def read_annotations(directory: Directory, snapshot_id: str) -> list[Annotation]:
    """All that was added to a snapshot, in order. Raises DamageError."""
    return [read_annotation(directory, snapshot_id, number) for number in annotation_numbers(directory, snapshot_id)]


def annotation_numbers(directory: Directory, snapshot_id: str) -> list[int]:
    return entry_numbers(directory, f"{FOLDER}/{snapshot_id}")


def annotation_file(snapshot_id: str, number: int) -> str:
    return f"{FOLDER}/{snapshot_id}/{number:08}.json"


def read_annotation(directory: Directory, snapshot_id: str, number: int) -> Annotation:
    file = annotation_file(snapshot_id, number)
    document = unsealed(directory.read(file), file)
    try:
        if (document["snapshot"], document["number"]) != (snapshot_id, number):
            raise DamageError(f"{file} is damaged: it belongs elsewhere", file=file)
        return Annotation(
            number,
            document["time"],
            document["author"],
            document["facts"],
            attachments_of(directory, document["attachments"]),
            document.get("detached", ()),
        )
    except (KeyError, TypeError):
        raise DamageError(f"{file} is damaged: a field is missing", file=file) from None


def attachments_of(directory: Directory, documents: Sequence[Document]) -> list[Attachment]:
    """Attachments as a document tells of them. Raises DamageError for names that lead elsewhere, which no writer gives."""
    for each in documents:
        if not _SHA256.fullmatch(str(each["sha256"])) or _path_within(str(each["name"])) != each["name"]:
            raise DamageError(f"attachment {each['name']!r} is damaged: its name leads elsewhere; bring back a whole store")
    return [Attachment(each["name"], each["sha256"], each["byte_count"], directory) for each in documents]


def all_facts(frozen: Facts, added: Sequence[Annotation]) -> Facts:
    """A snapshot's facts, what was added later before what was said earlier."""
    facts = dict(frozen)
    for each in added:
        facts |= each.facts
    return facts


def all_attachments(frozen: Sequence[Attachment], added: Sequence[Annotation]) -> list[Attachment]:
    """A snapshot's attachments by name, each as it was attached last."""
    found = {each.name: each for each in frozen}
    for annotation in added:
        for name in annotation.detached:
            found.pop(name, None)
        found |= {each.name: each for each in annotation.attachments}
    return [found[name] for name in sorted(found)]


def annotate(
    directory: Directory,
    snapshot_id: str,
    there: Sequence[Attachment],
    *,
    facts: Mapping[str, Fact] | str | Sequence[str] | None = None,
    attach: Mapping[str, str | Path] | None = None,
    detach: Sequence[str] = (),
) -> Annotation:
    """Adds facts and files to a snapshot as one entry. attach: paths by the names that the files get. Raises UsageError."""
    said = read_facts(facts)
    names = [each.name for each in there]
    for name in detach:
        if name not in names:
            raise UsageError(f"--detach {name}: there is no such attachment{did_you_mean(name, names)}")
    if not (said or attach or detach):
        raise UsageError("say what to add: --fact key=value, or --attach FILE")
    with holding(directory, WRITER):
        return _annotate(directory, snapshot_id, said, attach or {}, detach)


def _annotate(
    directory: Directory, snapshot_id: str, said: Facts, attach: Mapping[str, str | Path], detach: Sequence[str]
) -> Annotation:
    attached = [_attached(directory, checked_attachment_name(name), Path(path)) for name, path in attach.items()]
    for _ in range(MOST_TRIES):
        numbers = annotation_numbers(directory, snapshot_id)
        entry = Annotation(numbers[-1] + 1 if numbers else 1, now(), author(), said, attached, tuple(detach))
        document: Document = {
            "kind": "annotation",
            "snapshot": snapshot_id,
            "number": entry.number,
            "time": entry.time,
            "author": entry.author,
            "facts": said,
            "attachments": [{"name": each.name, "sha256": each.sha256, "byte_count": each.byte_count} for each in attached],
            "detached": list(detach),
        }
        if directory.create(annotation_file(snapshot_id, entry.number), sealed(document)):
            return entry
    raise ConflictError(f"snapshot {snapshot_id[:12]} was annotated by others {MOST_TRIES} times in the meantime: try again")


def checked_attachment_name(name: str) -> str:
    """A relative path with `/` that leads nowhere else. Raises UsageError."""
    path = _path_within(name)
    if path is None:
        raise UsageError(f"--as {name}: must be a relative path, as results/run-3.npz")
    return path


def _path_within(name: str) -> str | None:
    """The name as a path with `/` below a folder; None where it leads elsewhere."""
    parts = name.replace("\\", "/").split("/")
    leads_elsewhere = any(part in ("", ".", "..") or part != part.strip() or "\0" in part for part in parts)
    return None if leads_elsewhere else "/".join(parts)


def _attached(directory: Directory, name: str, path: Path) -> Attachment:
    """Brings a file into the store, under its SHA-256."""
    if not path.is_file():
        raise NotFoundError(f"there is no file {path} to attach")
    with directory.draft(FILES) as draft, open(path, "rb") as source:
        with disk_errors_translated(str(path)):
            sha256 = copied(source, draft.file)
            byte_count = draft.file.tell()
        draft.publish(f"{FILES}/{sha256}")
    return Attachment(name, sha256, byte_count, directory)


def copied(source: Any, target: Any) -> str:
    """Copies a file, and gives the SHA-256 of what went through."""
    hasher = hashlib.sha256()
    while chunk := source.read(_CHUNK):
        hasher.update(chunk)
        target.write(chunk)
    return hasher.hexdigest()
