"""A snapshot as a source: another store's records, with their labels, splits and side columns."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np

from pannier.sources.rows import FileStamp, LeftOut, Row
from pannier.storage.opening import is_remote, open_storage, parted_address
from pannier.store.places import pictures_of
from pannier.store.records import records_table
from pannier.store.state import State, is_store, open_store


class SnapshotSource:
    """A source whose rows are a snapshot's records; unless a rule says otherwise, with its labels and splits."""

    default_label = "label"

    def __init__(self, state: State, keep_splits: bool) -> None:
        self._state, self._manifest = state, state.manifest
        self.name = f"{state.storage.address}@{state.id[:12]}"
        self.passed: list[LeftOut] = []
        self.fixed_splits = keep_splits and bool(state.splits)

    @property
    def side_columns(self) -> tuple[str, ...]:
        return self._manifest.side_columns

    def table(self) -> Any:
        return records_table(self._manifest)

    def keys(self) -> Any:
        return self._manifest.values("key").combine_chunks()

    def byte_counts(self, numbers: Any) -> np.ndarray[Any, np.dtype[np.int64]]:
        return np.asarray(self._manifest.gather(np.asarray(numbers, np.int64), "byte_count"), np.int64)

    def read(self, row: Row, most: int | None = None) -> bytes:
        """The picture's bytes, or the first of them. Raises DamageError."""
        where = (self._state.index, self._state.storage, np.array([row.number]))
        return next(pictures_of(self._manifest, *where))[1][:most]

    def file(self, row: Row) -> FileStamp | None:
        """None: a record lies in no file of its own."""
        return None


def snapshot_source(named: str, keep_splits: bool) -> SnapshotSource | None:
    """The snapshot that STORE or STORE@NAME names, as a source; None for all that is no store. Raises NotFoundError."""
    if Path(named).is_file():
        return None
    address, name = parted_address(named)
    if not is_remote(address) and not Path(address).is_dir():
        return None
    return SnapshotSource(open_store(address).state(name), keep_splits) if is_store(open_storage(address)) else None
