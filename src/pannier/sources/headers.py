"""What the headers of pictures say, as columns that rules may name: read only where one does."""

from __future__ import annotations

import re
from concurrent.futures import ThreadPoolExecutor
from typing import Any

import pyarrow as pa

from pannier.errors import PictureError
from pannier.images.facts import Facts, format_of, read_facts, time_taken
from pannier.machine import usable_cores
from pannier.sources.rows import Row, Source

SCHEMA = pa.schema(
    [
        ("width", pa.int64()),
        ("height", pa.int64()),
        ("format", pa.string()),
        ("mode", pa.string()),
        ("taken", pa.timestamp("us")),
    ]
)

# most headers lie within so many bytes; where they do not, the whole file is read
HEAD_BYTES = 1 << 16
# formats that say nothing of the picture after its pixels
_HEADED = ("jpeg", "gif", "bmp", "ppm")
_ROWS_A_TASK = 256


def header_columns_in(expression: str, there: list[str]) -> list[str]:
    """The columns that an SQL expression names, of those that headers give and the table does not have."""
    plain = re.sub(r"'[^']*'", "''", expression)
    words = {word.lower() for word in re.findall(r"[A-Za-z_][A-Za-z0-9_]*(?!\s*\()", plain)}
    return [name for name in SCHEMA.names if name in words and name not in there]


def read_header(source: Source, row: Row) -> tuple[Facts, bytes]:
    """The facts of a picture and the bytes they are from, reading no more of it than they take. Raises PictureError."""
    head = source.read(row, HEAD_BYTES)
    if len(head) == HEAD_BYTES:
        if format_of(head) in _HEADED:
            try:
                return read_facts(head), head
            except PictureError:
                pass
        head = source.read(row)
    return read_facts(head), head


def header_table(source: Source, rows: list[Row], names: list[str]) -> Any:
    """Those columns for those rows, in parallel; NULL where a header cannot be read."""
    tasks = [rows[at : at + _ROWS_A_TASK] for at in range(0, len(rows), _ROWS_A_TASK)]
    with_time = "taken" in names
    with ThreadPoolExecutor(usable_cores(), thread_name_prefix="pannier-headers") as pool:
        parts = pool.map(lambda task: [_values(source, row, with_time) for row in task], tasks)
        values = [each for part in parts for each in part]
    return pa.Table.from_pylist([dict(zip(SCHEMA.names, row, strict=True)) for row in values], SCHEMA).select(names)


def _values(source: Source, row: Row, with_time: bool) -> tuple[Any, ...]:
    try:
        facts, data = read_header(source, row)
    except PictureError:
        return (None,) * len(SCHEMA)
    return (facts.width, facts.height, facts.format, facts.mode, time_taken(data, facts.format) if with_time else None)
