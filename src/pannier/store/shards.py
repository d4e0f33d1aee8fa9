"""Shards: immutable Arrow IPC files of pictures, written block by block, never held whole."""

from __future__ import annotations

import hashlib
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from functools import lru_cache
from typing import Any

import numpy as np
import pyarrow as pa

from pannier.columns import BYTES_FIELDS, fact_fields, fixed_bytes
from pannier.errors import DamageError
from pannier.images.facts import Facts
from pannier.storage.layout import ARROW, SHARDS, shard_file
from pannier.storage.local import disk_errors_translated
from pannier.storage.protocol import Draft, Storage
from pannier.store.arrow_files import arrow_errors, read_batches

BLOCK_RECORDS = 64
BLOCK_BYTES = 8 << 20
DEFAULT_SHARD_BYTES = 256 << 20
NAME_DIGITS = 32

SCHEMA = pa.schema(
    [
        pa.field("key", pa.string(), nullable=False),
        pa.field("picture", pa.large_binary(), nullable=False),
        *(field for field in BYTES_FIELDS if field.name != "byte_count"),
        *fact_fields(),
        pa.field("perceptual_hash", pa.uint64(), nullable=False),
    ],
    metadata={"pannier": "shard 1"},
)

# as errors call such a file
WHAT = "a shard"


@dataclass(frozen=True, slots=True)
class Picture:
    """One whole, checked picture on its way into a shard."""

    key: str
    data: bytes
    sha256: bytes
    crc32: int
    facts: Facts
    perceptual_hash: int


@dataclass(frozen=True)
class Located:
    """Where the pictures of one shard lie: arrays by row, as in the shard. `sha256` is (n, 32) uint8."""

    sha256: np.ndarray[Any, np.dtype[np.uint8]]
    offset: np.ndarray[Any, np.dtype[np.int64]]
    length: np.ndarray[Any, np.dtype[np.int64]]


class ShardWriter:
    """Writes one shard. Holds at most one block. `finish` publishes it and gives its name; a context manager.

    A thread of its own sends what is written to the disk meanwhile, so that `finish` has less to wait for; where what is
    written need not outlive the machine's running (`lasts`), nothing waits.
    """

    def __init__(self, storage: Storage, *, lasts: bool = True) -> None:
        self._draft: Draft = storage.draft(SHARDS, lasts=lasts)
        with disk_errors_translated(SHARDS):
            self._writer = pa.ipc.new_file(self._draft.sink, SCHEMA)
        self._block: list[Picture] = []
        self._block_bytes = self._unflushed = 0
        self._flusher = ThreadPoolExecutor(1, thread_name_prefix="pannier-flush")
        self.byte_count = 0

    def add(self, picture: Picture) -> None:
        size = len(picture.data)
        if self._block and (self._block_bytes + size > BLOCK_BYTES or len(self._block) >= BLOCK_RECORDS):
            self._write_block()
        self._block.append(picture)
        self._block_bytes += size
        self.byte_count += size

    def _write_block(self) -> None:
        block, self._block, self._block_bytes = self._block, [], 0
        keys, digests, crcs = ([getattr(p, name) for p in block] for name in ("key", "sha256", "crc32"))
        facts, hashes = zip(*(p.facts for p in block), strict=True), [p.perceptual_hash for p in block]
        self._write([keys, _joined([p.data for p in block]), digests, crcs, *facts, hashes])

    def add_equal(self, sha256: list[bytes], crc32: list[int], facts: Facts, pictures: np.ndarray[Any, Any]) -> None:
        """A block of pictures of equal facts and length, out of one array (n, ...) of their bytes, which is not copied."""
        count, size = len(pictures), pictures[0].nbytes
        edges = np.arange(count + 1, dtype=np.int64) * size
        buffers = [None, pa.py_buffer(edges), pa.py_buffer(pictures)]
        held = pa.LargeBinaryArray.from_buffers(pa.large_binary(), count, buffers)
        keys, *alike = _alike(("", *facts, 0), count)
        self._write([keys, held, sha256, crc32, *alike])
        self.byte_count += count * size

    def _write(self, columns: list[Any]) -> None:
        arrays = [
            values if isinstance(values, pa.Array) else pa.array(values, field.type)
            for values, field in zip(columns, SCHEMA, strict=True)
        ]
        batch = pa.record_batch(arrays, schema=SCHEMA)
        with disk_errors_translated(SHARDS):
            self._writer.write_batch(batch)
        self._unflushed += batch.nbytes
        if self._unflushed >= BLOCK_BYTES:
            self._unflushed = 0
            self._flusher.submit(self._draft.flush_early)

    def finish(self) -> tuple[str, Located]:
        """The shard's name and where its pictures lie, once it is whole, flushed and published."""
        if self._block:
            self._write_block()
        with disk_errors_translated(SHARDS):
            self._writer.close()
        content = self._draft.content()
        located = located_in(content, "a new shard")
        name = shard_name(content, located)
        self._draft.publish(shard_file(name))
        return name, located

    def __enter__(self) -> ShardWriter:
        return self

    def __exit__(self, *_: object) -> None:
        self._flusher.shutdown()
        self._draft.discard()


@lru_cache(8)
def _alike(values: tuple[Any, ...], count: int) -> list[Any]:
    """The columns that are the same for all pictures of a block: key, facts, perceptual hash."""
    fields = [field for field in SCHEMA if field.name not in ("picture", "sha256", "crc32")]
    return [pa.array([value] * count, field.type) for value, field in zip(values, fields, strict=True)]


def _joined(pictures: list[bytes]) -> Any:
    """A large_binary array of the pictures, with one copy of each."""
    edges = np.cumsum([0, *map(len, pictures)], dtype=np.int64)
    buffers = [None, pa.py_buffer(edges), pa.py_buffer(b"".join(pictures))]
    return pa.LargeBinaryArray.from_buffers(pa.large_binary(), len(pictures), buffers)


def shard_names(storage: Storage) -> list[str]:
    return [name.removesuffix(ARROW) for name in storage.list(SHARDS) if name.endswith(ARROW)]


def locate(storage: Storage, name: str) -> Located:
    """Reads where the pictures of a shard lie, touching none of them. Raises DamageError where it is no whole shard."""
    file = shard_file(name)
    with arrow_errors(file, WHAT):
        return located_in(storage.view(file), file)


def located_in(content: Any, file: str) -> Located:
    """The same of a shard's content."""
    parts = [_locate_block(block, content.address) for block in read_batches(content, file, WHAT, SCHEMA)]
    if not parts:
        return Located(np.empty((0, 32), np.uint8), np.empty(0, np.int64), np.empty(0, np.int64))
    located = Located(*(np.concatenate(column) for column in zip(*parts, strict=True)))
    if np.any(located.length < 0) or np.any(located.offset < 0) or np.any(located.offset + located.length > content.size):
        raise DamageError(f"{file} is damaged: it points outside itself", file=file)
    return located


def column_of(storage: Storage, name: str, column: str) -> np.ndarray[Any, Any]:
    """A column of numbers of a shard, by row; touches no picture. Raises DamageError."""
    file = shard_file(name)
    with arrow_errors(file, WHAT):
        blocks = read_batches(storage.view(file), file, WHAT, SCHEMA)
        parts = [block.column(column).to_numpy().copy() for block in blocks]
    return np.concatenate(parts) if parts else np.empty(0, SCHEMA.field(column).type.to_pandas_dtype())


def _locate_block(block: Any, base: int) -> tuple[Any, Any, Any]:
    picture = block.column("picture")
    _, offsets, values = picture.buffers()
    edges = np.frombuffer(offsets, np.int64)[: len(block) + 1]
    start = (values.address if values is not None else base) - base
    return fixed_bytes(block.column("sha256")).copy(), edges[:-1] + start, np.diff(edges)


def shard_name(content: Any, located: Located) -> str:
    """The name that a shard's content gives it.

    SHA-256 over all its bytes outside the pictures, which include every picture's SHA-256: so the name vouches for every
    byte, and no picture is hashed twice. The first 32 digits.
    """
    hasher, whole, at = hashlib.sha256(), memoryview(content), 0
    order = np.argsort(located.offset, kind="stable")
    for start, length in zip(located.offset[order].tolist(), located.length[order].tolist(), strict=True):
        if start > at:
            hasher.update(whole[at:start])
        at = max(at, start + length)
    hasher.update(whole[at:])
    return hasher.hexdigest()[:NAME_DIGITS]
