"""Memory as a storage: for looks before packing, for tests, and as the proof that nothing above knows of paths."""

from __future__ import annotations

import threading
import time
from collections.abc import Sequence
from pathlib import Path
from typing import Any

import pyarrow as pa

from pannier.array_types import Array, Numbers
from pannier.errors import NotFoundError, StoreError
from pannier.storage.local import check_name


class MemoryStorage:
    """See `Storage`. Gone with the last that holds it; `address` tells it from others and opens none but named ones."""

    copies = False

    def __init__(self, address: str = "memory://") -> None:
        self.address = address
        self._files: dict[str, tuple[Any, float]] = {}
        self._prefix = ""
        self._lock = threading.Lock()

    def _at(self, name: str) -> str:
        check_name(name)
        return self._prefix + name

    def _entry(self, name: str) -> tuple[Any, float]:
        try:
            return self._files[self._at(name)]
        except KeyError:
            raise NotFoundError(f"{name} is not in the store") from None

    def read(self, name: str, offset: int = 0, length: int | None = None) -> bytes:
        content = self.view(name)
        return bytes(memoryview(content)[offset : None if length is None else offset + length])

    def view(self, name: str) -> Any:
        return self._entry(name)[0]

    def reader(self, open_files: int = 32) -> MemoryReader:
        return MemoryReader(self)

    def exists(self, name: str) -> bool:
        return self._at(name) in self._files

    def size(self, name: str) -> int:
        return int(self.view(name).size)

    def list(self, folder: str) -> Sequence[str]:
        start = self._at(folder) + "/" if folder else self._prefix
        with self._lock:
            return sorted({name[len(start) :].partition("/")[0] for name in self._files if name.startswith(start)})

    def create(self, name: str, content: bytes, *, lasts: bool = True) -> bool:
        return self._put(name, pa.py_buffer(content))

    def _put(self, name: str, content: Any) -> bool:
        at = self._at(name)
        with self._lock:
            is_free = at not in self._files
            if is_free:
                self._files[at] = (content, time.time())
            return is_free

    def draft(self, folder: str, *, lasts: bool = True) -> MemoryDraft:
        return MemoryDraft(self)

    def drafts(self) -> Sequence[str]:
        return []

    def remove(self, name: str) -> None:
        with self._lock:
            if self._files.pop(self._at(name), None) is None:
                raise NotFoundError(f"{name} is not in the store")

    def prune(self, folder: str) -> None:
        """There are no folders."""

    def changed(self, name: str) -> float:
        return self._entry(name)[1]

    def now(self) -> float:
        return time.time()

    def drop_cached(self, name: str) -> float | None:
        return None

    def free_bytes(self) -> int | None:
        return None

    def is_there(self) -> bool:
        return bool(self.list(""))

    def discard(self) -> None:
        """It is there as long as something holds it."""

    def below(self, folder: str) -> MemoryStorage:
        part = MemoryStorage(f"{self.address}/{folder}")
        part._files, part._lock, part._prefix = self._files, self._lock, f"{self._at(folder)}/"
        return part

    def link(self, name: str, path: Path) -> None:
        raise StoreError(f"{self.address} is no directory, so nothing can be linked to it: leave `hard_links` out")

    def is_linked(self, name: str) -> bool:
        return False


class MemoryReader:
    def __init__(self, storage: MemoryStorage) -> None:
        self._storage = storage

    def read_into(self, name: str, offset: int, buffer: memoryview) -> int:
        piece = memoryview(self._storage.view(name)).cast("B")[offset : offset + len(buffer)]
        buffer[: len(piece)] = piece
        return len(piece)

    def read_each_into(self, names: Sequence[str], offsets: Numbers, parts: Array) -> bool:
        return False

    def close(self) -> None:
        """Nothing is open."""


class MemoryDraft:
    def __init__(self, storage: MemoryStorage) -> None:
        self._storage = storage
        self.sink: Any = pa.BufferOutputStream()
        self._content: Any = None

    def content(self) -> Any:
        if self._content is None:
            self._content = self.sink.getvalue()
        return self._content

    def flush_early(self) -> None:
        """There is no disk."""

    def publish(self, name: str) -> bool:
        return self._storage._put(name, self.content())

    def discard(self) -> None:
        self._content = None

    def __enter__(self) -> MemoryDraft:
        return self

    def __exit__(self, *_: object) -> None:
        self.discard()
