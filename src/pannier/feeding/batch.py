"""The batch: pictures on loan from the engine, and which records they are, looked up when asked."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np
import pyarrow as pa

from pannier.array_types import Array
from pannier.choices import LabelAs
from pannier.errors import UsageError
from pannier.images.treatment import Treatment
from pannier.results import Result, plain
from pannier.store.state import State


@dataclass(frozen=True, eq=False, repr=False)
class Batch(Result):
    """One batch. `images` is an array (N, ...) of the treatment's shape and dtype, or a list of encoded bytes without one.

    It stays valid as long as anything sees it. `labels`: int64 (N,), float32 (N, classes) or a list of names, as the feed's
    `label_as` says; a record without a label has -1, zeros or None. `images, labels = batch` takes both.
    source: of several feeds that are mixed, which one it is of.
    """

    images: Any
    epoch: int
    number: int
    _rows: Array
    _numbers: Array
    _state: State
    _label_as: LabelAs
    _treatment: Treatment | None = None
    _columns: tuple[str, ...] = ()
    source: int = 0

    def to_dict(self) -> dict[str, Any]:
        """Plain data for JSON: which batch, keys and labels, without the pictures."""
        return {"epoch": self.epoch, "number": self.number, "keys": self.keys, "labels": plain(self.labels)}

    def __len__(self) -> int:
        return len(self._rows)

    def __iter__(self) -> Iterator[Any]:
        return iter((self.images, self.labels))

    def picture(self, at: int) -> Array:
        """One of them as one sees it: uint8 (h, w, channels), values undone. Raises UsageError for encoded pictures."""
        if self._treatment is None:
            raise UsageError("without a treatment pictures come as encoded bytes: there are no values to undo")
        return self._treatment.undo(self.images[at])

    @cached_property
    def keys(self) -> list[str]:
        """Which records these are."""
        keys: list[str] = self._state.manifest.take(self._rows, ["key"]).column(0).to_pylist()
        return keys

    @cached_property
    def columns(self) -> dict[str, Array]:
        """The side columns that the feed was asked for, by name: an array (N,) of each.

        Of whole numbers int64, of others float64, of truths bool, each as long as no value is missing: numbers with missing
        ones are float64 with NaN. Texts and what else there is are objects, None where missing.
        """
        return {name: _typed(self._state.manifest.take(self._rows, [name]).column(0)) for name in self._columns}

    @cached_property
    def names(self) -> list[str | None]:
        """Their labels, as names."""
        (names,) = self._state.manifest.lists(self._rows, ["label"])
        return names

    @cached_property
    def labels(self) -> Any:
        if self._label_as == "name":
            return self.names
        if self._label_as == "number":
            return self._numbers.astype(np.int64)
        hot = np.zeros((len(self), len(self._state.classes)), np.float32)
        labelled = np.flatnonzero(self._numbers >= 0)
        hot[labelled, self._numbers[labelled]] = 1
        return hot


def _typed(column: Any) -> Array:
    kind, is_whole = column.type, not column.null_count
    if pa.types.is_integer(kind) and is_whole:
        return np.asarray(column.to_numpy(), np.int64)
    if pa.types.is_integer(kind) or pa.types.is_floating(kind):
        return np.asarray(column.cast(pa.float64()).to_numpy(), np.float64)
    if pa.types.is_boolean(kind) and is_whole:
        return np.asarray(column.to_numpy(), np.bool_)
    found = np.empty(len(column), object)
    found[:] = column.to_pylist()
    return found
