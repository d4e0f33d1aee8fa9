"""Stores and snapshots by where they lie: made, opened, or both."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from pannier.api.objects import PackResult, Snapshot, Store
from pannier.packing.pack import PackOptions, pack_at
from pannier.storage.opening import open_storage, parted_address
from pannier.store import state


def create(path: str | Path) -> Store:
    """A new store where nothing or an empty folder is. Raises UsageError where something is."""
    return Store.on(state.create_store(path).storage)


def open_store(path: str | Path) -> Store:
    """An existing store. Raises NotFoundError, StoreError for a newer format."""
    return Store.on(state.open_store(path).storage)


def open_or_create(path: str | Path) -> Store:
    """The store at a path, made where nothing or an empty folder is."""
    storage = open_storage(path)
    return open_store(path) if storage.is_there() and not state.is_empty(storage) else create(path)


def open_snapshot(address: str | Path) -> Snapshot:
    """A snapshot by its address STORE@NAME; bare STORE is STORE@main."""
    path, name = parted_address(str(address))
    return open_store(path).snapshot(name)


def bring_in(source: Any, path: str | Path, options: PackOptions) -> PackResult:
    """`pack` into the store at a path, made where nothing or an empty folder is; a failed first pack leaves none."""
    opened, done = pack_at(path, source, options)
    return PackResult.of(done, Store(opened.storage, opened.index))
