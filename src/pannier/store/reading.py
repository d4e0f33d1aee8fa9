"""Reading pictures out of shards: by offset, into the caller's own buffer, every byte checked."""

from __future__ import annotations

import os
from collections import OrderedDict
from typing import NamedTuple

import numpy as np

from pannier.errors import DamageError
from pannier.hashing import crc32_of
from pannier.store.files import Directory
from pannier.store.index import PictureIndex
from pannier.store.shards import shard_path

DEFAULT_OPEN_FILES = 32


class Place(NamedTuple):
    """Where a picture's bytes lie, their CRC-32, the row of the shard that they belong to, and their SHA-256."""

    shard: str
    offset: int
    length: int
    crc32: int
    row: int
    sha256: bytes


class ReadError(Exception):
    """Bytes that are not to be had as they were packed; says what is wrong. `damage` makes a user's error of it."""


def damage(place: Place, key: str, what: str) -> DamageError:
    """The error that names shard, row and key."""
    return DamageError(
        f"record {key!r} (row {place.row} of shard {place.shard}) {what}",
        file=f"shards/{place.shard}.arrow",
        row=place.row,
        key=key,
    )


class PictureReader:
    """Reads pictures of one store. Keeps at most `open_files` shards open. Not for several threads at once.

    `close` may be called twice; afterwards the next read opens what it needs again.
    """

    def __init__(self, directory: Directory, open_files: int = DEFAULT_OPEN_FILES) -> None:
        self._directory = directory
        self._open_files = open_files
        self._handles: OrderedDict[str, int] = OrderedDict()

    def read(self, place: Place) -> bytes:
        """The bytes of one picture. Raises ReadError."""
        buffer = bytearray(place.length)
        self.read_into(memoryview(buffer), place)
        return bytes(buffer)

    def read_into(self, buffer: memoryview, place: Place) -> None:
        """Fills the buffer, which is as long as the picture. Raises ReadError."""
        try:
            self._read(buffer, place)
        except FileNotFoundError:
            self._read_elsewhere(buffer, place)

    def _read_elsewhere(self, buffer: memoryview, place: Place) -> None:
        """The same where the shard is gone: tidying may have moved the picture into another since it was looked up."""
        places = PictureIndex(self._directory).find(np.frombuffer(place.sha256, np.uint8).reshape(1, 32))
        if places.segment[0] < 0 or places.length[0] != place.length:
            raise ReadError(_damaged("its shard is missing"))
        shard, offset, row = places.shards[places.segment[0]], int(places.offset[0]), int(places.row[0])
        try:
            self._read(buffer, place._replace(shard=shard, offset=offset, row=row))
        except FileNotFoundError:
            raise ReadError(_damaged("its shard is missing")) from None

    def _read(self, buffer: memoryview, place: Place) -> None:
        shard, offset, length, crc32, _, _ = place
        try:
            got = os.preadv(self._handle(shard), [buffer], offset)
            while 0 < got < length:
                more = os.preadv(self._handle(shard), [buffer[got:]], offset + got)
                if more == 0:
                    break
                got += more
        except FileNotFoundError:
            raise
        except OSError as error:
            raise ReadError(_damaged(f"it cannot be read ({error.strerror or error})")) from error
        if got != length:
            raise ReadError(_damaged("the shard is cut short"))
        if crc32_of(buffer) != crc32:
            raise ReadError(_damaged("its bytes are not what was packed"))

    def _handle(self, shard: str) -> int:
        handle = self._handles.get(shard)
        if handle is not None:
            if len(self._handles) > 1:
                self._handles.move_to_end(shard)
            return handle
        if len(self._handles) >= self._open_files:
            os.close(self._handles.popitem(last=False)[1])
        handle = os.open(shard_path(self._directory, shard), os.O_RDONLY)
        self._handles[shard] = handle
        return handle

    def close(self) -> None:
        while self._handles:
            os.close(self._handles.popitem()[1])


def _damaged(what: str) -> str:
    return f"is damaged: {what}; run pannier verify to see all that is harmed"
