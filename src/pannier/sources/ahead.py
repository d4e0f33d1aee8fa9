"""Reading ahead: pictures that come from afar are asked for before they are wanted, many at once, within bounds."""

from __future__ import annotations

from collections import deque
from collections.abc import Iterable, Iterator
from concurrent.futures import Future, ThreadPoolExecutor

from pannier.sources.rows import FileStamp, Reads, Row, reads_at_once


class ReadAhead:
    """A source whose rows are read before they are asked for, as `rows` gives them out: of few bytes, in order.

    A context manager that ends its threads. Near by, where nothing is gained, it is the source as it is.
    """

    def __init__(self, source: Reads, most_bytes: int) -> None:
        self._source, self._most_bytes, self._at_once = source, most_bytes, reads_at_once(source)
        self._pool = ThreadPoolExecutor(self._at_once, thread_name_prefix="pannier-ahead") if self._at_once > 1 else None
        self._begun: dict[int, Future[bytes]] = {}

    def __enter__(self) -> ReadAhead:
        return self

    def __exit__(self, *_: object) -> None:
        if self._pool is not None:
            self._pool.shutdown(wait=True, cancel_futures=True)

    def rows(self, rows: Iterable[Row]) -> Iterator[Row]:
        """The same rows; those that are to come soon are being read."""
        if self._pool is None:
            yield from rows
            return
        waiting: deque[Row] = deque()
        begun_bytes = 0
        for row in rows:
            while waiting and (len(waiting) == self._at_once or begun_bytes + row.byte_count > self._most_bytes):
                begun_bytes -= waiting[0].byte_count
                yield waiting.popleft()
            if row.byte_count <= self._most_bytes:  # whoever wants a larger one looks first whether it may be read at all
                self._begun[row.number] = self._pool.submit(self._source.read, row)
            waiting.append(row)
            begun_bytes += row.byte_count
        yield from waiting

    def read(self, row: Row, most: int | None = None) -> bytes:
        """See `Source`."""
        begun = self._begun.pop(row.number, None)
        return self._source.read(row, most) if begun is None else begun.result()[:most]

    def file(self, row: Row) -> FileStamp | None:
        return self._source.file(row)
