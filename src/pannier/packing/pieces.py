"""Pieces: the reading, checking and storing of a pack, parted among the workers of an executor.

A piece is plain data: rows that were chosen, with the paths of their files, or their bytes where they have none. Whoever
does it opens the store by its address, writes shards, and gives back what is known of the pictures, some 75 bytes each. What
is made of them, the deal and the snapshot, is one commit, where the pack was called.
"""

from __future__ import annotations

from collections.abc import Iterator
from concurrent.futures import FIRST_COMPLETED, BrokenExecutor, Executor, Future, wait
from dataclasses import dataclass
from typing import Any

from pannier.choices import Progress
from pannier.columns import Rows
from pannier.errors import PannierError, PictureError, UsageError
from pannier.images.facts import Facts
from pannier.kinds import LeftOutKind
from pannier.packing.ingest import Ingested, Ingesting, IntoShard, recalled
from pannier.packing.seen import Seen
from pannier.sources.checking import Checked, Checking
from pannier.sources.files import is_far, read_file
from pannier.sources.rows import Chosen, FileStamp, LeftOut, Row, Source
from pannier.storage.cache import CacheOptions
from pannier.storage.opening import cache_options
from pannier.storage.remote import IN_FLIGHT
from pannier.store.index import restore_segments
from pannier.store.leases import WRITER, holding
from pannier.store.miniatures import KeptMiniatures
from pannier.store.state import OpenedStore, open_store

# a piece is some seconds of work, and no more than this many bytes or rows
MOST_BYTES, MOST_ROWS = 64 << 20, 2_000
# of a small source every worker gets some
LEAST_PIECES = 16
# so many are given out at once: plain data waits for a worker, not the other way round
GIVEN_OUT = 64
# a piece whose worker died is done by another, so often
TRIES = 3


@dataclass(frozen=True)
class Piece:
    """Rows for one worker: their numbers among those chosen, keys, sizes, and where each picture's bytes are."""

    address: str
    cache: CacheOptions | None
    numbers: list[int]
    keys: list[str]
    byte_counts: list[int]
    contents: list[bytes | FileStamp | tuple[str, LeftOutKind]]
    how: Checking
    shard_bytes: int


@dataclass(frozen=True)
class Done:
    """What became of a piece: its pictures as an Arrow table of facts, by row; and those that cannot be used."""

    pictures: Any
    left_out: list[LeftOut]
    new_pictures: int
    new_bytes: int


class _Rows:
    """See `Source`, as far as reading goes: the rows of one piece."""

    def __init__(self, piece: Piece) -> None:
        self._piece = piece
        files = (content.path for content in piece.contents if isinstance(content, FileStamp))
        self.reads_at_once = IN_FLIGHT if any(map(is_far, files)) else 1

    def read(self, row: Row, most: int | None = None) -> bytes:
        content = self._piece.contents[row.number]
        if isinstance(content, FileStamp):
            return read_file(content.path, content.byte_count, most)
        if isinstance(content, bytes):
            return content if most is None else content[:most]
        raise PictureError(*content)

    def file(self, row: Row) -> None:
        """Whoever gave the piece out remembers its files."""


def bring_in(piece: Piece) -> Done:
    """Does a piece, under a writer's lease of its own. For any process that reaches the store, and the files."""
    store = open_store(piece.address, piece.cache)
    with holding(store.storage, WRITER):
        store.index.refresh()
        miniatures = KeptMiniatures(store.storage, store.index)
        ingesting = Ingesting(store, None, miniatures, piece.shard_bytes, lambda _: IntoShard(store.storage))
        rows = map(Row, range(len(piece.keys)), piece.keys, piece.byte_counts)
        done = ingesting.take_in(_Rows(piece), zip(piece.numbers, rows, strict=True), piece.how)
    return Done(done.pictures.table(), done.left_out, done.new_pictures, done.new_bytes)


def ingest_by(
    executor: Executor,
    store: OpenedStore,
    source: Source,
    rows: Chosen,
    how: Checking,
    seen: Seen,
    shard_bytes: int,
    progress: Progress | None = None,
) -> Ingested:
    """As `ingest`, the work done by an executor's workers. A picture that is in two pieces at once is stored by both, until
    the store is tidied. Raises PannierError where workers die again and again, and whatever stopped one."""
    if store.storage.address.startswith("memory:"):
        raise UsageError("a store in memory is in this process alone: workers of an executor cannot write to it")
    restore_segments(store.storage)
    store.index.refresh()
    result = Ingested()
    rest = recalled(store.index, source, rows, seen, result)
    done_rows, waiting = len(rows) - len(rest), dict[Future[Done], tuple[Piece, list[Row], int]]()
    pieces = _pieces(store, source, rows, rest, how, shard_bytes)
    try:
        while True:
            while len(waiting) < GIVEN_OUT and (given := next(pieces, None)) is not None:
                waiting[executor.submit(bring_in, given[0])] = (*given, 1)
            if not waiting:
                break
            for future in wait(waiting, return_when=FIRST_COMPLETED).done:
                piece, of_source, tries = waiting.pop(future)
                try:
                    done = future.result()
                except PannierError:
                    raise
                except (BrokenExecutor, OSError, RuntimeError) as error:  # its worker died
                    if tries == TRIES or isinstance(error, BrokenExecutor):
                        raise PannierError(f"workers of the executor die: {error or type(error).__name__}") from error
                    waiting[executor.submit(bring_in, piece)] = (piece, of_source, tries + 1)
                    continue
                _take(source, piece, of_source, done, result, seen)
                done_rows += len(piece.numbers)
                if progress:
                    progress(done_rows, len(rows))
    finally:
        for future in waiting:
            future.cancel()
    restore_segments(store.storage)  # a worker may have died between a shard and its index
    store.index.refresh()
    seen.flush(at_end=True)
    return result


def _pieces(
    store: OpenedStore, source: Source, rows: Chosen, rest: Rows, how: Checking, shard_bytes: int
) -> Iterator[tuple[Piece, list[Row]]]:
    """The pieces of what is to be read, each with its rows as the source knows them."""
    address, cache = store.storage.address, cache_options(store.storage)
    most = max(1, min(MOST_ROWS, -(-len(rest) // LEAST_PIECES)))
    numbers, some, size = list[int](), list[Row](), 0

    def piece() -> tuple[Piece, list[Row]]:
        contents = [_content(source, row) for row in some]
        told = ([row.key for row in some], [row.byte_count for row in some], contents)
        return Piece(address, cache, numbers, *told, how, shard_bytes), some

    for number, row in zip(rest.tolist(), rows.take(rest).rows(source), strict=True):
        if some and (len(some) == most or size + row.byte_count > MOST_BYTES):
            yield piece()
            numbers, some, size = [], [], 0
        numbers.append(number)
        some.append(row)
        size += row.byte_count
    if some:
        yield piece()


def _content(source: Source, row: Row) -> bytes | FileStamp | tuple[str, LeftOutKind]:
    """The file that a picture is, or its bytes where it is part of something else; or why it cannot be read."""
    file = source.file(row)
    if file is not None and b"\0" not in file.path:  # which a member of an archive is told by
        return file
    try:
        return source.read(row)
    except PictureError as error:
        return error.reason, error.kind


def _take(source: Source, piece: Piece, rows: list[Row], done: Done, result: Ingested, seen: Seen) -> None:
    result.pictures.add_table(done.pictures)
    result.left_out += done.left_out
    result.new_pictures += done.new_pictures
    result.new_bytes += done.new_bytes
    at = {number: i for i, number in enumerate(piece.numbers)}
    for told in done.pictures.to_pylist():
        row = rows[at[told.pop("number")]]
        file = source.file(row)
        if file is not None:
            seen.add(file, _checked(row, told))


def _checked(row: Row, told: dict[str, Any]) -> Checked:
    sha256, crc32, byte_count = (told.pop(name) for name in ("sha256", "crc32", "byte_count"))
    return Checked(row, sha256, crc32, byte_count, Facts(**told), 0, None)
