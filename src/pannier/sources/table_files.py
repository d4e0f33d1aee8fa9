"""Tables as people have them: any encoding and separator, stray blanks, empty cells; typed where every value agrees."""

from __future__ import annotations

import csv
import io
import re
import tempfile
import zipfile
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from pannier.columns import Rows, from_cells, from_frame
from pannier.errors import SourceError, UsageError
from pannier.machine import free_memory_bytes
from pannier.sources.bounds import Unpacking, refuse_beyond

# cells that mean nothing, as they are said: "NULL,n/a,-", or a list
Nulls = str | Sequence[str]

SEPARATORS = (",", ";", "\t", "|")
ENDINGS = {
    **dict.fromkeys((".csv", ".tsv", ".tab", ".txt"), "text"),
    **dict.fromkeys((".jsonl", ".ndjson"), "json"),
    **{".parquet": "parquet"},
    **dict.fromkeys((".xlsx", ".xls", ".ods"), "excel"),
}

_SAMPLE_LINES = 200
_SAMPLE_CHARACTERS = 1 << 16
_UNPACKED_AT_ONCE = 16
_PROBED_VALUES = 1000
# how much memory a byte of a file comes to while it is read, and a value of a column
_TIMES = {"text": 8, "json": 8, "excel": 30}
_BYTES_A_VALUE = 8
_BLANK = re.compile(r"\n\r?\n")
_WHOLE = r"^[+-]?(0|[1-9][0-9]*)$"
_FRACTION = r"^[+-]?((0|[1-9][0-9]*)(\.[0-9]*)?|\.[0-9]+)([eE][+-]?[0-9]+)?$"
_DAY = r"^[0-9]{4}-[0-9]{2}-[0-9]{2}$"
_MOMENT = r"^[0-9]{4}-[0-9]{2}-[0-9]{2}[T ][0-9]{2}:[0-9]{2}(:[0-9]{2}(\.[0-9]{1,6})?)?$"

# what text may stand for: how it looks, the type that it gets, what that is called
KINDS = (
    (_WHOLE, pa.int64(), "whole numbers"),
    (_FRACTION, pa.float64(), "numbers"),
    (_DAY, pa.date32(), "dates"),
    (_MOMENT, pa.timestamp("us"), "times"),
)


@dataclass
class ReadTable:
    """A table, what was found of how it is written, and the rows that are left out of it: (number, reason).

    `stray_blanks` counts by column the cells from which blanks were taken off. `header_rows`: 1 where the first row of the
    file names the columns; `blank`: the numbers of rows without a cell.
    """

    table: Any
    notes: list[str] = field(default_factory=list)
    malformed: list[tuple[int, str]] = field(default_factory=list)
    stray_blanks: dict[str, int] = field(default_factory=dict)
    header_rows: int = 0
    blank: list[int] = field(default_factory=list)

    @cached_property
    def numbers(self) -> Rows:
        """By row its number as a spreadsheet shows it: from 1, header and blank rows counted, a cell's line breaks not."""
        missing = np.array(sorted({*self.blank, *(number for number, _ in self.malformed)}), np.int64)
        first = self.header_rows + 1
        return np.setdiff1d(np.arange(first, first + len(self.table) + len(missing)), missing)


def read_table(
    path: Path,
    *,
    encoding: str | None = None,
    separator: str | None = None,
    null: Nulls = (),
    most_bytes: int | None = None,
) -> ReadTable:
    """A table file by its ending; `null` are cells that mean nothing, beside empty ones.

    most_bytes: of memory that it may take; by default half of what is free. Raises SourceError where it cannot be read, or
    takes more, UsageError for an unknown ending.
    """
    kind = ENDINGS.get(path.suffix.lower())
    if kind is None:
        raise UsageError(f"{path} is no table by its ending: {', '.join(ENDINGS)} are read")
    most = most_bytes if most_bytes is not None else free_memory_bytes() // 2
    readers: dict[str, Callable[[], ReadTable]] = {
        "text": lambda: _read_text(path, encoding, separator, null_tokens(null)),
        "json": lambda: tidied(_read_json(path), null),
        "parquet": lambda: _read_parquet(path, null, most),
        "excel": lambda: replace(tidied(_read_excel(path), null), header_rows=1),
    }
    try:
        refuse_beyond(most, _bytes_to_read(path, kind), path)
        table = readers[kind]()
        table.table.validate(full=True)  # that texts are UTF-8, which its writer may not have seen to
    except (pa.ArrowException, OSError, UnicodeError, csv.Error) as error:
        raise SourceError(f"{path} cannot be read as a table: {_line(error)}") from error
    if not table.table.num_columns or not len(table.table):
        raise SourceError(f"{path} holds no rows")
    return table


def null_tokens(said: Nulls) -> list[str]:
    """The cells that mean nothing, from "NULL,n/a,-" or a list."""
    tokens = said.split(",") if isinstance(said, str) else said
    return sorted({"", *(token.strip() for token in tokens)})


def tidied(table: Any, null: Nulls = ()) -> ReadTable:
    """Stray blanks around names and text are taken off; empty text, and the cells `null`, are NULL.

    Raises SourceError for names twice.
    """
    names = [name.strip() for name in table.column_names]
    twice = sorted({name for name in names if names.count(name) > 1})
    if twice:
        raise SourceError(f"the table has two columns {twice[0]!r}: rename one of them")
    changed = [name for name, before in zip(names, table.column_names, strict=True) if name != before]
    notes = [f"blanks taken off the names of {', '.join(changed)}"] if changed else []
    columns, stray = {}, {}
    for name, column in zip(names, table.columns, strict=True):
        columns[name], stray[name] = _tidied(column, null_tokens(null))
    return ReadTable(pa.table(columns), notes, stray_blanks={name: count for name, count in stray.items() if count})


def _tidied(column: Any, null: list[str]) -> tuple[Any, int]:
    """A column without stray blanks, and how many cells had some."""
    if pa.types.is_dictionary(column.type) and pa.types.is_string(column.type.value_type):
        column = column.cast(pa.string())
    if not (pa.types.is_string(column.type) or pa.types.is_large_string(column.type)):
        return column, 0
    stripped = pc.utf8_trim_whitespace(column)
    stray = pc.sum(pc.not_equal(stripped, column)).as_py() or 0
    is_nothing = pc.is_in(stripped, value_set=pa.array(null, stripped.type))
    return pc.if_else(is_nothing, pa.scalar(None, stripped.type), stripped), stray


def _read_text(path: Path, encoding: str | None, separator: str | None, null: list[str]) -> ReadTable:
    from pyarrow import csv as arrow_csv

    if separator and len(separator) != 1:
        raise UsageError(f"`separator` {separator!r}: one character parts the cells")
    content = path.read_bytes()
    text, used = _decoded(content, encoding)
    notes = [] if used == "utf-8" else [f"read as {used}"]
    lines = [line[:_SAMPLE_CHARACTERS] for line in text.splitlines()[:_SAMPLE_LINES]]  # cells may be of any length
    separator = separator or _separator_of(path, lines)
    if separator != ",":
        notes.append(f"columns parted by {'tabs' if separator == chr(9) else repr(separator)}")
    header = next(csv.reader(lines, delimiter=separator), [])
    if not header:
        raise SourceError(f"{path} holds no rows")
    names = [name.strip() or f"column{i}" for i, name in enumerate(header, 1)]
    changed = [name for name, before in zip(names, header, strict=True) if name != before]
    notes += [f"blanks taken off the names of {', '.join(changed)}"] if changed else []
    if len(set(names)) < len(names):
        raise SourceError(f"{path} has two columns {max(names, key=names.count)!r}: rename one of them")
    malformed: list[tuple[int, str]] = []
    blank = _blank_rows(text, separator)

    def leave_out(row: Any) -> str:
        malformed.append(
            (_shifted(row.number, blank), f"it has {row.actual_columns} cells where the header has {row.expected_columns}")
        )
        return "skip"

    table = arrow_csv.read_csv(
        io.BytesIO(text.encode()),
        arrow_csv.ReadOptions(use_threads=False, skip_rows=1, column_names=names, block_size=_block_of(text)),
        arrow_csv.ParseOptions(delimiter=separator, invalid_row_handler=leave_out, newlines_in_values=True),
        arrow_csv.ConvertOptions(column_types=dict.fromkeys(names, pa.large_string()), strings_can_be_null=False),
    )
    read = tidied(from_cells(table), null)
    typed = pa.table({name: _typed(read.table.column(name)) for name in names})
    return ReadTable(typed, notes, malformed, read.stray_blanks, 1, blank)


def _blank_rows(text: str, separator: str) -> list[int]:
    """The numbers of rows without a cell, which are read as nothing."""
    if not _BLANK.search(text):
        return []
    try:
        rows = csv.reader(io.StringIO(text, newline=""), delimiter=separator)
        return [number for number, row in enumerate(rows, 1) if not row]
    except csv.Error:  # a cell of more characters than it takes
        return []


def _shifted(number: int, blank: list[int]) -> int:
    """The number of a row of which the blank ones before were not counted."""
    for each in blank:
        number += each <= number
    return number


def _block_of(text: str) -> int:
    """How many bytes are parsed at once: a row must lie in one block, however long its cells are."""
    longest = max(map(len, text.splitlines()), default=0)
    return 64 << 20 if longest < 1 << 20 else min(2 * len(text.encode()) + 1024, (1 << 31) - 1)


def _decoded(content: bytes, encoding: str | None) -> tuple[str, str]:
    """The text, and how it was encoded: as said, by its mark, as UTF-8, else as Windows writes western languages."""
    if encoding:
        try:
            return content.decode(encoding), encoding
        except LookupError:
            raise UsageError(f"`encoding` {encoding!r}: there is no such encoding") from None
    for mark, name in ((b"\xef\xbb\xbf", "utf-8"), (b"\xff\xfe", "utf-16"), (b"\xfe\xff", "utf-16")):
        if content.startswith(mark):
            return content.decode("utf-8-sig" if name == "utf-8" else name), name
    for name in ("utf-8", "cp1252"):
        try:
            return content.decode(name), name
        except UnicodeDecodeError:
            continue
    return content.decode("latin-1"), "latin-1"


def _separator_of(path: Path, lines: list[str]) -> str:
    """The separator that parts the header and the most lines after it into equally many cells, more than one."""
    if path.suffix.lower() in (".tsv", ".tab"):
        return "\t"

    def agreement(separator: str) -> tuple[int, int]:
        counts = [len(row) for row in csv.reader(lines, delimiter=separator, skipinitialspace=True) if row]
        return (sum(count == counts[0] for count in counts), counts[0]) if counts and counts[0] > 1 else (0, 0)

    return max(SEPARATORS, key=agreement)


def _typed(column: Any) -> Any:
    """Text as whole numbers, fractions, days or moments, where every value is one; codes with leading zeros stay text."""
    values = column.drop_null()
    if not len(values):
        return column
    for pattern, kind, _ in KINDS:
        probe = values[:_PROBED_VALUES]  # most text is seen to be none of them by its first values
        if all(pc.all(pc.match_substring_regex(each, pattern)).as_py() for each in (probe, values)):
            try:
                return column.cast(kind)
            except pa.ArrowInvalid:
                return column  # as 2024-02-31, or more digits than a number holds
    return column


def _read_json(path: Path) -> Any:
    from pyarrow import json

    return json.read_json(path)


def _bytes_to_read(path: Path, kind: str) -> int:
    """About what reading a file takes; of Parquet its own reader tells."""
    if kind != "excel":
        return _TIMES.get(kind, 0) * path.stat().st_size
    try:
        with zipfile.ZipFile(path) as parts:
            return _TIMES[kind] * sum(part.file_size for part in parts.infolist())
    except zipfile.BadZipFile:  # as Excel wrote before 2007
        return _TIMES[kind] * path.stat().st_size


def _read_parquet(path: Path, null: Nulls, most: int) -> ReadTable:
    """Where it holds pictures, they are unpacked to a temporary file and mapped from there: read at random, never held."""
    from pyarrow import parquet

    # not buffered ahead: what is unpacked of a row group at a time is held, nothing beside it
    with parquet.ParquetFile(path, memory_map=True, pre_buffer=False) as file:
        groups = [file.metadata.row_group(number) for number in range(file.metadata.num_row_groups)]
        chunks = [[group.column(number) for number in range(group.num_columns)] for group in groups]
        sizes = [sum(_chunk_bytes(chunk) for chunk in group) for group in chunks]
        is_held = not any(holds_bytes(field.type) for field in file.schema_arrow)
        refuse_beyond(most, sum(sizes) if is_held else max(sizes, default=0), path)
        if is_held:
            return tidied(_with_texts(file, path, most), null)
        unpacking = Unpacking(path, path.stat().st_size)
        with tempfile.NamedTemporaryFile(suffix=".arrow") as unpacked:
            with pa.ipc.new_file(unpacked.name, file.schema_arrow) as writer:
                for batch in file.iter_batches(batch_size=_UNPACKED_AT_ONCE, use_threads=False):
                    unpacking.count(batch.nbytes)
                    writer.write_batch(batch)
            with pa.memory_map(unpacked.name) as mapped:  # the map outlives the file's name
                return tidied(pa.ipc.open_file(mapped).read_all(), null)


def _chunk_bytes(chunk: Any) -> int:
    """What a column of a row group takes: its values, and its pages unpacked and not yet parted."""
    return _BYTES_A_VALUE * int(chunk.num_values) + 2 * int(chunk.total_uncompressed_size)


def _with_texts(file: Any, path: Path, most: int) -> Any:
    """All of a Parquet file; a text that is kept once for many rows is written out only where that fits."""
    from pyarrow import parquet

    texts = [field.name for field in file.schema_arrow if pa.types.is_string(field.type)]
    table = parquet.read_table(path, read_dictionary=texts, memory_map=True, pre_buffer=False)
    total = 0
    for column in table.columns:
        for chunk in column.chunks:
            if pa.types.is_dictionary(chunk.type):
                lengths = pc.fill_null(pc.binary_length(chunk.dictionary).take(chunk.indices), 0)
                total += pc.sum(lengths.cast(pa.int64())).as_py() or 0
    refuse_beyond(most, 2 * total, path)
    return table.cast(file.schema_arrow)


def holds_bytes(kind: Any) -> bool:
    """Whether a column's values are bytes, or structs with some."""
    if pa.types.is_struct(kind):
        return any(is_bytes(kind.field(i).type) for i in range(kind.num_fields))
    return is_bytes(kind)


def is_bytes(kind: Any) -> bool:
    return bool(pa.types.is_binary(kind) or pa.types.is_large_binary(kind))


def _read_excel(path: Path) -> Any:
    try:
        import pandas

        frame = pandas.read_excel(path)
    except ImportError as error:
        missing = f"{path}: reading it needs {error.name or 'openpyxl'}"
        raise UsageError(f"{missing}: pip install pandas openpyxl, or save the table as CSV") from None
    except Exception as error:  # its readers raise what the damaged bytes happen to provoke
        raise SourceError(f"{path} cannot be read as a table: {_line(error)}") from error
    return from_frame(frame)


def _line(error: BaseException) -> str:
    return re.sub(r"\s+", " ", str(error)).strip()[:200] or type(error).__name__
