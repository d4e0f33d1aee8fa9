"""Queries: SQL over the records of a snapshot, or of two, with no way to files, network or settings."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np
import pyarrow as pa

from pannier.columns import Rows
from pannier.errors import UsageError
from pannier.sources.rules import holds
from pannier.sources.sql import answer, connected_to
from pannier.store.manifest import Manifest

if TYPE_CHECKING:
    from pannier.store.snapshot import Snapshot

# what no reader of records needs, or cannot read
_HIDDEN = ("hash", "crc32", "turn", "progressive", "removed")


def records_table(manifest: Manifest, classes: list[str] | None = None) -> Any:
    """The records as rows: key, label, number (where classes are given), split, facts of the picture, side columns."""
    table = manifest.table()
    table = table.drop_columns([name for name in _HIDDEN if name in table.column_names])
    table = table.set_column(table.column_names.index("sha256"), "sha256", _hexadecimal(table.column("sha256")))
    if classes is not None:
        codes, names = manifest.codes("label")
        numbers = {name: number for number, name in enumerate(classes)}
        by_code = np.array([*(numbers.get(name, -1) for name in names), -1], np.int64)[codes]
        column = pa.array(by_code, mask=by_code < 0)
        table = table.add_column(table.column_names.index("label") + 1, "number", column)
    return table


def rows_where(manifest: Manifest, where: str) -> Rows:
    """The rows for which an SQL condition holds. Raises UsageError."""
    return np.flatnonzero(holds(records_table(manifest), where))


def query(snapshot: Snapshot, sql: str, *, after: Snapshot | None = None) -> Any:
    """What SQL over the table `records` gives, as an Arrow table; with two snapshots over `before` and `after`.

    Columns: key, label, number, split, sha256, byte_count, width, height, format, mode, and all side columns.
    Raises UsageError.
    """
    if not sql.strip():
        raise UsageError("say what is asked, as: SELECT label, count(*) FROM records GROUP BY label")
    tables = {"records": records_table(snapshot.manifest, snapshot.classes)}
    if after is not None:
        tables = {"before": tables["records"], "after": records_table(after.manifest, after.classes)}
    columns = [name for table in tables.values() for name in table.column_names]
    found = answer(connected_to(**tables), sql, "the query", list(dict.fromkeys(columns)))
    plain = [column.cast(column.type.value_type) if _is_coded(column) else column for column in found.columns]
    return pa.table(plain, names=_told_apart(found.column_names))


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


def _hexadecimal(column: Any) -> Any:
    """Digests as text, as ids are written everywhere."""
    chunks = [_chunk_in_hexadecimal(chunk) for chunk in column.chunks]
    return pa.chunked_array(chunks, pa.string())


def _chunk_in_hexadecimal(chunk: Any) -> Any:
    width = chunk.type.byte_width
    content = memoryview(chunk.buffers()[1])[chunk.offset * width : (chunk.offset + len(chunk)) * width]
    edges = pa.py_buffer(np.arange(len(chunk) + 1, dtype=np.int32) * (2 * width))
    return pa.StringArray.from_buffers(len(chunk), edges, pa.py_buffer(bytes(content).hex().encode()))
