"""Unpacking: pictures out of shards into files of their own, checked, in parallel; or as links to one copy of each."""

from __future__ import annotations

import errno
import hashlib
import os
import threading
from collections.abc import Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from types import TracebackType
from typing import TYPE_CHECKING

import numpy as np

from pannier.errors import StoreError
from pannier.machine import usable_cores
from pannier.store.files import disk_errors_translated
from pannier.store.places import Placed, places_of
from pannier.store.reading import PictureReader, ReadError, damage

if TYPE_CHECKING:
    from pannier.store.snapshot import Snapshot
    from pannier.store.store import Store

# one copy of a picture each, for exports that are links to them; derived and disposable
FOLDER = "loose"
# so many pictures are looked up and written at once
AT_ONCE = 512
_READ_ONLY = 0o444


class Unpacker:
    """Writes pictures as files; a context manager that ends its threads. Memory: a picture for each of them."""

    def __init__(self, store: Store, *, hard_links: bool = False, workers: int | None = None) -> None:
        self._store, self._hard_links = store, hard_links
        self._pool = ThreadPoolExecutor(workers or usable_cores(), thread_name_prefix="pannier-unpack")
        self._local = threading.local()
        self._readers: list[PictureReader] = []
        self._folders: set[Path] = set()

    def __enter__(self) -> Unpacker:
        return self

    def __exit__(self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None) -> None:
        self._pool.shutdown(cancel_futures=True)
        for reader in self._readers:
            reader.close()

    def write(self, snapshot: Snapshot, jobs: Sequence[tuple[Path, int]]) -> Iterator[tuple[int, int]]:
        """Writes the pictures of rows to paths, whole or not at all: (files, bytes) as they are done. Raises DamageError."""
        for path, _ in jobs:
            if path.parent not in self._folders:
                path.parent.mkdir(parents=True, exist_ok=True)
                self._folders.add(path.parent)
        for at in range(0, len(jobs), AT_ONCE):
            part = jobs[at : at + AT_ONCE]
            placed = places_of(snapshot, np.array([row for _, row in part], np.int64))
            work = sorted(zip(placed, part, strict=True), key=lambda each: each[0].place[:2])  # as they lie in their shards
            tasks = [work[i : i + 32] for i in range(0, len(work), 32)]
            yield from self._pool.map(self._write_some, tasks)

    def _write_some(self, work: Sequence[tuple[Placed, tuple[Path, int]]]) -> tuple[int, int]:
        total = 0
        for placed, (path, _) in work:
            try:
                data = self._reader.read(placed.place)
            except ReadError as error:
                raise damage(placed.place, placed.key, str(error)) from error
            with disk_errors_translated(str(path)):
                if self._hard_links:
                    self._link(data, path)
                else:
                    _write_file(path, data)
            total += len(data)
        return len(work), total

    @property
    def _reader(self) -> PictureReader:
        if not hasattr(self._local, "reader"):
            self._local.reader = PictureReader(self._store.directory)
            self._readers.append(self._local.reader)
        reader: PictureReader = self._local.reader
        return reader

    def _link(self, data: bytes, path: Path) -> None:
        """Links a file to the one copy of its picture, which is made where it is missing or was changed."""
        name = hashlib.sha256(data).hexdigest()
        copy = self._store.directory.path(f"{FOLDER}/{name[:2]}/{name}")
        if not copy.exists() or copy.stat().st_size != len(data) or copy.read_bytes() != data:
            copy.parent.mkdir(parents=True, exist_ok=True)
            _write_file(copy, data)
            os.chmod(copy, _READ_ONLY)
        draft = path.with_name(f".{path.name}.{threading.get_ident()}.new")
        try:
            os.link(copy, draft)
            os.replace(draft, path)
        except OSError as error:
            if error.errno == errno.EXDEV:
                where = f"{path.parent} lies on another disk than the store"
                raise StoreError(f"{where}, which hard links cannot reach: leave --hard-links out") from error
            raise
        finally:
            draft.unlink(missing_ok=True)


def _write_file(path: Path, data: bytes) -> None:
    """A file that is whole under its name, or is not there."""
    draft = f"{path.parent}/.{path.name}.{threading.get_ident()}.new"
    try:
        handle = os.open(draft, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o666)
        try:
            rest = memoryview(data)
            while rest:
                rest = rest[os.write(handle, rest) :]
        finally:
            os.close(handle)
        os.replace(draft, path)
    except BaseException:
        Path(draft).unlink(missing_ok=True)
        raise
