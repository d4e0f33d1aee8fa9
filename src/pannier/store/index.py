"""The index: for each shard one immutable segment, SHA-256 -> where the picture lies; derived, and nowhere else."""

from __future__ import annotations

import io
from dataclasses import dataclass
from typing import Any

import numpy as np
import pyarrow as pa

from pannier.errors import DamageError
from pannier.store.files import Directory
from pannier.store.shards import Located, locate, shard_names, shard_path

FOLDER = "index"
SUFFIX = ".arrow"

SCHEMA = pa.schema(
    [
        pa.field("sha256", pa.binary(32), nullable=False),
        pa.field("offset", pa.int64(), nullable=False),
        pa.field("length", pa.int64(), nullable=False),
        pa.field("row", pa.int32(), nullable=False),
    ],
    metadata={"pannier": "index 1"},
)

Bytes32 = np.ndarray[Any, np.dtype[np.uint8]]


@dataclass(frozen=True)
class Segment:
    """One shard's segment: arrays sorted by SHA-256."""

    shard: str
    sha256: Bytes32
    offset: np.ndarray[Any, np.dtype[np.int64]]
    length: np.ndarray[Any, np.dtype[np.int64]]
    row: np.ndarray[Any, np.dtype[np.int32]]


@dataclass(frozen=True, slots=True)
class Place:
    """Where one picture lies."""

    shard: str
    offset: int
    length: int
    row: int


def segment_bytes(located: Located) -> bytes:
    """A segment file: the same bytes for the same shard, always."""
    order = np.lexsort(tuple(located.sha256[:, column] for column in range(31, -1, -1)))
    columns = [
        pa.FixedSizeBinaryArray.from_buffers(
            pa.binary(32), len(order), [None, pa.py_buffer(np.ascontiguousarray(located.sha256[order]))]
        ),
        pa.array(located.offset[order]),
        pa.array(located.length[order]),
        pa.array(order.astype(np.int32)),
    ]
    sink = io.BytesIO()
    with pa.ipc.new_file(sink, SCHEMA) as writer:
        writer.write_batch(pa.record_batch(columns, schema=SCHEMA))
    return sink.getvalue()


def publish_segment(directory: Directory, shard: str, located: Located) -> None:
    directory.create(segment_file(shard), segment_bytes(located))


def segment_file(shard: str) -> str:
    return f"{FOLDER}/{shard}{SUFFIX}"


def read_segment(directory: Directory, shard: str) -> Segment:
    """A shard's segment; where its file is missing or unreadable it is derived from the shard, which is slower."""
    name = segment_file(shard)
    try:
        with pa.memory_map(str(directory.path(name))) as file:
            return _segment(shard, file.read_buffer(file.size()))
    except (OSError, pa.ArrowException, DamageError):
        return _segment(shard, pa.py_buffer(segment_bytes(locate(shard_path(directory, shard)))))


def _segment(shard: str, content: Any) -> Segment:
    reader = pa.ipc.open_file(content)
    if not reader.schema.equals(SCHEMA) or reader.num_record_batches != 1:
        raise DamageError(f"the index of shard {shard} is damaged", file=segment_file(shard))
    batch = reader.get_batch(0)
    sha256 = np.frombuffer(batch.column(0).buffers()[1], np.uint8)[: 32 * len(batch)].reshape(-1, 32)
    return Segment(shard, sha256, *(batch.column(i).to_numpy() for i in (1, 2, 3)))


class PictureIndex:
    """Looks pictures up in all segments at once. Built at the first question; 16 bytes of memory a picture.

    Not for several threads at once. `refresh` takes in shards that have come since.
    """

    def __init__(self, directory: Directory) -> None:
        self._directory = directory
        self._segments: list[Segment] = []
        self._known: set[str] = set()
        self._prefixes = np.empty(0, np.uint64)
        self._positions = np.empty(0, np.int64)
        self._starts = np.zeros(1, np.int64)

    def refresh(self) -> None:
        new = [name for name in shard_names(self._directory) if name not in self._known]
        if not new:
            return
        self._segments += [read_segment(self._directory, name) for name in new]
        self._known.update(new)
        lengths = [len(segment.offset) for segment in self._segments]
        self._starts = np.concatenate([[0], np.cumsum(lengths)]).astype(np.int64)
        prefixes = np.concatenate([_prefixes(segment.sha256) for segment in self._segments])
        self._positions = np.argsort(prefixes)
        self._prefixes = prefixes[self._positions]

    def find(self, sha256: Bytes32) -> list[Place | None]:
        """The places of pictures by their SHA-256, (n, 32) uint8; None for one that is not there."""
        if not self._segments:
            self.refresh()
        found = np.searchsorted(self._prefixes, _prefixes(sha256))
        return [self._place(int(at), digest) for at, digest in zip(found, sha256, strict=True)]

    def has(self, sha256: bytes) -> bool:
        return self.find(np.frombuffer(sha256, np.uint8).reshape(1, 32))[0] is not None

    def _place(self, at: int, sha256: Bytes32) -> Place | None:
        prefix = int.from_bytes(sha256[:8].tobytes(), "big")
        while at < len(self._prefixes) and int(self._prefixes[at]) == prefix:
            position = int(self._positions[at])
            number = int(np.searchsorted(self._starts, position, side="right")) - 1
            segment, row = self._segments[number], position - int(self._starts[number])
            if segment.sha256[row].tobytes() == sha256.tobytes():
                return Place(segment.shard, int(segment.offset[row]), int(segment.length[row]), int(segment.row[row]))
            at += 1
        return None


def _prefixes(sha256: Bytes32) -> np.ndarray[Any, np.dtype[np.uint64]]:
    return np.ascontiguousarray(sha256[:, :8]).view(">u8").ravel().astype(np.uint64)
