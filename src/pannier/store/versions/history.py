"""History: the snapshots of a track, newest first; and of one record: when it came, changed or went, and by whom."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any

from pannier.errors import NotFoundError
from pannier.hashing import text_hash
from pannier.store.content import bucket_of
from pannier.store.documents import Document
from pannier.store.facts import Facts
from pannier.store.manifest import COLUMNS, Manifest, ManifestFile, digest_of_bucket
from pannier.store.snapshot import read_document
from pannier.store.versions.annotating import all_attachments, all_facts, attachments_of, read_annotations

if TYPE_CHECKING:
    from pannier.store.store import Store

Row = dict[str, Any]


@dataclass(frozen=True)
class Step:
    """A snapshot as a history tells of it. `changes` are [kind, label, split, records]; `names` tracks and tags there."""

    id: str
    time: str
    author: str
    note: str
    records: int
    changes: list[list[Any]]
    counts: list[list[Any]]
    names: list[str]
    facts: Facts
    attachments: list[str]

    @property
    def totals(self) -> dict[str, int]:
        """Records that changed, by kind."""
        totals: dict[str, int] = {}
        for kind, _, _, count in self.changes:
            totals[kind] = totals.get(kind, 0) + count
        return totals

    @property
    def by_class(self) -> dict[str | None, dict[str, int]]:
        """The same by class."""
        found: dict[str | None, dict[str, int]] = {}
        for kind, label, _, count in self.changes:
            kinds = found.setdefault(label, {})
            kinds[kind] = kinds.get(kind, 0) + count
        return found


@dataclass(frozen=True)
class RecordStep:
    """What a snapshot did to a record: "came", "went", or what changed: "picture", "label", "split", side columns' names.

    `before` and `after` are its facts by column, None where it is not there.
    """

    id: str
    time: str
    author: str
    note: str
    what: list[str]
    before: Row | None = field(repr=False)
    after: Row | None = field(repr=False)


def history(store: Store, name: str = "main") -> list[Step]:
    """The snapshots that led to one, newest first. Opens no manifest. Raises NotFoundError."""
    names = names_by_snapshot(store)
    annotated = set(store.directory.list("annotations"))
    return [_step(store, snapshot_id, document, names, annotated) for snapshot_id, document in lineage(store, name)]


def lineage(store: Store, name: str) -> Iterator[tuple[str, Document]]:
    """Ids and documents from a snapshot back to the first one."""
    at: str | None = store.resolve(name)
    while at is not None:
        document = read_document(store, at)
        yield at, document
        at = document["parents"][0] if document["parents"] else None


def names_by_snapshot(store: Store) -> dict[str, list[str]]:
    """Tracks and tags by the snapshots that they name now."""
    found: dict[str, list[str]] = {}
    for names in (store.tracks, store.tags):
        for name in names.all_names():
            head = names.head(name)
            if head:
                found.setdefault(head.snapshot, []).append(name)
    return found


def _step(store: Store, snapshot_id: str, document: Document, names: dict[str, list[str]], annotated: set[str]) -> Step:
    added = read_annotations(store.directory, snapshot_id) if snapshot_id in annotated else []
    frozen = attachments_of(store.directory, document["attachments"])
    return Step(
        snapshot_id,
        document["time"],
        document["author"],
        document["note"],
        document["records"],
        document["changes"],
        document["counts"],
        names.get(snapshot_id, []),
        all_facts(document["facts"], added),
        [each.name for each in all_attachments(frozen, added)],
    )


def record_history(store: Store, key: str, name: str = "main") -> list[RecordStep]:
    """Every snapshot in which a record came, changed or went, newest first. Raises NotFoundError where it never did."""
    finder = _Finder(store, key)
    steps: list[RecordStep] = []
    newer: tuple[str, Document, Row | None] | None = None
    last = b""
    for snapshot_id, document in lineage(store, name):
        bucket = finder.bucket_digest(document)
        row = finder.row(document) if newer is None or bucket != last else newer[2]
        if newer is not None:
            _tell(steps, newer, row)
        newer, last = (snapshot_id, document, row), bucket
    if newer is not None:
        _tell(steps, newer, None)
    if not steps:
        snapshot = store.snapshot(name)
        raise NotFoundError(f"no record {key!r} was ever in {name}{snapshot.nearest_key(key)}")
    return steps


def _tell(steps: list[RecordStep], at: tuple[str, Document, Row | None], before: Row | None) -> None:
    snapshot_id, document, after = at
    what = _what_changed(before, after)
    if what:
        steps.append(RecordStep(snapshot_id, document["time"], document["author"], document["note"], what, before, after))


def _what_changed(before: Row | None, after: Row | None) -> list[str]:
    if before is None or after is None:
        return [] if before is after else ["came"] if before is None else ["went"]
    names = {"sha256": "picture", "label": "label", "split": "split"}
    side = [name for name in {**before, **after} if name not in COLUMNS and name != "removed"]
    changed = [names[name] for name in names if before[name] != after[name]]
    return changed + [name for name in side if before.get(name) != after.get(name)]


class _Finder:
    """Finds one record in many snapshots: a delta is looked into by itself, each base once, and only where the digest of the
    record's bucket says that something in it has changed.
    """

    def __init__(self, store: Store, key: str) -> None:
        self._directory, self._key, self._hash = store.directory, key, text_hash(key)
        self._in_files: dict[str, Row | None] = {}
        self._digests: dict[str, bytes | None] = {}

    def bucket_digest(self, document: Document) -> bytes:
        """The digest of the record's bucket as a snapshot's manifest gives it."""
        for part in ("delta", "base"):
            if document[part]:
                file = ManifestFile(**document[part])
                if file.name not in self._digests:
                    self._digests[file.name] = digest_of_bucket(self._directory, file, bucket_of(self._hash))
                found = self._digests[file.name]
                if found is not None:
                    return found
        return b""

    def row(self, document: Document) -> Row | None:
        """The record as a snapshot has it; None where it has none."""
        for part in ("delta", "base"):
            if document[part]:
                found = self._in(ManifestFile(**document[part]))
                if found is not None:
                    return None if found.get("removed") else found
        return None

    def _in(self, file: ManifestFile) -> Row | None:
        if file.name not in self._in_files:
            manifest = Manifest.read(self._directory, file, None)
            row = manifest.find(self._key, self._hash)
            self._in_files[file.name] = None if row is None else _plain(manifest.take([row]).to_pylist()[0])
        return self._in_files[file.name]


def _plain(row: Row) -> Row:
    return {name: value.hex() if isinstance(value, bytes) else value for name, value in row.items()}


def is_ancestor(store: Store, older: str, newer: str) -> bool:
    """Whether a snapshot is among those that led to another, or is that one; both by id."""
    return any(snapshot_id == older for snapshot_id, _ in lineage(store, newer))
