"""Unpacking: pictures out of shards into files of their own, checked, in parallel; or as links to one copy of each."""

from __future__ import annotations

import threading
from collections.abc import Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from types import TracebackType

import numpy as np

from pannier.errors import NotFoundError, PictureError
from pannier.files import whole_file, write_whole
from pannier.images.facts import read_facts
from pannier.machine import usable_cores
from pannier.storage.layout import single_file
from pannier.storage.local import disk_errors_translated
from pannier.storage.opening import reading_threads
from pannier.store.places import PictureReader, Place, ReadError, damage, places_of
from pannier.store.state import State

# pictures that are looked up and written together, and the most that one thread writes in a row
AT_ONCE, A_TASK = 512, 32


class Unpacker:
    """Writes pictures as files; a context manager that ends its threads. Memory: a picture for each of them."""

    def __init__(self, snapshot: State, *, hard_links: bool = False, workers: int | None = None) -> None:
        self._snapshot, self._storage, self._hard_links = snapshot, snapshot.storage, hard_links
        threads = reading_threads(self._storage, workers or usable_cores())
        self._a_task = max(1, min(A_TASK, AT_ONCE // (4 * threads)))
        self._pool = ThreadPoolExecutor(threads, thread_name_prefix="pannier-unpack")
        self._local = threading.local()
        self._readers: list[PictureReader] = []

    def __enter__(self) -> Unpacker:
        return self

    def __exit__(self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None) -> None:
        self._pool.shutdown(cancel_futures=True)
        for reader in self._readers:
            reader.close()

    def write(self, jobs: Sequence[tuple[Path, int]]) -> Iterator[tuple[int, int]]:
        """Writes the pictures of rows to paths, whole or not at all: (files, bytes) as they are done. Raises DamageError."""
        for folder in {path.parent for path, _ in jobs}:
            folder.mkdir(parents=True, exist_ok=True)
        snapshot = self._snapshot
        for at in range(0, len(jobs), AT_ONCE):
            part = jobs[at : at + AT_ONCE]
            places = places_of(snapshot.manifest, snapshot.index, np.array([row for _, row in part], np.int64))
            work = sorted(zip(places, part, strict=True), key=lambda each: each[0][:2])  # as they lie in their shards
            yield from self._pool.map(
                self._write_some, [work[i : i + self._a_task] for i in range(0, len(work), self._a_task)]
            )

    def _write_some(self, work: Sequence[tuple[Place, tuple[Path, int]]]) -> tuple[int, int]:
        total = 0
        for place, (path, row) in work:
            try:
                data = self._reader.read(place)
                read_facts(data)
            except (ReadError, PictureError) as error:  # what is no picture is not written under a name of a stranger's
                raise damage(place, self._snapshot.record(row).key, str(error)) from error
            with disk_errors_translated(str(path)):
                if self._hard_links:
                    self._link(place, data, path)
                else:
                    write_whole(path, data, flushed=False)
            total += len(data)
        return len(work), total

    @property
    def _reader(self) -> PictureReader:
        if not hasattr(self._local, "reader"):
            self._local.reader = PictureReader(self._storage)
            self._readers.append(self._local.reader)
        reader: PictureReader = self._local.reader
        return reader

    def _link(self, place: Place, data: bytes, path: Path) -> None:
        """Links a file to the one copy of its picture, which is made where it is missing or was changed."""
        name = single_file(place.sha256.hex())
        try:
            is_whole = self._storage.read(name) == data
            if not is_whole:
                self._storage.remove(name)
        except NotFoundError:
            is_whole = False
        if not is_whole:
            self._storage.create(name, data)
        with whole_file(path, flushed=False) as draft:
            self._storage.link(name, Path(draft))
