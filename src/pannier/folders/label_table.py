"""The label table: key, file, label, number, split and side columns of records, as CSV or Parquet."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa

from pannier.columns import Rows
from pannier.errors import UsageError
from pannier.files import whole_file
from pannier.store.state import State


def label_table(snapshot: State, rows: Rows, files: Sequence[str] | None = None) -> Any:
    """An Arrow table of those rows: key, file where files are given, label, its number, split, then the side columns."""
    manifest = snapshot.manifest
    table = manifest.take(rows, ["key", "label", "split", *manifest.side_columns])
    labels = table.column("label").cast(pa.string())
    numbers = [snapshot.class_numbers.get(label) if label is not None else None for label in labels.to_pylist()]
    columns: dict[str, Any] = {"key": table.column("key")}
    columns |= {} if files is None else {"file": pa.array(files, pa.string())}
    columns |= {"label": labels, "number": pa.array(numbers, pa.int64()), "split": table.column("split").cast(pa.string())}
    return pa.table(columns | {name: table.column(name) for name in manifest.side_columns})


def write_label_table(snapshot: State, rows: Rows, path: str | Path, *, files: Sequence[str] | None = None) -> int:
    """Writes the table: how many rows. Raises UsageError."""
    write = _writer(path)
    table = label_table(snapshot, np.asarray(rows, np.int64), files)
    write(table)
    return len(table)


def write_table(table: Any, path: str | Path) -> None:
    """Writes any Arrow table, whole or not at all, as its name ends, .csv or .parquet. Raises UsageError."""
    _writer(path)(table)


def _writer(path: str | Path) -> Callable[[Any], None]:
    from pyarrow import csv, parquet

    writers: dict[str, Callable[[Any, Any], None]] = {".csv": csv.write_csv, ".parquet": parquet.write_table}
    write = writers.get(Path(path).suffix.lower())
    if write is None:
        raise UsageError(f"{path}: a table is written as .csv or .parquet")

    def whole(table: Any) -> None:
        with whole_file(path) as draft:
            write(table, draft)

    return whole
