"""The state: a snapshot as every floor above passes it around, frozen; and the opened store that it is from."""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Iterator, Mapping
from concurrent.futures import Executor
from dataclasses import dataclass
from functools import cached_property
from pathlib import Path
from typing import Any, Self

import numpy as np

from pannier.array_types import Flags
from pannier.columns import Digests, Rows
from pannier.errors import DamageError, NotFoundError, StoreError, UsageError, did_you_mean
from pannier.hashing import text_hash
from pannier.images.near import Fetch
from pannier.storage.cache import CacheOptions
from pannier.storage.layout import FORMAT_FILE, MANIFESTS, SNAPSHOTS, STRANDS, TAGS
from pannier.storage.opening import open_storage
from pannier.storage.protocol import Far, Storage
from pannier.store.documents import sealed, unsealed
from pannier.store.index import PictureIndex
from pannier.store.manifest import Manifest
from pannier.store.miniatures import KeptMiniatures
from pannier.store.names import FIRST_STRAND, MovingNames
from pannier.store.records import Record
from pannier.store.snapshots import SHOWN_DIGITS, DocumentReader, Told, read_document, snapshot_ids

FORMAT_NAME = "pannier store"
FORMAT_VERSION = 1
SHORTEST_ID = 6
SEARCHED_RECORDS = 5_000


@dataclass(frozen=True, eq=False)
class State(Told):
    """One snapshot: its id and document, its manifest, and where its pictures are found. Safe between threads."""

    manifest: Manifest
    storage: Storage
    index: PictureIndex

    def __repr__(self) -> str:
        return f"<State {self.id[:SHOWN_DIGITS]}: {len(self)} records>"

    def __len__(self) -> int:
        return len(self.manifest)

    @property
    def title(self) -> str:
        """What it is called in figures: the dataset's name, or the last part of the store's address."""
        return self.name or self.storage.address.rstrip("/").rpartition("/")[2]

    def record(self, row: int) -> Record:
        """The record in a row of the manifest."""
        return Record.of(self.manifest.alone(row), self.storage, self.index)

    def row_of(self, key: str) -> int:
        """The row of the record with that key. Raises NotFoundError."""
        row = self.manifest.find(key, text_hash(key))
        if row is None:
            raise NotFoundError(f"no record {key!r} in this snapshot{self.nearest_key(key)}")
        return row

    @cached_property
    def in_key_order(self) -> Rows:
        """Row numbers in order of the keys' UTF-8 bytes."""
        return self.manifest.keys_in_order()

    def rows_of(self, split: str | None) -> Rows:
        """The manifest's rows of a split, of several ("fold-1,fold-2"), or of all records for None and "all".

        Raises NotFoundError.
        """
        if split is None:
            return np.arange(len(self), dtype=np.int64)
        return np.flatnonzero(flags_of_split(self, split))

    def nearest_key(self, key: str) -> str:
        """The end of an error message: the key that is nearest to one that no record has; nothing for large snapshots."""
        if len(self) > SEARCHED_RECORDS:
            return ""
        return did_you_mean(key, self.manifest.table().column("key").to_pylist())


# in place of a split: all records, whatever their splits
ALL = "all"


def flags_of_split(state: State, split: str) -> Flags:
    """By row of the manifest whether it is of a split, or of one of several; "all": every record. Raises NotFoundError."""
    if split == ALL and ALL not in state.splits:
        return np.ones(len(state), bool)
    wanted = [name.strip() for name in split.split(",")]
    for name in wanted:
        if name not in state.splits:
            hint = did_you_mean(name, state.splits) or f"; no record has a split: pack with shares, or take {ALL!r}"
            raise NotFoundError(f"no split {name!r} in this snapshot{hint}")
    return state.manifest.is_one_of("split", wanted)


def miniatures_of(state: State, executor: Executor | None = None) -> Callable[[Digests], Fetch]:
    """What gives, for SHA-256 of a snapshot's pictures, (n, 32) uint8, their miniatures by number."""
    return KeptMiniatures(state.storage, state.index, executor=executor).fetch


@dataclass(frozen=True, eq=False)
class OpenedStore:
    """A store's storage and the look-up of its pictures, which all states of it share. Safe between threads."""

    storage: Storage
    index: PictureIndex

    @classmethod
    def on(cls, storage: Storage) -> Self:
        return cls(storage, PictureIndex(storage))

    @property
    def strands(self) -> MovingNames:
        return MovingNames(self.storage, STRANDS)

    @property
    def tags(self) -> MovingNames:
        return MovingNames(self.storage, TAGS)

    def state(self, name: str = FIRST_STRAND) -> State:
        """A snapshot by strand, tag or the first 6 or more digits of its id. Raises NotFoundError."""
        return self.state_of(self.resolve(name))

    def state_of(self, snapshot_id: str, manifest: Manifest | None = None, *, by_digest: bool = False) -> State:
        """A snapshot by its whole id; `manifest` where that is open already; see `Manifest`. Raises DamageError."""
        told = Told(snapshot_id, read_document(self.storage, snapshot_id))
        if manifest is None:
            manifest = Manifest.read(self.storage, told.base_file, told.delta_file, by_digest=by_digest)
        return State(told.id, told.document, manifest, self.storage, self.index)

    def snapshot_ids(self) -> list[str]:
        return snapshot_ids(self.storage)

    def resolve(self, name: str) -> str:
        """The id of the snapshot that a name means: looked up as strand, then tag, then id."""
        for names in (self.strands, self.tags):
            entry = names.head(name)
            if entry:
                return entry.snapshot
        if len(name) >= SHORTEST_ID:
            matching = [snapshot_id for snapshot_id in self.snapshot_ids() if snapshot_id.startswith(name)]
            if len(matching) == 1:
                return matching[0]
            if len(matching) > 1:
                raise UsageError(f"{name} is the beginning of {len(matching)} snapshots' ids: give more digits")
        known = [*self.strands.listed(), *self.tags.listed()]
        address = self.storage.address
        if not known:
            raise NotFoundError(f"{address} holds no snapshot yet: bring pictures in with pannier pack SOURCE {address}")
        raise NotFoundError(f"no strand, tag or snapshot {name!r} in {address}{did_you_mean(name, known)}")


def is_store(storage: Storage) -> bool:
    return storage.exists(FORMAT_FILE)


def is_empty(storage: Storage) -> bool:
    try:
        return not storage.list("") and not storage.drafts()
    except StoreError:  # a file where a folder is wanted
        return False


def create_store(address: str | Path, *, one_writer: bool = False) -> OpenedStore:
    """A new store where nothing is. Raises UsageError, and StoreError where only one writer at a time may use that storage
    and nobody said so (`one_writer`)."""
    storage = open_storage(address)
    if is_store(storage):
        raise UsageError(f"{address} is a store already: open it with open_store")
    if not is_empty(storage):
        raise UsageError(f"{address} is there already and is not an empty folder")
    if isinstance(storage, Far) and not one_writer:
        storage.check_conditions()
    return create_on(storage)


def create_on(storage: Storage) -> OpenedStore:
    """The same on a storage that holds nothing."""
    if not write_format(storage):
        raise UsageError(f"{storage.address} has just become a store by somebody else")
    return OpenedStore.on(storage)


def write_format(storage: Storage) -> bool:
    """Writes the file by which a store is known, where there is none: it says the same in every store of this format."""
    return storage.create(FORMAT_FILE, sealed({"format": FORMAT_NAME, "version": FORMAT_VERSION}))


def check_format(storage: Storage) -> None:
    """Raises NotFoundError where that file is missing or of another kind, DamageError, StoreError for a newer format."""
    address = storage.address
    if not is_store(storage):
        raise NotFoundError(f"{address} is not a store: it has no {FORMAT_FILE}{_may_be_mended(storage)}")
    document = unsealed(storage.read(FORMAT_FILE), FORMAT_FILE)
    version = document.get("version")
    if document.get("format") != FORMAT_NAME or not isinstance(version, int):
        raise NotFoundError(f"{address} is not a store: {FORMAT_FILE} is of another kind")
    if version > FORMAT_VERSION:
        raise StoreError(
            f"{address} has format {version}; this Pannier reads up to {FORMAT_VERSION}: install a newer one to open it"
        )


def has_snapshots(storage: Storage) -> bool:
    """Whether it holds what a store holds, even where it is not known as one."""
    return bool(storage.list(SNAPSHOTS)) and bool(storage.list(MANIFESTS))


def _may_be_mended(storage: Storage) -> str:
    return "; all else of one is there: pannier verify with `repair` writes it again" if has_snapshots(storage) else ""


def open_store(address: str | Path, cache: CacheOptions | None = None) -> OpenedStore:
    """An existing store; see `open_storage`. Raises NotFoundError, StoreError for a newer format."""
    storage = open_storage(address, cache)
    if not is_store(storage) and not storage.is_there():
        raise NotFoundError(f"there is no store {address}")
    check_format(storage)
    return OpenedStore.on(storage)


def names_by_snapshot(store: OpenedStore) -> Mapping[str, list[str]]:
    """Strands and tags by the snapshots that they name now; without those whose newest entry is damaged."""
    names_of: dict[str, list[str]] = {}
    for names in (store.strands, store.tags):
        for name in names.ever_used():
            with contextlib.suppress(DamageError):
                head = names.head(name)
                if head is not None:
                    names_of.setdefault(head.snapshot, []).append(name)
    return names_of


def ancestors(storage: Storage, snapshot_id: str) -> Iterator[tuple[str, dict[str, Any]]]:
    """Ids and documents of a snapshot and of all that it descends from, by every parent, each once."""
    waiting, seen, documents = [snapshot_id], {snapshot_id}, DocumentReader(storage)
    while waiting:
        at = waiting.pop(0)
        document = documents.read(at)
        yield at, document
        new = [parent for parent in document["parents"] if parent not in seen]
        seen.update(new)
        waiting += new


def lineage(storage: Storage, snapshot_id: str) -> Iterator[tuple[str, dict[str, Any]]]:
    """Ids and documents from a snapshot back to the first one, by the first parent: the strand's own steps."""
    at: str | None = snapshot_id
    documents = DocumentReader(storage)
    while at is not None:
        document = documents.read(at)
        yield at, document
        at = document["parents"][0] if document["parents"] else None
