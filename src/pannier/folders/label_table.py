"""The label table: key, file, label, number, split and side columns of records, as CSV or Parquet."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from itertools import chain
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa

from pannier.columns import NameColumn, Rows, as_cells, numbers_of
from pannier.files import TABLES, check_result, whole_file
from pannier.store.state import State

_ROWS_AT_ONCE = 1 << 18


def label_table(snapshot: State, rows: Rows, files: Sequence[str] | None = None) -> Any:
    """An Arrow table of those rows: key, file where files are given, label, its number, split, then the side columns."""
    manifest = snapshot.manifest
    table = manifest.take(rows, ["key", "label", "split", *manifest.side_columns])
    labels = NameColumn.of(table.column("label"))
    numbers = numbers_of(labels.codes, labels.names, snapshot.classes)
    columns: dict[str, Any] = {"key": table.column("key")}
    columns |= {} if files is None else {"file": pa.array(files, pa.string())}
    columns |= {"label": table.column("label").cast(pa.string()), "number": pa.array(numbers, mask=numbers < 0)}
    columns["split"] = table.column("split").cast(pa.string())
    return pa.table(columns | {name: table.column(name) for name in manifest.side_columns})


def write_label_table(snapshot: State, rows: Rows, path: str | Path, *, files: Sequence[str] | None = None) -> int:
    """Writes the table, some of its rows at a time: how many there are. Raises UsageError."""
    rows = np.asarray(rows, np.int64)
    some = [slice(at, at + _ROWS_AT_ONCE) for at in range(0, max(1, len(rows)), _ROWS_AT_ONCE)]
    write_tables((label_table(snapshot, rows[part], files and files[part]) for part in some), path)
    return len(rows)


def write_table(table: Any, path: str | Path) -> None:
    """Writes any Arrow table, whole or not at all, as its name ends, .csv or .parquet. Raises UsageError."""
    write_tables([table], path)


def write_tables(tables: Iterable[Any], path: str | Path) -> None:
    """Writes Arrow tables of one schema as one file, as `write_table` does."""
    from pyarrow import csv, parquet

    check_result(path, TABLES)
    is_csv = Path(path).suffix.lower() == ".csv"
    writer: Callable[..., Any] = csv.CSVWriter if is_csv else parquet.ParquetWriter
    coming = (as_cells(table) if is_csv else table for table in tables)
    first = next(coming)
    with whole_file(path) as draft, writer(draft, first.schema) as file:
        for table in chain([first], coming):
            file.write_table(table)
