"""Stores and snapshots by where they lie: made, opened, or both."""

from __future__ import annotations

from dataclasses import dataclass, field, fields
from pathlib import Path
from typing import Any

from pannier.api.feeding import Feed, FeedingOptions
from pannier.api.objects import PackResult, Snapshot, Store
from pannier.feeding.job import AUGMENTED_SPLIT
from pannier.packing.pack import PackOptions, TakingOptions, pack_at
from pannier.packing.unpacked import unpacked as unpacked_state
from pannier.sources.opening import are_pictures
from pannier.spelling import spelled
from pannier.storage.cache import CacheOptions
from pannier.storage.opening import open_storage, parted_address
from pannier.store import state


def create(path: str | Path, *, one_writer: bool = False) -> Store:
    """A new store where nothing or an empty folder is, or in a bucket. Raises UsageError where something is.

    one_writer: it is never written to by two at once, so that a bucket's server need not honor conditions; StoreError
    tells where it does not.
    """
    return Store.on(state.create_store(path, one_writer=one_writer).storage)


def open_store(path: str | Path, *, cache: str | Path | None = None, cache_size: str | int | None = None) -> Store:
    """An existing store: in a directory, or in a bucket (s3://BUCKET/NAME, gs://, az://).

    cache: a folder where what comes from a bucket is kept near by, shared by all processes that name it; cache_size: how
    much of it, in bytes or as "20GiB", which is the default. Without them the environment says so (`PANNIER_CACHE`,
    `PANNIER_CACHE_SIZE`), and else nothing is kept. It may be deleted at any time.
    Raises NotFoundError, StoreError for a newer format, UsageError.
    """
    return Store.on(state.open_store(path, CacheOptions.read(cache, cache_size)).storage)


def open_or_create(path: str | Path) -> Store:
    """The store at a path, made where nothing or an empty folder is."""
    storage = open_storage(path)
    return open_store(path) if storage.is_there() and not state.is_empty(storage) else create(path)


def open_snapshot(address: str | Path, *, cache: str | Path | None = None, cache_size: str | int | None = None) -> Snapshot:
    """A snapshot by its address STORE@NAME; bare STORE is STORE@main. `cache` and `cache_size`: see `open_store`."""
    path, name = parted_address(str(address))
    return open_store(path, cache=cache, cache_size=cache_size).snapshot(name)


def bring_in(source: Any, path: str | Path, options: PackOptions) -> PackResult:
    """`pack` into the store at a path, made where nothing or an empty folder is; a failed first pack leaves none."""
    opened, done = pack_at(path, source, options)
    return PackResult.of(done, Store(opened.storage, opened.index))


@dataclass(frozen=True, kw_only=True)
class _Unpacked(TakingOptions):
    source: Any = field(kw_only=False)


@spelled(_Unpacked)
def unpacked(said: _Unpacked) -> Snapshot:
    """A source as a snapshot without packing it: its pictures stay where they are, and are read from there.

    source and options are those of `Store.pack`; every picture is read and checked once, as there, and what it feeds are
    the batches that it feeds when it is packed. What is known of it lies in memory, some 200 bytes a record, and no process
    of its own can feed it. A picture that changes later is refused when it is read.
    Raises SourceError, UsageError, NotFoundError, LimitError.
    """
    opened, state = unpacked_state(said.source, said)
    return Snapshot.of(state, Store(opened.storage, opened.index))


@dataclass(frozen=True, kw_only=True)
class _FeedingSource(FeedingOptions):
    source: Any = field(kw_only=False)
    split: str | None = field(default=None, kw_only=False)
    treatment: Any = field(default=None, kw_only=False)


@spelled(_FeedingSource)
def feed(said: _FeedingSource) -> Feed:
    """Batches of a folder, archive, table, list of pictures or whatever else can be packed, without packing it.

    split: by default "train" where the source has it, else all of it. The other options are those of `Snapshot.feed`.
    `pannier.unpacked` takes what there is to say of labels, splits and the like, and feeds several times.
    Raises SourceError, UsageError, NotFoundError, LimitError.
    """
    snapshot = unpacked(said.source, unlabeled="keep" if are_pictures(said.source) else "leave")
    split = said.split if said.split is not None or AUGMENTED_SPLIT not in snapshot.splits else AUGMENTED_SPLIT
    how = {each.name: getattr(said, each.name) for each in fields(FeedingOptions)}
    return snapshot.feed(split, said.treatment, **how)
