"""Miniatures of a store's pictures, by their SHA-256: derived and disposable; near doubles are found without decoding.

What is not kept is made from the stored picture, and kept from then on where the storage can be written.
"""

from __future__ import annotations

import contextlib
import hashlib
from collections.abc import Iterator
from concurrent.futures import Executor, ThreadPoolExecutor
from typing import Any

import numpy as np
import pyarrow as pa

from pannier.columns import Rows, digests_of, ipc_bytes
from pannier.errors import DamageError, NotFoundError, PictureError, StoreError
from pannier.executors import done_by, for_workers, runs_of
from pannier.images.decode import decode, upright
from pannier.images.facts import read_facts
from pannier.images.miniature import BYTES, SIDE, Miniatures, miniature
from pannier.images.near import Fetch
from pannier.machine import usable_cores
from pannier.storage.cache import CacheOptions
from pannier.storage.layout import ARROW, MINIATURES, shard_file
from pannier.storage.opening import cache_options, open_storage, reading_threads
from pannier.storage.protocol import Far, Storage
from pannier.store.arrow_files import read_batches
from pannier.store.documents import digest
from pannier.store.index import Bytes32, PictureIndex, Places

NAME_DIGITS = 32
# so many are written into one file
MOST = 16_384
_MOST_ELSEWHERE = 2_000
SCHEMA = pa.schema(
    [pa.field("sha256", pa.binary(32), nullable=False), pa.field("pixels", pa.binary(BYTES), nullable=False)],
    metadata={"pannier": "miniatures 1"},
)


class KeptMiniatures:
    """A store's miniatures. Not for several threads at once; kept ones are mapped, not held. `keeps`: new ones are kept."""

    def __init__(
        self, storage: Storage, index: PictureIndex, *, keeps: bool = True, executor: Executor | None = None
    ) -> None:
        """executor: whose workers make what is not kept, in place of threads."""
        self._storage, self._index, self._keeps, self._executor = storage, index, keeps, executor
        self._new: dict[bytes, bytes] = {}
        self._flushed = 0

    def add(self, sha256: bytes, pixels: bytes) -> None:
        """Takes one in that was made while its picture was read."""
        self._new[sha256] = pixels

    def fetch(self, digests: Bytes32) -> Fetch:
        """What gives the miniatures of pictures, by their numbers in `digests`; one that cannot be made is black."""
        parts, row_of = self._kept()
        keys = [each.tobytes() for each in digests]
        missing = [key for key in dict.fromkeys(keys) if key not in row_of and key not in self._new]
        self._make(missing)
        # what cannot be made now is not kept: its picture may be brought back
        new = self._new | dict.fromkeys((key for key in missing if key not in self._new), bytes(BYTES))
        numbers = {sha256: number for number, sha256 in enumerate(new)}
        parts.append(np.frombuffer(b"".join(new.values()), np.uint8).reshape(-1, SIDE, SIDE))
        part, row = np.array([row_of[key] if key in row_of else (len(parts) - 1, numbers[key]) for key in keys]).T

        def fetch(rows: Rows) -> Miniatures:
            out = np.empty((len(rows), SIDE, SIDE), np.uint8)
            for i, at in enumerate(rows.tolist()):
                out[i] = parts[part[at]][row[at]]
            return out

        return fetch

    def flush(self) -> None:
        """Keeps what is new; where the storage refuses, it is made again another time."""
        if not self._keeps:
            return
        with contextlib.suppress(StoreError):
            new = list(self._new.items())
            for at in range(self._flushed, len(new), MOST):
                columns = zip(*new[at : at + MOST], strict=True)
                arrays = [pa.array(values, field.type) for values, field in zip(columns, SCHEMA, strict=True)]
                content = ipc_bytes(pa.table(arrays, schema=SCHEMA))
                self._storage.create(f"{MINIATURES}/{digest(content)[:NAME_DIGITS]}{ARROW}", content)
            self._flushed = len(new)

    def _kept(self) -> tuple[list[Miniatures], dict[bytes, tuple[int, int]]]:
        parts: list[Miniatures] = []
        row_of: dict[bytes, tuple[int, int]] = {}
        for name in self._storage.list(MINIATURES):
            try:
                table = miniature_table(self._storage, name)
            except (StoreError, NotFoundError):
                continue  # damaged, or gone since it was listed: made again
            pixels = np.frombuffer(table.column("pixels").chunk(0).buffers()[1], np.uint8)[: len(table) * BYTES]
            for row, sha256 in enumerate(digests_of(table.column("sha256"))):
                row_of[sha256.tobytes()] = (len(parts), row)
            parts.append(pixels.reshape(-1, SIDE, SIDE))
        return parts, row_of

    def _make(self, missing: list[bytes]) -> None:
        """Decodes stored pictures whose miniatures are not kept."""
        if not missing:
            return
        if self._executor is not None:
            where = (for_workers(self._storage.address), cache_options(self._storage))
            pieces = (((*where, run), run) for run in _runs(missing))
            for _, run, made in done_by(self._executor, _made_elsewhere, pieces, paths=where[:1]):
                self._new |= made
                # what a worker could not make may be no fault of the picture's
                self._new |= _made_of(self._storage, self._index, [each for each in run if each not in made], 1)
        else:
            self._new |= _made_of(self._storage, self._index, missing, usable_cores())
        self.flush()


def _runs(missing: list[bytes]) -> Iterator[list[bytes]]:
    yield from ([missing[at] for at in run] for run in runs_of(len(missing), _MOST_ELSEWHERE))


def _made_elsewhere(given: tuple[str, CacheOptions | None, list[bytes]]) -> dict[bytes, bytes]:
    address, cache, missing = given
    storage = open_storage(address, cache)
    index = PictureIndex(storage)
    index.refresh()
    return _made_of(storage, index, missing, 1)


def _made_of(storage: Storage, index: PictureIndex, missing: list[bytes], threads: int) -> dict[bytes, bytes]:
    """The miniatures of stored pictures, by SHA-256; of those that can be made."""
    if not missing:
        return {}
    places = index.find(np.frombuffer(b"".join(missing), np.uint8).reshape(-1, 32))
    with ThreadPoolExecutor(reading_threads(storage, threads), thread_name_prefix="pannier-miniatures") as pool:
        made = pool.map(lambda at: _made(storage, missing[at], places, at), range(len(missing)))
        return {key: each for key, each in zip(missing, made, strict=True) if each is not None}


def _made(storage: Storage, sha256: bytes, places: Places, at: int) -> bytes | None:
    """One picture's miniature; None where it is not to be had, which verify tells of."""
    if places.segment[at] < 0:
        return None
    try:
        shard = shard_file(places.shards[places.segment[at]])
        place = (shard, int(places.offset[at]), int(places.length[at]))
        data = storage.range_of(*place) if isinstance(storage, Far) else storage.read(*place)
        if hashlib.sha256(data).digest() != sha256:
            return None
        facts = read_facts(data)
        return miniature(upright(decode(data, facts, "gray"), facts.turn))
    except (StoreError, NotFoundError, PictureError):
        return None


def miniature_table(storage: Storage, name: str) -> Any:
    """A file's miniatures. Raises DamageError."""
    content = storage.view(f"{MINIATURES}/{name}")
    if digest(content)[:NAME_DIGITS] != name.removesuffix(ARROW):
        raise DamageError(f"{MINIATURES}/{name} is damaged: its digest is not its name", file=f"{MINIATURES}/{name}")
    batches = read_batches(content, f"{MINIATURES}/{name}", "miniatures", SCHEMA)
    return pa.Table.from_batches(batches, SCHEMA).combine_chunks()
