"""Addresses: of storages, and of snapshots in them as STORE@NAME."""

from __future__ import annotations

import os
import re
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import AbstractContextManager, nullcontext
from pathlib import Path
from typing import TypeVar

from pannier.errors import UsageError
from pannier.storage.cache import CacheOptions
from pannier.storage.local import LocalStorage
from pannier.storage.memory import MemoryStorage
from pannier.storage.protocol import Far, Storage
from pannier.storage.remote import REMOTE, RemoteStorage, open_remote
from pannier.storage.web import WEB, open_web

_MEMORY = "memory://"
_PIECE_BYTES = 1 << 20

A = TypeVar("A")
T = TypeVar("T")

# the named storages of this process
_in_memory: dict[str, MemoryStorage] = {}


def open_storage(address: str | Path, cache: CacheOptions | None = None) -> Storage:
    """The storage at an address: a directory's path, a bucket's, a web server's, or memory://NAME.

    Raises UsageError for another scheme.

    cache: where what comes from a bucket is kept near by.
    """
    text = str(address)
    if text.startswith(_MEMORY):
        return _in_memory.setdefault(text, MemoryStorage(text))
    scheme = re.match(r"[A-Za-z][A-Za-z0-9+.-]*(?=://)", text)
    if scheme and scheme[0] in REMOTE:
        return open_remote(text, cache or CacheOptions.read(None))
    if scheme and scheme[0] in WEB:
        return open_web(text, cache or CacheOptions.read(None))
    if scheme:
        known = ", ".join(f"{each}://" for each in REMOTE)
        what = f"in a bucket ({known}), on a web server (https://), or in memory://NAME"
        raise UsageError(f"{text}: a store lies in a directory, {what}")
    return LocalStorage(address)


def cache_options(storage: Storage) -> CacheOptions | None:
    """Where what comes from a storage is kept near by."""
    return storage.cache if isinstance(storage, RemoteStorage) else None


def nearby(storage: Storage, name: str) -> AbstractContextManager[Storage]:
    """Where a file is read several times over: the storage itself, or from afar a copy of that file on this disk."""
    return storage.brought(name) if isinstance(storage, Far) else nullcontext(storage)


def side_by_side(storage: Storage, question: Callable[[A], T], about: Iterable[A]) -> Iterator[T]:
    """The answers of a storage, in order: many at once from afar, one after another from near by."""
    if not isinstance(storage, Far):
        yield from map(question, about)
        return
    with ThreadPoolExecutor(storage.in_flight, thread_name_prefix="pannier-ask") as pool:
        yield from pool.map(question, about)


def reading_threads(storage: Storage, workers: int) -> int:
    """How many threads read from a storage side by side: those that compute, or more, of which most wait for answers."""
    return max(workers, storage.in_flight) if isinstance(storage, Far) else workers


def is_remote(address: str) -> bool:
    """Whether an address is no path: that of a bucket, or of a storage in memory."""
    scheme, mark, _ = address.partition("://")
    return bool(mark) and scheme in ("memory", *REMOTE, *WEB)


def parted_address(text: str) -> tuple[str, str]:
    """STORE@NAME parted; NAME is "main" where none is given. An "@" that belongs to an existing path is no separator."""
    store, at, name = text.rpartition("@")
    if not at or not store or os.sep in name or Path(text).is_dir():
        return text, "main"
    return store, name


def pieces_of(storage: Storage, name: str) -> Iterator[bytes]:
    """A file's content, a megabyte at a time. Raises NotFoundError, StoreError."""
    size, at = storage.size(name), 0
    while at < size:
        piece = storage.read(name, at, _PIECE_BYTES)
        yield piece
        at += len(piece) or size
