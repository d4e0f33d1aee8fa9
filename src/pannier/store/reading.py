"""Reading pictures out of shards: by offset, into the caller's own buffer, every byte checked."""

from __future__ import annotations

import os
from collections import OrderedDict

from pannier.errors import DamageError
from pannier.hashing import crc32_of
from pannier.store.files import Directory
from pannier.store.shards import shard_path

DEFAULT_OPEN_FILES = 32


class PictureReader:
    """Reads pictures of one store. Keeps at most `open_files` shards open. Not for several threads at once.

    `close` may be called twice; afterwards the next read opens what it needs again.
    """

    def __init__(self, directory: Directory, open_files: int = DEFAULT_OPEN_FILES) -> None:
        self._directory = directory
        self._open_files = open_files
        self._handles: OrderedDict[str, int] = OrderedDict()

    def read(self, shard: str, offset: int, length: int, crc32: int, row: int, key: str) -> bytes:
        """The bytes of one picture. Raises DamageError, which names shard, row and key."""
        buffer = bytearray(length)
        self.read_into(memoryview(buffer), shard, offset, crc32, row, key)
        return bytes(buffer)

    def read_into(self, buffer: memoryview, shard: str, offset: int, crc32: int, row: int, key: str) -> None:
        """Fills the whole buffer. Raises DamageError, which names shard, row and key."""
        try:
            got = os.preadv(self._handle(shard), [buffer], offset)
            while 0 < got < len(buffer):
                more = os.preadv(self._handle(shard), [buffer[got:]], offset + got)
                if more == 0:
                    break
                got += more
        except OSError as error:
            raise _damage(shard, row, key, f"it cannot be read ({error.strerror or error})") from error
        if got != len(buffer):
            raise _damage(shard, row, key, "the shard is cut short")
        if crc32_of(buffer) != crc32:
            raise _damage(shard, row, key, "its bytes are not what was packed")

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


def _damage(shard: str, row: int, key: str, what: str) -> DamageError:
    return DamageError(
        f"record {key!r} (row {row} of shard {shard}) is damaged: {what}; run pannier verify to see all that is harmed",
        file=f"shards/{shard}.arrow",
        row=row,
        key=key,
    )
