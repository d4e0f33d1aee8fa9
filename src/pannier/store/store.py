"""The store: a directory that holds one dataset."""

from __future__ import annotations

from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from pannier.columns import Digests
from pannier.errors import NotFoundError, StoreError, UsageError, did_you_mean
from pannier.hashing import Hashes
from pannier.store.documents import sealed, unsealed
from pannier.store.files import Directory
from pannier.store.index import PictureIndex
from pannier.store.names import FIRST_TRACK, TAGS, TRACKS, Names
from pannier.store.shards import perceptual_hashes, shard_path
from pannier.store.snapshot import FOLDER, Snapshot, address
from pannier.store.writing.changing import ChangeResult, change
from pannier.store.writing.packing import PackResult, pack

if TYPE_CHECKING:
    from pannier.store.upkeep.copying import Copied
    from pannier.store.upkeep.tidying import Tidied

FORMAT_FILE = "pannier.json"
FORMAT_NAME = "pannier store"
FORMAT_VERSION = 1
SHORTEST_ID = 6


class Store:
    """One dataset on disk. Safe between threads and processes; holds nothing open but mapped files.

    Made by `create` and `open_store`, not by hand.
    """

    def __init__(self, path: str | Path) -> None:
        self.path = Path(path)
        self.directory = Directory(path)
        self.tracks = Names(self.directory, TRACKS)
        self.tags = Names(self.directory, TAGS)

    def __repr__(self) -> str:
        return f"<Store {self.path}: {', '.join(self.tracks.all_names()) or 'empty'}>"

    @cached_property
    def index(self) -> PictureIndex:
        return PictureIndex(self.directory)

    def snapshot(self, name: str = FIRST_TRACK) -> Snapshot:
        """A snapshot by track, tag or the first 6 or more digits of its id. Raises NotFoundError."""
        return Snapshot(self, self.resolve(name))

    def resolve(self, name: str) -> str:
        """The id of the snapshot that a name means: looked up as track, then tag, then id."""
        for names in (self.tracks, self.tags):
            entry = names.head(name)
            if entry:
                return entry.snapshot
        if len(name) >= SHORTEST_ID:
            found = [each for each in self.snapshot_ids() if each.startswith(name)]
            if len(found) == 1:
                return found[0]
            if len(found) > 1:
                raise UsageError(f"{name} is the beginning of {len(found)} snapshots' ids: give more digits")
        known = [*self.tracks.all_names(), *self.tags.all_names()]
        if not known:
            raise NotFoundError(f"{self.path} holds no snapshot yet: bring pictures in with pannier pack SOURCE {self.path}")
        raise NotFoundError(f"no track, tag or snapshot {name!r} in {self.path}{did_you_mean(name, known)}")

    def snapshot_ids(self) -> list[str]:
        names = self.directory.list(FOLDER)
        return [name.removesuffix(".json") for name in names if name.endswith(".json") and name[0] != "."]

    def perceptual_hashes(self, sha256: Digests) -> Hashes:
        """The perceptual hashes of stored pictures by their SHA-256, (n, 32) uint8; 0 for one that is not here."""
        places = self.index.find(sha256)
        hashes = np.zeros(len(sha256), np.uint64)
        for number in np.unique(places.segment[places.segment >= 0]).tolist():
            here = places.segment == number
            hashes[here] = perceptual_hashes(shard_path(self.directory, places.shards[number]))[places.row[here]]
        return hashes

    def history(self, name: str = FIRST_TRACK, *, key: str | None = None) -> list[Any]:
        """The snapshots that led to one, newest first; of one record those that changed it. See `store.versions`."""
        from pannier.store.versions.history import history, record_history

        return history(self, name) if key is None else record_history(self, key, name)

    def start_track(self, track: str, at: str = FIRST_TRACK, *, note: str = "") -> Snapshot:
        """Starts a track at a snapshot without copying; one that is there takes the snapshot over, if that descends from it.

        Raises ConflictError, UsageError.
        """
        from pannier.store.versions.naming import start_track

        return self.snapshot(start_track(self, track, at, note=note))

    def tag(self, tag: str, at: str = FIRST_TRACK, *, note: str = "", move: bool = False) -> Snapshot:
        """Tags a snapshot. Raises UsageError where the tag names another one, unless it is to `move`."""
        from pannier.store.versions.naming import add_tag

        return self.snapshot(add_tag(self, tag, at, note=note, move=move))

    def tidy(self, *, older_than: str | float = "14d", apply: bool = False) -> Tidied:
        """What nothing refers to any more, and how much it would free; with `apply` it goes. See `store.upkeep`."""
        from pannier.store.upkeep.tidying import tidy

        return tidy(self, older_than=older_than, apply=apply)

    def copy(self, name: str, other: Store, *, track: str | None = None) -> Copied:
        """Brings a snapshot with its history into another store, only what that lacks; see `store.upkeep`."""
        from pannier.store.upkeep.copying import copy

        return copy(self, name, other, track=track)

    def pack(self, source: Any, **options: Any) -> PackResult:
        """Brings a source in as a new snapshot; see `pannier.store.writing.packing.pack` for the options."""
        return pack(self, source, **options)

    def change(self, **options: Any) -> ChangeResult:
        """Changes labels, splits, side columns or members as a new snapshot; see `pannier.store.writing.changing.change`."""
        return change(self, **options)


def create(path: str | Path) -> Store:
    """A new store where nothing or an empty folder is. Raises UsageError where something is."""
    folder = Path(path)
    if folder.is_dir() and (folder / FORMAT_FILE).exists():
        raise UsageError(f"{path} is a store already: open it with open_store")
    if folder.exists() and not (folder.is_dir() and not any(folder.iterdir())):
        raise UsageError(f"{path} is there already and is not an empty folder")
    store = Store(folder)
    document = {"format": FORMAT_NAME, "version": FORMAT_VERSION}
    if not store.directory.create(FORMAT_FILE, sealed(document)):
        raise UsageError(f"{path} has just become a store by somebody else")
    return store


def open_store(path: str | Path) -> Store:
    """An existing store. Raises NotFoundError, StoreError for a newer format."""
    store = Store(path)
    if not store.path.exists():
        raise NotFoundError(f"there is no store {path}")
    if not store.path.is_dir() or not store.directory.exists(FORMAT_FILE):
        raise NotFoundError(f"{path} is not a store: it has no {FORMAT_FILE}")
    document = unsealed(store.directory.read(FORMAT_FILE), FORMAT_FILE)
    version = document.get("version")
    if document.get("format") != FORMAT_NAME or not isinstance(version, int):
        raise NotFoundError(f"{path} is not a store: {FORMAT_FILE} is of another kind")
    if version > FORMAT_VERSION:
        raise StoreError(
            f"{path} has format {version}; this Pannier reads up to {FORMAT_VERSION}: install a newer one to open it"
        )
    return store


def open_or_create(path: str | Path) -> Store:
    """The store at a path, made where nothing or an empty folder is."""
    folder = Path(path)
    if not folder.exists() or (folder.is_dir() and not any(folder.iterdir())):
        return create(path)
    return open_store(path)


def open(text: str | Path) -> Snapshot:
    """A snapshot by its address STORE@NAME; bare STORE is STORE@main."""
    path, name = address(str(text))
    return open_store(path).snapshot(name)
