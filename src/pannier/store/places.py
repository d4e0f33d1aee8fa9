"""Places: where the pictures of records lie, and reading them from there: the one look-up, for one record or many."""

from __future__ import annotations

import hashlib
from collections.abc import Iterator, Sequence
from typing import Any, NamedTuple

import numpy as np

from pannier.array_types import Array, Flags, Numbers
from pannier.columns import Rows, digest_list, tuples
from pannier.errors import DamageError, NotFoundError, StoreError
from pannier.hashing import crc32_of
from pannier.storage.checksums import CrcJoiner
from pannier.storage.layout import UNPACKED, segment_file, shard_file
from pannier.storage.protocol import Storage
from pannier.store.index import PictureIndex
from pannier.store.manifest import Manifest

SHOWN_DIGITS = 12
_AT_ONCE = 512


class Place(NamedTuple):
    """Where a picture's bytes lie, their CRC-32, the row of the shard that they belong to, and their SHA-256.

    Without a CRC-32 they are held against the SHA-256.
    """

    shard: str
    offset: int
    length: int
    crc32: int | None
    row: int
    sha256: bytes


class ReadError(Exception):
    """Bytes that are not to be had as they were packed; says what is wrong. `damage` makes a user's error of it."""


def damage(place: Place, key: str, what: str) -> DamageError:
    """The error that names shard, row and key."""
    if place.shard == UNPACKED:
        return DamageError(f"record {key!r} is not what it was when its source was opened: open it anew", key=key)
    return DamageError(
        f"record {key!r} (row {place.row} of shard {place.shard}) {what}",
        file=shard_file(place.shard),
        row=place.row,
        key=key,
    )


def places_of(manifest: Manifest, index: PictureIndex, rows: Rows, by_digest: bool | Flags | None = None) -> list[Place]:
    """The places of some rows' pictures, in their order. For any thread.

    by_digest: whether pictures are to be held against their SHA-256, of all rows or by row; None as the manifest has it.
    Raises DamageError for one that is in no shard.
    """
    sha256, lengths = manifest.gather(rows, "sha256"), manifest.gather(rows, "byte_count")
    places = index.find(sha256)
    for i in np.flatnonzero((places.segment < 0) | (places.length != lengths)).tolist():
        key = manifest.take([rows[i]], ["key"]).column(0)[0].as_py()
        raise _misplaced(key, sha256[i].tobytes().hex(), places.shards, int(places.segment[i]), int(places.row[i]))
    shards = [places.shards[segment] for segment in places.segment.tolist()]
    by_digest = manifest.by_digest if by_digest is None else by_digest
    crcs: list[int | None] = manifest.gather(rows, "crc32").tolist()
    if np.any(by_digest):
        asked = np.broadcast_to(by_digest, len(rows)).tolist()
        crcs = [None if is_asked else crc for is_asked, crc in zip(asked, crcs, strict=True)]
    columns = (shards, places.offset.tolist(), places.length.tolist(), crcs, places.row.tolist(), digest_list(sha256))
    return tuples(Place, *columns)


def _misplaced(key: str, sha256: str, shards: Sequence[str], segment: int, row: int) -> DamageError:
    """A picture that is in no shard (segment -1), or not with the length that the manifest gives."""
    if segment < 0:
        what = f"the picture of record {key!r} (SHA-256 {sha256[:SHOWN_DIGITS]}...) is in no shard; run pannier verify"
        return DamageError(what, key=key)
    return DamageError(
        f"record {key!r} (row {row} of shard {shards[segment]}) is damaged: the index gives another length; "
        "run pannier verify",
        file=segment_file(shards[segment]),
        row=row,
        key=key,
    )


def pictures_of(manifest: Manifest, index: PictureIndex, storage: Storage, rows: Rows) -> Iterator[tuple[str, bytes]]:
    """Keys and bytes of some rows, in their order; one picture in memory at a time. Raises DamageError."""
    reader = PictureReader(storage)
    try:
        for at in range(0, len(rows), _AT_ONCE):
            some = np.asarray(rows[at : at + _AT_ONCE], np.int64)
            keys = manifest.take(some, ["key"]).column(0).to_pylist()
            for key, place in zip(keys, places_of(manifest, index, some), strict=True):
                try:
                    yield key, reader.read(place)
                except ReadError as error:
                    raise damage(place, key, str(error)) from error
    finally:
        reader.close()


class PictureReader:
    """Reads pictures, every byte checked, into the caller's buffer. Not for several threads; `close` may be called twice."""

    def __init__(self, storage: Storage, open_files: int = 32) -> None:
        self._storage, self._reader = storage, storage.reader(open_files)

    def read(self, place: Place) -> bytes:
        """The bytes of one picture. Raises ReadError."""
        buffer = bytearray(place.length)
        self.read_into(memoryview(buffer), place)
        return bytes(buffer)

    def read_into(self, buffer: memoryview, place: Place) -> None:
        """Fills the buffer, which is as long as the picture. Raises ReadError."""
        try:
            got = self._reader.read_into(shard_file(place.shard), place.offset, buffer)
        except NotFoundError:
            got = self._read_elsewhere(buffer, place)
        except StoreError as error:
            raise ReadError(_damaged(f"it cannot be read ({error})")) from error
        if got != place.length:
            raise ReadError(_damaged("the shard is cut short"))
        check(buffer, place)

    def read_each_into(
        self, parts: Array, shards: Sequence[str], which: Sequence[int], offsets: Numbers, crcs: Numbers, joiner: CrcJoiner
    ) -> bool:
        """Fills each row of an array from an offset of one of some shards; False where something is not right.

        All are checked at once; `joiner` is for the length of a row.
        """
        files = {number: shard_file(shards[number]) for number in set(which)}
        if not self._reader.read_each_into([files[number] for number in which], offsets, parts):
            return False
        return not which or crc32_of(parts.data.cast("B")) == joiner.join(crcs)

    def _read_elsewhere(self, buffer: memoryview, place: Place) -> int:
        """Where the shard is gone, tidying may have moved the picture into another since it was looked up."""
        places = PictureIndex(self._storage).find(np.frombuffer(place.sha256, np.uint8).reshape(1, 32))
        if places.segment[0] < 0 or places.length[0] != place.length:
            raise ReadError(_damaged("its shard is missing"))
        try:
            return self._reader.read_into(shard_file(places.shards[places.segment[0]]), int(places.offset[0]), buffer)
        except NotFoundError:
            raise ReadError(_damaged("its shard is missing")) from None

    def close(self) -> None:
        self._reader.close()


def check(content: memoryview, place: Place) -> None:
    """Raises ReadError where bytes that were read are not what was packed."""
    is_by_digest = place.crc32 is None
    is_as_packed = hashlib.sha256(content).digest() == place.sha256 if is_by_digest else crc32_of(content) == place.crc32
    if not is_as_packed:
        raise ReadError(_damaged("its bytes are not what was packed"))


def _damaged(what: str) -> str:
    return f"is damaged: {what}; run pannier verify to see all that is harmed"


def fact_lists(manifest: Manifest, rows: Rows, names: Sequence[str]) -> list[list[Any]]:
    """Columns of pictures' facts for some rows, as lists; for a few rows, many times."""
    columns = []
    for name in names:
        values, known = manifest.gather(rows, name).tolist(), manifest.names(name)
        columns.append([known[code] for code in values] if known else values)
    return columns
