"""The index: for each shard one immutable segment, SHA-256 -> where the picture lies; derived, and nowhere else."""

from __future__ import annotations

import threading
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
import pyarrow as pa

from pannier.columns import fixed_bytes, ipc_bytes, present
from pannier.errors import DamageError, NotFoundError, StoreError
from pannier.hashing import Hashes
from pannier.storage.layout import ARROW, INDEX, segment_file
from pannier.storage.opening import side_by_side
from pannier.storage.protocol import Storage
from pannier.store.arrow_files import read_batches
from pannier.store.shards import Located, column_of, locate, shard_names

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


@dataclass(frozen=True)
class Places:
    """Where pictures lie, by question: `segment` is a number into `shards`, -1 for a picture that is not there."""

    shards: list[str]
    segment: np.ndarray[Any, np.dtype[np.int64]]
    offset: np.ndarray[Any, np.dtype[np.int64]]
    length: np.ndarray[Any, np.dtype[np.int64]]
    row: np.ndarray[Any, np.dtype[np.int64]]


def segment_bytes(located: Located) -> bytes:
    """A segment file: the same bytes for the same shard, always."""
    order = np.lexsort(tuple(located.sha256[:, column] for column in range(31, -1, -1)))
    sha256 = [None, pa.py_buffer(np.ascontiguousarray(located.sha256[order]))]
    columns = [pa.FixedSizeBinaryArray.from_buffers(pa.binary(32), len(order), sha256)]
    columns += map(pa.array, (located.offset[order], located.length[order], order.astype(np.int32)))
    return ipc_bytes(pa.record_batch(columns, schema=SCHEMA))


def publish_segment(storage: Storage, shard: str, located: Located) -> None:
    storage.create(segment_file(shard), segment_bytes(located))


def restore_segments(storage: Storage) -> None:
    """Makes the segments that are missing, as after a writer was ended between a shard and its segment."""
    segments = set(storage.list(INDEX))
    for shard in shard_names(storage):
        if shard + ARROW not in segments:
            try:
                publish_segment(storage, shard, locate(storage, shard))
            except DamageError:
                continue  # a damaged shard is verify's to report; its pictures count as not there


def read_segment(storage: Storage, shard: str) -> Segment:
    """A shard's segment; where its file is missing or unreadable it is derived from the shard, which is slower."""
    try:
        return stored_segment(storage, shard)
    except (StoreError, NotFoundError):  # verify reports it
        return _segment(shard, pa.py_buffer(segment_bytes(locate(storage, shard))))


def stored_segment(storage: Storage, shard: str) -> Segment:
    """A shard's segment as its file has it. Raises NotFoundError, StoreError."""
    return _segment(shard, storage.view(segment_file(shard)))


def _segment(shard: str, content: Any) -> Segment:
    batches = read_batches(content, segment_file(shard), "an index", SCHEMA)
    if len(batches) != 1:
        raise DamageError(f"the index of shard {shard} is damaged", file=segment_file(shard))
    sha256, offset, length, row = batches[0].columns
    segment = Segment(shard, fixed_bytes(sha256), *(column.to_numpy() for column in (offset, length, row)))
    if any(len(segment.row) and int(column.min()) < 0 for column in (segment.offset, segment.length, segment.row)):
        raise DamageError(f"the index of shard {shard} is damaged: it points outside it", file=segment_file(shard))
    return segment


@dataclass(frozen=True)
class _Segments:
    """All segments of one moment, and the first 8 bytes of their digests in order: never changed once it is built."""

    segments: tuple[Segment, ...]
    known: frozenset[str]
    prefixes: np.ndarray[Any, np.dtype[np.uint64]]
    positions: np.ndarray[Any, np.dtype[np.int64]]
    starts: np.ndarray[Any, np.dtype[np.int64]]

    @staticmethod
    def of(segments: Sequence[Segment], known: Iterable[str]) -> _Segments:
        parts = [_prefixes(segment.sha256) for segment in segments]
        prefixes = np.concatenate([np.empty(0, np.uint64), *parts])
        positions = np.argsort(prefixes)
        starts = np.cumsum([0, *map(len, parts)]).astype(np.int64)
        return _Segments(tuple(segments), frozenset(known), prefixes[positions], positions, starts)

    def find(self, sha256: Bytes32) -> Places:
        count = len(sha256)
        prefixes = _prefixes(sha256)
        segment, row = np.full(count, -1, np.int64), np.zeros(count, np.int64)
        offset, length = np.zeros(count, np.int64), np.zeros(count, np.int64)
        at = np.searchsorted(self.prefixes, prefixes)
        asked = np.arange(count)
        while len(asked):  # once, but for pictures whose first 8 bytes are alike
            at, asked = at[at < len(self.prefixes)], asked[at < len(self.prefixes)]
            same = self.prefixes[at] == prefixes[asked]
            at, asked = at[same], asked[same]
            positions = self.positions[at]
            numbers = np.searchsorted(self.starts, positions, side="right") - 1
            for number in present(numbers):
                chosen, held = np.flatnonzero(numbers == number), self.segments[number]
                lines = positions[chosen] - self.starts[number]
                equal = (held.sha256[lines] == sha256[asked[chosen]]).all(axis=1)
                answered, lines = asked[chosen[equal]], lines[equal]
                segment[answered], row[answered] = number, held.row[lines]
                offset[answered], length[answered] = held.offset[lines], held.length[lines]
            at, asked = at[segment[asked] < 0] + 1, asked[segment[asked] < 0]
        return Places([held.shard for held in self.segments], segment, offset, length, row)


class PictureIndex:
    """Looks pictures up in all segments at once. Built at the first question; 16 bytes of memory a picture.

    Safe between threads: what is looked into is frozen and swapped whole. `refresh` takes in shards that have come since.
    """

    def __init__(self, storage: Storage) -> None:
        self._storage = storage
        self._table = _Segments.of((), ())
        self._building = threading.Lock()

    @property
    def count(self) -> int:
        """How many pictures are known, after `refresh`."""
        return len(self._table.prefixes)

    def refresh(self) -> None:
        """Takes in shards that have come since, and drops those that have gone."""
        with self._building:
            before, names = self._table, shard_names(self._storage)
            if before.known == set(names):
                return
            segments = [segment for segment in before.segments if segment.shard in names]
            new = [name for name in names if name not in before.known]
            segments += [segment for segment in side_by_side(self._storage, self._read, new) if segment is not None]
            self._table = _Segments.of(segments, names)

    def _read(self, name: str) -> Segment | None:
        """None where neither index nor shard can be read: its pictures are not to be had."""
        try:
            return read_segment(self._storage, name)
        except DamageError:
            return None

    def find(self, sha256: Bytes32) -> Places:
        """The places of pictures by their SHA-256, (n, 32) uint8. Takes in new shards where one is not known."""
        places = self._table.find(sha256)
        if np.any(places.segment < 0):
            self.refresh()
            places = self._table.find(sha256)
        return places

    def likeness(self, sha256: Bytes32) -> Hashes:
        """The perceptual hashes of pictures by their SHA-256, (n, 32) uint8; 0 for one that is not here."""
        places = self.find(sha256)
        hashes = np.zeros(len(sha256), np.uint64)
        for number in present(places.segment[places.segment >= 0]):
            here = places.segment == number
            hashes[here] = column_of(self._storage, places.shards[number], "perceptual_hash")[places.row[here]]
        return hashes

    def has(self, sha256: bytes) -> bool:
        """Whether a picture is among those known after the last `refresh`."""
        table, prefix = self._table, np.uint64(int.from_bytes(sha256[:8], "big"))
        at = int(table.prefixes.searchsorted(prefix))
        if at == len(table.prefixes) or table.prefixes[at] != prefix:
            return False
        return bool(table.find(np.frombuffer(sha256, np.uint8).reshape(1, 32)).segment[0] >= 0)


def _prefixes(sha256: Bytes32) -> np.ndarray[Any, np.dtype[np.uint64]]:
    return np.ascontiguousarray(sha256[:, :8]).view(">u8").ravel().astype(np.uint64)
