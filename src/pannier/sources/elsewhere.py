"""Rows of a source for another process: plain data, with the paths of their files, or their bytes where they have none."""

from __future__ import annotations

import os
from collections.abc import Iterator
from dataclasses import dataclass
from itertools import islice

from pannier.columns import Rows
from pannier.errors import PannierError, PictureError
from pannier.executors import LEAST_PIECES
from pannier.kinds import LeftOutKind
from pannier.sources.checking import Checked, Checker, Checking
from pannier.sources.files import file_stamp, is_far, read_file
from pannier.sources.rows import Chosen, FileStamp, LeftOut, Row, Source
from pannier.storage.remote import IN_FLIGHT

# a piece is some seconds of work, and no more than this many bytes or rows
MOST_BYTES, MOST_ROWS = 64 << 20, 2_000
# so many rows are looked through for a file that is there
_SAMPLED = 1_000


@dataclass(frozen=True)
class RowsElsewhere:
    """Some rows: their numbers among those chosen, keys, sizes, and where each picture's bytes are. See `Reads`."""

    numbers: list[int]
    keys: list[str]
    byte_counts: list[int]
    contents: list[bytes | FileStamp | tuple[str, LeftOutKind]]

    @property
    def reads_at_once(self) -> int:
        files = (content.path for content in self.contents if isinstance(content, FileStamp))
        return IN_FLIGHT if any(map(is_far, files)) else 1

    def rows(self) -> Iterator[Row]:
        yield from map(Row, range(len(self.keys)), self.keys, self.byte_counts)

    def read(self, row: Row, most: int | None = None) -> bytes:
        content = self.contents[row.number]
        if isinstance(content, FileStamp):
            return read_file(content.path, content.byte_count, most)
        if isinstance(content, bytes):
            return content if most is None else content[:most]
        raise PictureError(*content)

    def file(self, row: Row) -> None:
        """Whoever gave the rows out remembers their files."""


def parted(source: Source, rows: Chosen, wanted: Rows) -> Iterator[tuple[RowsElsewhere, list[Row]]]:
    """Some of the chosen rows in pieces, each with its rows as the source knows them."""
    most = max(1, min(MOST_ROWS, -(-len(wanted) // LEAST_PIECES)))
    numbers, some, size = list[int](), list[Row](), 0

    def piece() -> tuple[RowsElsewhere, list[Row]]:
        contents = [_content(source, row) for row in some]
        return RowsElsewhere(numbers, [row.key for row in some], [row.byte_count for row in some], contents), some

    for number, row in zip(wanted.tolist(), rows.take(wanted).rows(source), strict=True):
        if some and (len(some) == most or size + row.byte_count > MOST_BYTES):
            yield piece()
            numbers, some, size = [], [], 0
        numbers.append(number)
        some.append(row)
        size += row.byte_count
    if some:
        yield piece()


def check_again(source: Source, rows: list[Row], how: Checking, worker: str) -> list[LeftOut]:
    """Looks here at pictures that a worker could not use: what is wrong with each, as this process sees it.

    A file that a worker does not see, or has no memory for, is no fault of the picture's. Raises PannierError, which names
    the worker and the file, where this process can use one of them.
    """
    if not rows:
        return []
    with Checker(source, how) as checker:
        outcomes = list(checker.check_all(iter(rows)))
    for row, outcome in zip(rows, outcomes, strict=True):
        if isinstance(outcome, Checked):
            file = source.file(row)
            name = os.fsdecode(file.path) if file is not None else row.key
            raise PannierError(
                f"the worker on {worker} cannot use {name!r}, which this process can: give it the same folders, as much "
                "memory and the same libraries, or take it away; nothing was committed, and the same command goes on"
            )
    return [outcome for outcome in outcomes if isinstance(outcome, LeftOut)]


def sample_files(source: Source, rows: Chosen, wanted: Rows) -> list[bytes]:
    """The first file on a disk that this process sees, of those that workers would read; none where they read none."""
    for row in islice(rows.take(wanted[:_SAMPLED]).rows(source), _SAMPLED):
        file = source.file(row)
        if file is not None and b"\0" not in file.path and not is_far(file.path) and file_stamp(file.path) is not None:
            return [file.path]
    return []


def _content(source: Source, row: Row) -> bytes | FileStamp | tuple[str, LeftOutKind]:
    """The file that a picture is, or its bytes where it is part of something else; or why it cannot be read."""
    file = source.file(row)
    if file is not None and b"\0" not in file.path:  # which a member of an archive is told by
        return file
    try:
        return source.read(row)
    except PictureError as error:
        return error.reason, error.kind
