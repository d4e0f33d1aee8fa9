"""What the headers of pictures say, as columns that rules may name: read only where one does."""

from __future__ import annotations

import hashlib
import re
from collections import deque
from collections.abc import Iterator
from concurrent.futures import Future, ThreadPoolExecutor
from itertools import islice
from typing import Any

import pyarrow as pa

from pannier.errors import PictureError
from pannier.hashing import crc32_of
from pannier.images.facts import Facts, check_pixels, format_of, is_animated, read_facts, time_taken
from pannier.machine import usable_cores
from pannier.sources.checking import Checked, Checking, refuse_file
from pannier.sources.rows import LeftOut, Row, Source, reads_at_once

_TYPES = {"width": pa.int64(), "height": pa.int64(), "format": pa.string(), "mode": pa.string()}
SCHEMA = pa.schema({**_TYPES, "taken": pa.timestamp("us")})

# most headers lie within so many bytes; where they do not, the whole file is read
HEAD_BYTES = 1 << 16
# formats that say nothing of the picture after its pixels
_HEADED = ("jpeg", "gif", "bmp", "ppm")
_ROWS_A_TASK, _ROWS_A_FAR_TASK = 256, 8


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
    step = _rows_a_task(source)
    tasks = [rows[at : at + step] for at in range(0, len(rows), step)]
    with_time = "taken" in names
    threads = max(usable_cores(), reads_at_once(source))
    with ThreadPoolExecutor(threads, thread_name_prefix="pannier-headers") as pool:
        parts = pool.map(lambda task: [_values(source, row, with_time) for row in task], tasks)
        values = [each for part in parts for each in part]
    return pa.Table.from_pylist([dict(zip(SCHEMA.names, row, strict=True)) for row in values], SCHEMA).select(names)


def _rows_a_task(source: Source) -> int:
    return _ROWS_A_TASK if reads_at_once(source) == 1 else _ROWS_A_FAR_TASK


def _values(source: Source, row: Row, with_time: bool) -> tuple[Any, ...]:
    try:
        facts, data = read_header(source, row)
    except PictureError:
        return (None,) * len(SCHEMA)
    return (facts.width, facts.height, facts.format, facts.mode, time_taken(data, facts.format) if with_time else None)


class HeaderReader:
    """Checks pictures by their headers alone, in parallel, in order; nothing is said of their pixels.

    Nothing is hashed whole: in place of a picture's CRC-32 stands that of the bytes that were read, SHA-256 is all zeros.
    `digests` hashes those that may be doubles. Not many pictures are held at once.
    """

    def __init__(self, source: Source, how: Checking) -> None:
        self._source, self._workers, self._how = source, max(how.workers, reads_at_once(source)), how

    def check_all(self, rows: Iterator[Row]) -> Iterator[list[Checked | LeftOut]]:
        """What became of every row, run by run."""
        runs = iter(lambda: list(islice(rows, _rows_a_task(self._source))), [])
        waiting: deque[Future[list[Checked | LeftOut]]] = deque()
        with self._pool() as pool:
            for run in runs:
                waiting.append(pool.submit(self._check_run, run))
                if len(waiting) > 2 * self._workers:
                    yield waiting.popleft().result()
            while waiting:
                yield waiting.popleft().result()

    def digests(self, rows: list[Row]) -> Iterator[bytes | None]:
        """SHA-256 of the files of some rows, None for one that is not to be read any more."""
        with self._pool() as pool:
            yield from pool.map(self._digest, rows)

    def _pool(self) -> ThreadPoolExecutor:
        return ThreadPoolExecutor(self._workers, thread_name_prefix="pannier-headers")

    def _check_run(self, rows: list[Row]) -> list[Checked | LeftOut]:
        return [self._check(row) for row in rows]

    def _check(self, row: Row) -> Checked | LeftOut:
        try:
            refuse_file(row, self._how.most_decoding_bytes)
            facts, data = read_header(self._source, row)
            check_pixels(facts, self._how.max_pixels)
        except PictureError as error:
            return LeftOut(row.key, error.kind, error.reason)
        animated = is_animated(data, facts.format)
        size = row.byte_count or len(data)
        return Checked(row, bytes(32), crc32_of(data), size, facts, 0, None, is_animated=animated)

    def _digest(self, row: Row) -> bytes | None:
        try:
            return hashlib.sha256(self._source.read(row)).digest()
        except PictureError:
            return None
