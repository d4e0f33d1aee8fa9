"""Queries: SQL over the records of a snapshot, or of two, with no way to files, network or settings."""

from __future__ import annotations

from typing import Any

import numpy as np
import pyarrow as pa

from pannier.errors import UsageError
from pannier.sources.sql import Box, columns_named
from pannier.store.choosing import chosen_rows
from pannier.store.records import record_columns, records_table
from pannier.store.state import State


def table_of(state: State, split: str | None = None, *, where: str | None = None) -> Any:
    """The records as an Arrow table, in order of keys; see `records_table`."""
    table = records_table(state.manifest, state.classes)
    if split is None and where is None:
        return table.take(state.in_key_order)
    rows = chosen_rows(state, split, None, where=where)
    ranks = np.empty(len(state), np.int64)
    ranks[state.in_key_order] = np.arange(len(state))
    return table.take(rows[np.argsort(ranks[rows])])


def query(snapshot: State, sql: str, *, after: State | None = None) -> Any:
    """What SQL over the table `records` gives, as an Arrow table; with two snapshots over `before` and `after`.

    Columns: key, label, number, split, sha256, byte_count, width, height, format, mode, and all side columns.
    Raises UsageError.
    """
    if not sql.strip():
        raise UsageError("say what is asked, as: SELECT label, count(*) FROM records GROUP BY label")
    given = {"records": snapshot} if after is None else {"before": snapshot, "after": after}
    known = {name: record_columns(state.manifest, state.classes) for name, state in given.items()}
    columns = list(dict.fromkeys(name for names in known.values() for name in names))
    named = columns_named(sql, columns)
    tables = {name: records_table(state.manifest, state.classes, only=named) for name, state in given.items()}
    answered = Box(**tables).answer(sql, "the query", columns)
    plain = [column.cast(column.type.value_type) if _is_coded(column) else column for column in answered.columns]
    return pa.table(plain, names=_told_apart(answered.column_names))


def _told_apart(names: list[str]) -> list[str]:
    """Names of which none is there twice: the second `key` is `key_1`."""
    told: list[str] = []
    for name in names:
        number, free = 0, name
        while free in told or (number and free in names):
            number += 1
            free = f"{name}_{number}"
        told.append(free)
    return told


def _is_coded(column: Any) -> bool:
    return bool(pa.types.is_dictionary(column.type))
