"""Shards: immutable Arrow IPC files of pictures, written block by block, never held whole."""

from __future__ import annotations

import contextlib
import hashlib
import os
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa

from pannier.errors import DamageError
from pannier.images.facts import Facts
from pannier.store.files import Directory, Draft, disk_errors_translated

FOLDER = "shards"
SUFFIX = ".arrow"

BLOCK_RECORDS = 64
BLOCK_BYTES = 8 << 20
DEFAULT_SHARD_BYTES = 256 << 20
NAME_DIGITS = 32

SCHEMA = pa.schema(
    [
        pa.field("key", pa.string(), nullable=False),
        pa.field("picture", pa.large_binary(), nullable=False),
        pa.field("sha256", pa.binary(32), nullable=False),
        pa.field("crc32", pa.uint32(), nullable=False),
        pa.field("width", pa.int32(), nullable=False),
        pa.field("height", pa.int32(), nullable=False),
        pa.field("format", pa.string(), nullable=False),
        pa.field("mode", pa.string(), nullable=False),
        pa.field("turn", pa.uint8(), nullable=False),
        pa.field("progressive", pa.bool_(), nullable=False),
        pa.field("perceptual_hash", pa.uint64(), nullable=False),
    ],
    metadata={"pannier": "shard 1"},
)


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
    """Writes one shard. Holds at most one block. `finish` publishes it and gives its name; a context manager."""

    def __init__(self, directory: Directory) -> None:
        self._draft: Draft = directory.draft(FOLDER)
        with disk_errors_translated(FOLDER):
            # Arrow writes by itself, without the interpreter lock; the draft flushes and publishes what it wrote
            self._sink = pa.OSFile(str(self._draft.path), mode="wb")
            self._writer = pa.ipc.new_file(self._sink, SCHEMA)
        self._block: list[Picture] = []
        self._block_bytes = 0
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
        columns: list[Any] = [
            [p.key for p in block],
            _joined([p.data for p in block]),
            [p.sha256 for p in block],
            [p.crc32 for p in block],
            [p.facts.width for p in block],
            [p.facts.height for p in block],
            [p.facts.format for p in block],
            [p.facts.mode for p in block],
            [p.facts.turn for p in block],
            [p.facts.progressive for p in block],
            [p.perceptual_hash for p in block],
        ]
        self._write(columns)

    def add_equal(self, sha256: list[bytes], crc32: list[int], facts: Facts, pictures: np.ndarray[Any, Any]) -> None:
        """A block of pictures of equal facts and length, out of one array (n, ...) of their bytes, which is not copied."""
        count, size = len(pictures), pictures[0].nbytes
        edges = np.arange(count + 1, dtype=np.int64) * size
        buffers = [None, pa.py_buffer(edges), pa.py_buffer(pictures)]
        columns = [
            [""] * count,
            pa.LargeBinaryArray.from_buffers(pa.large_binary(), count, buffers),
            sha256,
            crc32,
            *([value] * count for value in (facts.width, facts.height, facts.format, facts.mode, facts.turn)),
            [facts.progressive] * count,
            [0] * count,
        ]
        self._write(columns)
        self.byte_count += count * size

    def _write(self, columns: list[Any]) -> None:
        arrays = [
            values if isinstance(values, pa.Array) else pa.array(values, field.type)
            for values, field in zip(columns, SCHEMA, strict=True)
        ]
        with disk_errors_translated(FOLDER):
            self._writer.write_batch(pa.record_batch(arrays, schema=SCHEMA))

    def flush_early(self) -> None:
        """What is written so far goes to the disk, so that `finish` has less to wait for. For any thread."""
        handle = os.open(self._draft.path, os.O_RDONLY)
        try:
            os.fdatasync(handle)
        finally:
            os.close(handle)

    def finish(self) -> tuple[str, Located]:
        """The shard's name and where its pictures lie, once it is whole, flushed and published."""
        if self._block:
            self._write_block()
        with disk_errors_translated(FOLDER):
            self._writer.close()
            self._sink.close()
        self._draft.flush()
        located = locate(self._draft.path)
        name = shard_name(self._draft.path, located)
        self._draft.publish(f"{FOLDER}/{name}{SUFFIX}")
        return name, located

    def __enter__(self) -> ShardWriter:
        return self

    def __exit__(self, *_: object) -> None:
        if not self._sink.closed:
            with contextlib.suppress(OSError):  # a full disk refuses to the last; the file is removed anyway
                self._sink.close()
        self._draft.discard()


def _joined(pictures: list[bytes]) -> Any:
    """A large_binary array of the pictures, with one copy of each."""
    edges = np.cumsum([0, *map(len, pictures)], dtype=np.int64)
    buffers = [None, pa.py_buffer(edges), pa.py_buffer(b"".join(pictures))]
    return pa.LargeBinaryArray.from_buffers(pa.large_binary(), len(pictures), buffers)


def shard_names(directory: Directory) -> list[str]:
    return [name.removesuffix(SUFFIX) for name in directory.list(FOLDER) if name.endswith(SUFFIX) and name[0] != "."]


def shard_path(directory: Directory, name: str) -> Path:
    return directory.path(f"{FOLDER}/{name}{SUFFIX}")


def locate(path: Path) -> Located:
    """Reads where the pictures of a shard lie, touching none of them. Raises DamageError where it is no whole shard."""
    try:
        with pa.memory_map(str(path)) as file:
            base = file.read_buffer(file.size()).address if file.size() else 0
            reader = pa.ipc.open_file(file)
            if not reader.schema.equals(SCHEMA):
                raise DamageError(f"{path.name} is damaged: it has not the columns of a shard", file=path.name)
            parts = [_locate_block(reader.get_batch(i), base) for i in range(reader.num_record_batches)]
            size = file.size()
    except (pa.ArrowException, OSError) as error:
        raise DamageError(f"{path.name} is damaged: it cannot be read as a shard ({error})", file=path.name) from error
    if not parts:
        return Located(np.empty((0, 32), np.uint8), np.empty(0, np.int64), np.empty(0, np.int64))
    located = Located(*(np.concatenate(column) for column in zip(*parts, strict=True)))
    if np.any(located.length < 0) or np.any(located.offset < 0) or np.any(located.offset + located.length > size):
        raise DamageError(f"{path.name} is damaged: it points outside itself", file=path.name)
    return located


def perceptual_hashes(path: Path) -> np.ndarray[Any, np.dtype[np.uint64]]:
    """The perceptual hashes of a shard, by row; touches no picture. Raises DamageError."""
    try:
        with pa.memory_map(str(path)) as file:
            reader = pa.ipc.open_file(file)
            blocks = (reader.get_batch(i) for i in range(reader.num_record_batches))
            parts = [block.column("perceptual_hash").to_numpy().copy() for block in blocks]
    except (pa.ArrowException, OSError) as error:
        raise DamageError(f"{path.name} is damaged: it cannot be read as a shard ({error})", file=path.name) from error
    return np.concatenate(parts) if parts else np.empty(0, np.uint64)


def _locate_block(block: Any, base: int) -> tuple[Any, Any, Any]:
    picture = block.column("picture")
    _, offsets, values = picture.buffers()
    edges = np.frombuffer(offsets, np.int64)[: len(block) + 1]
    start = (values.address if values is not None else base) - base
    sha256 = np.frombuffer(block.column("sha256").buffers()[1], np.uint8)[: 32 * len(block)].reshape(-1, 32)
    return sha256.copy(), edges[:-1] + start, np.diff(edges)


def shard_name(path: Path, located: Located) -> str:
    """The name that a shard's content gives it.

    SHA-256 over all its bytes outside the pictures, which include every picture's SHA-256: so the name vouches for every
    byte, and no picture is hashed twice. The first 32 digits.
    """
    hasher = hashlib.sha256()
    order = np.argsort(located.offset, kind="stable")
    with open(path, "rb") as file:
        at = 0
        for start, length in zip(located.offset[order].tolist(), located.length[order].tolist(), strict=True):
            if start > at:
                file.seek(at)
                hasher.update(file.read(start - at))
            at = max(at, start + length)
        file.seek(at)
        hasher.update(file.read())
    return hasher.hexdigest()[:NAME_DIGITS]
