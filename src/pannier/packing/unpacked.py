"""What is not packed: a source as a snapshot, whose pictures stay where they are and are read from there."""

from __future__ import annotations

from array import array
from dataclasses import fields
from typing import Any

import numpy as np

from pannier.errors import PictureError, StoreError
from pannier.packing.pack import PackOptions, TakingOptions, pack
from pannier.sources.checking import Checked
from pannier.sources.rows import Row, Source
from pannier.storage.layout import UNPACKED, shard_file
from pannier.storage.memory import MemoryReader, MemoryStorage
from pannier.store.shards import Located
from pannier.store.state import OpenedStore, State, create_on


class UnpackedStorage(MemoryStorage):
    """What a store says of its pictures, in memory. They themselves make up one shard that is nowhere: see `_Reader`."""

    copies = True

    def __init__(self) -> None:
        super().__init__()
        self.kept: Kept | None = None

    def reader(self, open_files: int = 32) -> MemoryReader:
        return _Reader(self)

    def keeper(self, source: Source) -> Kept:
        """What takes a shard's place while a source is brought in."""
        self.kept = Kept(self, source)
        return self.kept


class Kept:
    """Where pictures are in their source; see `Keeper`. Some 60 bytes a picture."""

    byte_count = 0  # one shard, however much there is

    def __init__(self, storage: UnpackedStorage, source: Source) -> None:
        self.source = source
        self._storage = storage
        self._numbers, self._lengths, self._digests = array("q"), array("q"), bytearray()
        self._ends = np.empty(0, np.int64)

    def keep(self, checked: Checked, data: bytes) -> None:
        self._numbers.append(checked.row.number)
        self._lengths.append(len(data))
        self._digests += checked.sha256

    def finish(self) -> tuple[str, Located]:
        lengths = np.array(self._lengths, np.int64)
        self._ends = np.cumsum(lengths)
        self._storage.create(shard_file(UNPACKED), b"")
        digests = np.frombuffer(bytes(self._digests), np.uint8).reshape(-1, 32)
        return UNPACKED, Located(digests, self._ends - lengths, lengths)

    def read(self, offset: int, length: int) -> bytes:
        """The picture that begins there. Raises PictureError where the source has it no more."""
        at = int(np.searchsorted(self._ends, offset, side="right"))
        return self.source.read(Row(self._numbers[at], "", length))

    def __exit__(self, *_: object) -> None:
        """There is nothing to take away."""


class _Reader(MemoryReader):
    """Reads a picture from its source; what has another length now comes as less, and is not taken for what it was."""

    def __init__(self, storage: UnpackedStorage) -> None:
        super().__init__(storage)
        self._kept = storage.kept

    def read_into(self, name: str, offset: int, buffer: memoryview) -> int:
        if name != shard_file(UNPACKED) or self._kept is None:
            return super().read_into(name, offset, buffer)
        try:
            data = self._kept.read(offset, len(buffer))
        except PictureError as error:
            raise StoreError(error.reason) from error
        if len(data) != len(buffer):
            return 0
        buffer[:] = data
        return len(buffer)


def unpacked(source: Any, options: TakingOptions) -> tuple[OpenedStore, State]:
    """The snapshot that packing would make of a source, and the store in memory that it is in.

    Every picture is read and checked once, as packing does. Raises SourceError, UsageError, NotFoundError, LimitError.
    """
    storage = UnpackedStorage()
    store = create_on(storage)
    said = {each.name: getattr(options, each.name) for each in fields(TakingOptions)}
    state = pack(store, source, PackOptions(**said), storage.keeper).state
    assert state is not None
    return store, state
