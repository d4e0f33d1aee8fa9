"""Pieces: the reading, checking and storing of a pack, parted among the workers of an executor.

A piece is plain data: rows that were chosen, with the paths of their files, or their bytes where they have none. Whoever
does it opens the store by its address, writes shards, and gives back what is known of the pictures, some 75 bytes each. What
is made of them, the deal and the snapshot, is one commit, where the pack was called.
"""

from __future__ import annotations

import time
from concurrent.futures import Executor
from dataclasses import dataclass
from typing import Any

from pannier.choices import Progress
from pannier.columns import digests_of
from pannier.errors import PannierError
from pannier.executors import done_by, for_workers, worker_name
from pannier.images.facts import Facts
from pannier.packing.ingest import Ingested, Ingesting, IntoShard, recalled
from pannier.packing.seen import Seen
from pannier.sources.checking import Checked, Checking
from pannier.sources.elsewhere import RowsElsewhere, check_again, parted, sample_files
from pannier.sources.rows import Chosen, LeftOut, Row, Source
from pannier.storage.cache import CacheOptions
from pannier.storage.opening import cache_options
from pannier.store.index import restore_segments
from pannier.store.leases import WRITER, holding
from pannier.store.miniatures import KeptMiniatures
from pannier.store.state import OpenedStore, open_store

# how long a network disk may go on listing a folder as it was
LISTING_SECONDS = 90


@dataclass(frozen=True)
class Piece:
    """Rows for one worker, and the store that their pictures go to."""

    address: str
    cache: CacheOptions | None
    rows: RowsElsewhere
    how: Checking
    shard_bytes: int


@dataclass(frozen=True)
class Done:
    """What became of a piece: its pictures as an Arrow table of facts, by row; and those that cannot be used."""

    pictures: Any
    left_out: list[LeftOut]
    new_pictures: int
    new_bytes: int
    worker: str


def bring_in(piece: Piece) -> Done:
    """Does a piece, under a writer's lease of its own. For any process that reaches the store, and the files."""
    store = open_store(piece.address, piece.cache)
    with holding(store.storage, WRITER):
        store.index.refresh()
        miniatures = KeptMiniatures(store.storage, store.index)
        ingesting = Ingesting(store, None, miniatures, piece.shard_bytes, lambda _: IntoShard(store.storage))
        done = ingesting.take_in(piece.rows, zip(piece.rows.numbers, piece.rows.rows(), strict=True), piece.how)
    return Done(done.pictures.table(), done.left_out, done.new_pictures, done.new_bytes, worker_name())


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
    address = for_workers(store.storage.address)
    restore_segments(store.storage)
    store.index.refresh()
    result = Ingested()
    rest = recalled(store.index, source, rows, seen, result)
    done_rows, where = len(rows) - len(rest), (address, cache_options(store.storage))
    pieces = ((Piece(*where, some, how, shard_bytes), of_source) for some, of_source in parted(source, rows, rest))
    workers = set[str]()
    try:
        for piece, of_source, done in done_by(
            executor, bring_in, pieces, paths=[address, *sample_files(source, rows, rest)]
        ):
            _take(source, piece, of_source, done, result, seen)
            workers.add(done.worker)
            done_rows += len(of_source)
            if progress:
                progress(done_rows, len(rows))
    finally:
        seen.flush(at_end=True)  # where a worker stopped it, the next pack goes on from here
    restore_segments(store.storage)  # a worker may have died between a shard and its index
    _refuse_unstored(store, result, workers)
    return result


def _refuse_unstored(store: OpenedStore, result: Ingested, workers: set[str]) -> None:
    """Raises PannierError where a worker stored pictures elsewhere: its path leads to a disk of its own.

    What others have written shows late on some network disks, which keep a folder's listing for up to a minute.
    """
    digests = digests_of(result.pictures.table().column("sha256"))
    until = time.monotonic() + LISTING_SECONDS
    while True:
        store.index.refresh()
        unstored = int((store.index.find(digests).segment < 0).sum())
        if not unstored:
            return
        if time.monotonic() > until:
            break
        time.sleep(1)
    raise PannierError(
        f"{unstored:,} pictures that workers have stored are not in {store.storage.address}: that path leads to another "
        f"disk on one of {', '.join(sorted(workers)[:5])}; nothing was committed"
    )


def _take(source: Source, piece: Piece, rows: list[Row], done: Done, result: Ingested, seen: Seen) -> None:
    at_key = {row.key: row for row in rows}
    looked = check_again(source, [at_key[each.key] for each in done.left_out], piece.how, done.worker)
    result.pictures.add_table(done.pictures)
    result.left_out += looked
    result.new_pictures += done.new_pictures
    result.new_bytes += done.new_bytes
    at = {number: i for i, number in enumerate(piece.rows.numbers)}
    for told in done.pictures.to_pylist():
        row = rows[at[told.pop("number")]]
        file = source.file(row)
        if file is not None:
            seen.add(file, _checked(row, told))


def _checked(row: Row, told: dict[str, Any]) -> Checked:
    sha256, crc32, byte_count = (told.pop(name) for name in ("sha256", "crc32", "byte_count"))
    return Checked(row, sha256, crc32, byte_count, Facts(**told), 0, None)
