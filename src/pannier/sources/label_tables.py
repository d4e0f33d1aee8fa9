"""Labels from a table beside the pictures: rows and pictures are matched by path, name or stem, as is found to fit."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterator
from contextlib import nullcontext
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa

from pannier.columns import Rows
from pannier.errors import SourceError
from pannier.sources.files import here
from pannier.sources.picture_columns import USUAL_LABELS
from pannier.sources.rows import FileStamp, LeftOut, Row, Source, reads_at_once
from pannier.sources.table_files import Nulls, read_table
from pannier.sources.tables import table_from
from pannier.storage.objects import is_in_bucket

# what is compared of a picture's path and of a table's cell, the most telling first
WAYS: dict[str, Callable[[str], str]] = {
    "path": lambda text: text,
    "path without ending": lambda text: _without_ending(text),
    "name": lambda text: text.rpartition("/")[2],
    "stem": lambda text: _without_ending(text.rpartition("/")[2]),
    "stem without leading zeros": lambda text: _without_ending(text.rpartition("/")[2]).lstrip("0") or "0",
}
# fewer matches than this share of the table's rows are chance
LEAST_SHARE = 0.5


@dataclass(frozen=True)
class Match:
    """How a table's rows are told by pictures: by which column, compared how; `row_of` the rows of pictures, -1: none."""

    column: str
    way: str
    row_of: Rows

    @property
    def count(self) -> int:
        return int((self.row_of >= 0).sum())


class LabelledSource:
    """A source whose rows have the columns of a table more. Rows of the table that no picture has are told in `passed`."""

    def __init__(self, source: Source, table: Any, name: str) -> None:
        self._source, self._match = source, best_match(table, source.keys(), name)
        column, way, row_of = self._match.column, self._match.way, self._match.row_of
        self._table, rows = source.table(), pa.array(row_of, mask=row_of < 0)
        for each in table.column_names:
            own = f"{each}_in_labels" if each in self._table.column_names else each
            self._table = self._table.append_column(own, table.column(each).take(rows))
        self.name, self.fixed_splits = source.name, source.fixed_splits
        self.reads_at_once = reads_at_once(source)
        self.notes = [f"{name}: {self._match.count:,} of {len(table):,} rows fit a picture, {column} by its {way}"]
        without = table.column(column).take(pa.array(np.setdiff1d(np.arange(len(table)), row_of))).to_pylist()
        reason = f"{name} names it, and no picture is called so"
        self.passed = [*source.passed, *(LeftOut(str(cell), "missing", reason) for cell in without)]

    @property
    def default_label(self) -> str | None:
        return next((name for name in USUAL_LABELS if name in self._table.column_names), self._source.default_label)

    def table(self) -> Any:
        return self._table

    def keys(self) -> Any:
        return self._source.keys()

    def byte_counts(self, numbers: Any) -> Any:
        return self._source.byte_counts(numbers)

    def read(self, row: Row, most: int | None = None) -> bytes:
        return self._source.read(row, most)

    def file(self, row: Row) -> FileStamp | None:
        return self._source.file(row)


def with_labels(source: Source, labels: Any, null: Nulls = ()) -> LabelledSource:
    """The source with the columns of a table file, a data frame or dicts. Raises SourceError where no column fits."""
    if not isinstance(labels, (str, Path)):
        return LabelledSource(source, table_from(labels, null).table, "the table of labels")
    with here(str(labels)) if is_in_bucket(labels) else nullcontext(Path(labels)) as file:
        return LabelledSource(source, read_table(file, null=null).table, file.name)


def best_match(table: Any, keys: Any, name: str) -> Match:
    """The column and the way by which most rows fit one picture each. Raises SourceError where none fits half of them."""
    best = fitting(table, keys)
    if best is None or best.count < max(1, LEAST_SHARE * min(len(table), len(keys))):
        found = (
            "" if best is None else f"; nearest is {best.column!r}, whose {best.way} fits {best.count:,} of {len(table):,}"
        )
        raise SourceError(f"`labels` {name}: no column tells which picture a row is for, by path, name or stem{found}")
    return best


def fitting(table: Any, keys: Any) -> Match | None:
    """The column and the way by which most rows fit one picture each; None where no row fits any."""
    matches = (match for match in _matches(table, keys.to_pylist()) if match.count)
    return max(matches, key=lambda match: match.count, default=None)  # the first of equal ones is the most telling


def _matches(table: Any, paths: list[str]) -> Iterator[Match]:
    texts = {
        column: [None if value is None else str(value).replace("\\", "/").removeprefix("./") for value in values.to_pylist()]
        for column, values in zip(table.column_names, table.columns, strict=True)
        if pa.types.is_string(values.type) or pa.types.is_large_string(values.type) or pa.types.is_integer(values.type)
    }
    for way, shown in WAYS.items():
        of_paths = [shown(path) for path in paths]
        once = {text for text, count in Counter(of_paths).items() if count == 1}
        for column, cells in texts.items():
            rows = Counter(shown(cell) for cell in cells if cell is not None)
            row_of = {shown(cell): row for row, cell in enumerate(cells) if cell is not None and rows[shown(cell)] == 1}
            found = [row_of.get(text, -1) if text in once else -1 for text in of_paths]
            yield Match(column, way, np.array(found, np.int64))


def _without_ending(text: str) -> str:
    folder, slash, name = text.rpartition("/")
    stem, dot, _ = name.rpartition(".")
    return folder + slash + (stem if dot and stem else name)
