"""Objects of a bucket that is no store: what is listed and read where sources lie afar."""

from __future__ import annotations

import os
from collections.abc import Iterator
from contextlib import contextmanager
from datetime import datetime
from pathlib import Path
from typing import Any, NamedTuple
from zlib import crc32

from pannier.storage.remote import REMOTE, open_remote


class Object(NamedTuple):
    """An object: its path in the bucket, how many bytes it has, and what changes when it does (in nanoseconds)."""

    path: str
    byte_count: int
    stamp: int


def is_in_bucket(named: object) -> bool:
    """Whether a source is named by an address in a bucket."""
    return isinstance(named, str) and named.partition("://")[0] in REMOTE and "://" in named


def parted(address: str) -> tuple[str, str]:
    """The bucket's address and the path in it: ("s3://mill", "raw/twill") of s3://mill/raw/twill/."""
    scheme, _, rest = address.partition("://")
    bucket, _, path = rest.partition("/")
    return f"{scheme}://{bucket}", path.strip("/")


class Objects:
    """All of a bucket. Safe between threads; one for each process, see `objects_of`."""

    def __init__(self, address: str) -> None:
        self.address = address
        self._files = open_remote(address)

    def below(self, path: str) -> Iterator[Object]:
        """What lies below a path. Raises NotFoundError, StoreError."""
        yield from map(_object, self._files.everything(path))

    def about(self, path: str) -> Object:
        """One object as it is now. Raises NotFoundError, StoreError."""
        return _object(self._files.about(path))

    def read(self, path: str, most: int | None = None) -> bytes:
        """Its bytes, or the first of them. Raises NotFoundError, StoreError."""
        return self._files.read(path) if most is None else self._files.beginning(path, most)

    @contextmanager
    def here(self, path: str) -> Iterator[Path]:
        """It under its own name in a temporary folder, which goes at the end: who has opened it by then keeps it."""
        with self._files.brought(path) as folder:
            yield Path(folder.root, path)


def objects_of(address: str) -> Objects:
    """A bucket, opened once in each process."""
    here = (os.getpid(), address)
    if here not in _opened:
        _opened[here] = Objects(address)
    return _opened[here]


_opened: dict[tuple[int, str], Objects] = {}


def _object(told: Any) -> Object:
    changed: datetime = told["last_modified"]
    # servers tell whole seconds, so what names its content tells changes within one
    mark = crc32(str(told.get("e_tag")).encode()) % 1_000_000_000
    return Object(told["path"], int(told["size"]), int(changed.timestamp()) * 1_000_000_000 + mark)
