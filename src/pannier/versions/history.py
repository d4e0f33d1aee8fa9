"""History: the snapshots of a strand, newest first; and of one record: when it came, changed or went, and by whom."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from pannier.errors import NotFoundError
from pannier.hashing import text_hash
from pannier.results import Result
from pannier.storage.layout import ADDITIONS
from pannier.store.content import bucket_of
from pannier.store.documents import Document
from pannier.store.facts import FactsByKey
from pannier.store.manifest import Manifest
from pannier.store.manifest_files import COLUMNS, REMOVED, SOURCE_SAID, ManifestFile, digest_of_bucket
from pannier.store.records import HIDDEN
from pannier.store.snapshots import read_document
from pannier.store.state import OpenedStore, State, ancestors, lineage, names_by_snapshot
from pannier.versions.attaching import all_attachments, all_facts, attachments_of, read_additions

RecordRow = dict[str, Any]


@dataclass(frozen=True, repr=False)
class HistoryStep(Result):
    """A snapshot as a history tells of it. `changes` are [kind, label, split, records]; `names` strands and tags there.

    `merged` are snapshots that it took in, beside the one before it.
    """

    id: str
    time: str
    author: str
    note: str
    records: int
    changes: list[list[Any]]
    counts: list[list[Any]]
    names: list[str]
    facts: FactsByKey
    attachments: list[str]
    merged: list[str]

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
        classes: dict[str | None, dict[str, int]] = {}
        for kind, label, _, count in self.changes:
            kinds = classes.setdefault(label, {})
            kinds[kind] = kinds.get(kind, 0) + count
        return classes

    def to_dict(self) -> dict[str, Any]:
        """Plain data for JSON."""
        names = ("id", "time", "author", "note", "records", "names", "facts", "attachments", "merged")
        changes = [dict(zip(("kind", "label", "split", "records"), row, strict=True)) for row in self.changes]
        return {name: getattr(self, name) for name in names} | {"changes": changes}


@dataclass(frozen=True, repr=False)
class RecordStep(Result):
    """What a snapshot did to a record: "came", "went", or what changed: "moved", "picture", "label", "split", side columns'
    names.

    `before` and `after` are its facts by column, None where it is not there.
    """

    id: str
    time: str
    author: str
    note: str
    what: list[str]
    before: RecordRow | None
    after: RecordRow | None

    def to_dict(self) -> dict[str, Any]:
        """Plain data for JSON."""
        return vars(self) | {"before": _shown(self.before), "after": _shown(self.after)}


def _shown(row: RecordRow | None) -> RecordRow | None:
    """A record's facts but for what no reader of records needs; times as text."""
    if row is None:
        return None
    shown = {name: value for name, value in row.items() if name not in HIDDEN}
    return {name: value.isoformat() if hasattr(value, "isoformat") else value for name, value in shown.items()}


def history(store: OpenedStore, name: str = "main") -> list[HistoryStep]:
    """The snapshots that led to one, newest first. Opens no manifest. Raises NotFoundError."""
    names = names_by_snapshot(store)
    with_additions = set(store.storage.list(ADDITIONS))
    return [
        _step(store, snapshot_id, document, names, with_additions)
        for snapshot_id, document in lineage(store.storage, store.resolve(name))
    ]


def _step(
    store: OpenedStore, snapshot_id: str, document: Document, names: Mapping[str, list[str]], with_additions: set[str]
) -> HistoryStep:
    added = read_additions(store.storage, snapshot_id) if snapshot_id in with_additions else []
    frozen = attachments_of(store.storage, document["attachments"])
    told = {name: document[name] for name in ("time", "author", "note", "records", "changes", "counts")}
    files = [attachment.name for attachment in all_attachments(frozen, added)]
    own: dict[str, Any] = {
        "names": names.get(snapshot_id, []),
        "facts": all_facts(document["facts"], added),
        "attachments": files,
        "merged": document["parents"][1:],
    }
    return HistoryStep(id=snapshot_id, **told, **own)


def record_history(store: OpenedStore, key: str, name: str = "main") -> list[RecordStep]:
    """Every snapshot in which a record came, changed or went, newest first; where it moved, that is followed to its old key.

    Raises NotFoundError where it never was.
    """
    finder = _Finder(store, key)
    steps: list[RecordStep] = []
    newer: tuple[str, Document, RecordRow | None] | None = None
    last = b""
    for snapshot_id, document in lineage(store.storage, store.resolve(name)):
        bucket = finder.bucket_digest(document)
        row = finder.row(document) if newer is None or bucket != last else newer[2]
        if newer is not None:
            _tell(steps, newer, row)
        newer, last = (snapshot_id, document, row), bucket
    if newer is not None:
        _tell(steps, newer, None)
    if not steps:
        snapshot = store.state(name)
        raise NotFoundError(f"no record {key!r} was ever in {name}{snapshot.nearest_key(key)}")
    return _with_moves(store, key, steps)


def _with_moves(store: OpenedStore, key: str, steps: list[RecordStep]) -> list[RecordStep]:
    """The same; where the record came with a picture that left another key then, it goes on as the record of that key."""
    for at, step in enumerate(steps):
        parents = read_document(store.storage, step.id)["parents"] if step.what == ["came"] else []
        former = _former_key(store.state_of(parents[0]), store.state_of(step.id), key) if parents else None
        if former is not None and step.after is not None:
            before = _Finder(store, former).row(read_document(store.storage, parents[0]))
            moved = replace(step, what=["moved", *_what_changed(before, step.after)], before=before)
            return [*steps[:at], moved, *record_history(store, former, parents[0])]
    return steps


def _former_key(parent: State, state: State, key: str) -> str | None:
    """The key that a record's picture had before, where that key has it no more."""
    own = state.manifest.pictures(np.array([state.row_of(key)]))
    there = parent.manifest.find_pictures(own)
    for former in parent.manifest.take(there, ["key"]).column(0).to_pylist():
        at = state.manifest.find(former, text_hash(former))
        if at is None or (state.manifest.pictures(np.array([at])) != own).any():
            return str(former)
    return None


def _tell(steps: list[RecordStep], at: tuple[str, Document, RecordRow | None], before: RecordRow | None) -> None:
    snapshot_id, document, after = at
    what = _what_changed(before, after)
    if what:
        steps.append(RecordStep(snapshot_id, document["time"], document["author"], document["note"], what, before, after))


def _what_changed(before: RecordRow | None, after: RecordRow | None) -> list[str]:
    if before is None or after is None:
        return [] if before is after else ["came"] if before is None else ["went"]
    names = {"sha256": "picture", "label": "label", "split": "split"}
    side = [name for name in {**before, **after} if name not in (*COLUMNS, SOURCE_SAID.name, REMOVED.name)]
    changed = [names[name] for name in names if before[name] != after[name]]
    return changed + [name for name in side if before.get(name) != after.get(name)]


class _Finder:
    """Finds one record in many snapshots: a delta is looked into by itself, each base once, and only where the digest of the
    record's bucket says that something in it has changed.
    """

    def __init__(self, store: OpenedStore, key: str) -> None:
        self._storage, self._key, self._hash = store.storage, key, text_hash(key)
        self._in_files: dict[str, RecordRow | None] = {}
        self._digests: dict[str, bytes | None] = {}

    def bucket_digest(self, document: Document) -> bytes:
        """The digest of the record's bucket as a snapshot's manifest gives it."""
        for part in ("delta", "base"):
            if document[part]:
                file = ManifestFile(**document[part])
                if file.name not in self._digests:
                    self._digests[file.name] = digest_of_bucket(self._storage, file, bucket_of(self._hash))
                digests = self._digests[file.name]
                if digests is not None:
                    return digests
        return b""

    def row(self, document: Document) -> RecordRow | None:
        """The record as a snapshot has it; None where it has none."""
        for part in ("delta", "base"):
            if document[part]:
                entry = self._in(ManifestFile(**document[part]))
                if entry is not None:
                    return None if entry.get("removed") else entry
        return None

    def _in(self, file: ManifestFile) -> RecordRow | None:
        if file.name not in self._in_files:
            manifest = Manifest.read(self._storage, file, None)
            row = manifest.find(self._key, self._hash)
            self._in_files[file.name] = None if row is None else _plain(manifest.take([row]).to_pylist()[0])
        return self._in_files[file.name]


def _plain(row: RecordRow) -> RecordRow:
    return {name: value.hex() if isinstance(value, bytes) else value for name, value in row.items()}


def is_ancestor(store: OpenedStore, older: str, newer: str) -> bool:
    """Whether a snapshot is among those that led to another, or is that one; both by id."""
    return any(snapshot_id == older for snapshot_id, _ in ancestors(store.storage, newer))
