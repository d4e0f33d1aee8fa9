"""What a feed takes out of a snapshot's side columns: groups and weights, which say how often records come, and values."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
import pyarrow as pa

from pannier.array_types import Numbers
from pannier.columns import Rows, codes_of, numbers_of
from pannier.errors import NotFoundError, UsageError, did_you_mean
from pannier.store.state import State

CLASS = "class"


def group_numbers(state: State, name: str, rows: Rows) -> Numbers:
    """Of some rows the number of their class, or of their value in a column; -1 where they have none.

    Raises NotFoundError for a column that is not there, UsageError where no row has a value.
    """
    if name == CLASS:
        groups = numbers_of(*state.manifest.codes("label"), state.classes)[rows].astype(np.int64)
    else:
        encoded = pa.chunked_array(_side(state, name, rows)).combine_chunks().dictionary_encode()
        groups = codes_of(encoded).astype(np.int64)
        groups = _by_value(groups, encoded.dictionary)
    if len(rows) and not (groups >= 0).any():
        raise UsageError(f"no record that is fed has a {name}: there is nothing to balance")
    return groups


def _by_value(groups: Numbers, values: Any) -> Numbers:
    """Numbers in order of values, whatever record comes first."""
    import pyarrow.compute as pc

    place = np.empty(len(values) + 1, np.int64)
    place[pc.sort_indices(values).to_numpy()] = np.arange(len(values))
    place[-1] = -1
    return place[groups]


def weights_of(state: State, name: str, rows: Rows) -> np.ndarray[Any, np.dtype[np.float64]]:
    """A column's numbers of some rows. Raises NotFoundError, and UsageError where they are no weights."""
    column = pa.chunked_array(_side(state, name, rows)).combine_chunks()
    if not (pa.types.is_integer(column.type) or pa.types.is_floating(column.type)):
        raise UsageError(f"weights = {name!r}: that column holds {column.type}, and numbers are wanted")
    weights = column.cast(pa.float64()).to_numpy(zero_copy_only=False)
    wrong = np.flatnonzero(~(np.isfinite(weights) & (weights >= 0)))
    if len(wrong):
        key = state.manifest.take([rows[wrong[0]]], ["key"]).column(0)[0].as_py()
        what = "nothing" if np.isnan(weights[wrong[0]]) else f"{weights[wrong[0]]:g}"
        raise UsageError(f"weights = {name!r}: {what} in record {key!r} is no weight, which is a number of 0 or more")
    if len(weights) and not weights.sum():
        raise UsageError(f"weights = {name!r}: all are 0, so nothing would be fed")
    return weights


def checked_columns(state: State, names: str | Sequence[str]) -> tuple[str, ...]:
    """Side columns that are there. Raises NotFoundError."""
    wanted = (names,) if isinstance(names, str) else tuple(names)
    for name in wanted:
        _check_side(state, name, ())
    return wanted


def _check_side(state: State, name: str, others: Sequence[str]) -> None:
    known = state.manifest.side_columns
    if name not in known:
        raise NotFoundError(f"no side column {name!r} in this snapshot{did_you_mean(name, [*others, *known])}")


def _side(state: State, name: str, rows: Rows) -> list[Any]:
    _check_side(state, name, [CLASS])
    return list(state.manifest.take(rows, [name]).column(0).chunks)


def class_weights(state: State, split: str | None) -> np.ndarray[Any, np.dtype[np.float32]]:
    """By class number, records / (classes that have any * records of the class); 0 for a class that has none."""
    numbers = group_numbers(state, CLASS, state.rows_of(split))
    counts = np.bincount(numbers[numbers >= 0], minlength=len(state.classes))
    there = counts > 0
    weights = np.zeros(len(counts), np.float32)
    weights[there] = counts.sum() / (there.sum() * counts[there])
    return weights
