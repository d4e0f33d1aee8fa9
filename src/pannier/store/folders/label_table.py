"""The label table: key, file, label, number, split and side columns of records, as CSV or Parquet."""

from __future__ import annotations

import os
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
import pyarrow as pa

from pannier.columns import Rows
from pannier.errors import UsageError

if TYPE_CHECKING:
    from pannier.store.snapshot import Snapshot


def label_table(snapshot: Snapshot, rows: Rows, files: Sequence[str] | None = None) -> Any:
    """An Arrow table of those rows: key, file where files are given, label, its number, split, then the side columns."""
    manifest = snapshot.manifest
    table = manifest.take(rows, ["key", "label", "split", *manifest.side_columns])
    labels = table.column("label").cast(pa.string())
    numbers = [snapshot.class_numbers.get(label) if label is not None else None for label in labels.to_pylist()]
    columns: dict[str, Any] = {"key": table.column("key")}
    columns |= {} if files is None else {"file": pa.array(files, pa.string())}
    columns |= {"label": labels, "number": pa.array(numbers, pa.int64()), "split": table.column("split").cast(pa.string())}
    return pa.table(columns | {name: table.column(name) for name in manifest.side_columns})


def write_label_table(snapshot: Snapshot, rows: Rows, path: str | Path, *, files: Sequence[str] | None = None) -> int:
    """Writes the table, whole or not at all, as its name ends, .csv or .parquet: how many rows. Raises UsageError."""
    target = Path(path)
    table = label_table(snapshot, np.asarray(rows, np.int64), files)
    draft = target.with_name(f".{target.name}.new")
    if target.suffix.lower() == ".csv":
        from pyarrow import csv

        csv.write_csv(table, draft)
    elif target.suffix.lower() == ".parquet":
        from pyarrow import parquet

        parquet.write_table(table, draft)
    else:
        raise UsageError(f"{path}: a label table is written as .csv or .parquet")
    os.replace(draft, target)
    return len(table)
