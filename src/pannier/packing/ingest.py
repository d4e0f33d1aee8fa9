"""Ingest: the pictures of a source become shards, each stored once, never held whole."""

from __future__ import annotations

import threading
from collections.abc import Callable, Iterable
from dataclasses import dataclass, field
from itertools import islice, tee
from typing import Any, Protocol

import numpy as np
import pyarrow as pa

from pannier.choices import Progress
from pannier.columns import Rows
from pannier.packing.seen import Seen
from pannier.sources.checking import Checked, Checker, Checking
from pannier.sources.rows import Chosen, LeftOut, Reads, Row, Source
from pannier.store.index import PictureIndex, publish_segment, restore_segments
from pannier.store.manifest_files import FACTS, FIELDS
from pannier.store.miniatures import KeptMiniatures
from pannier.store.shards import Located, Picture, ShardWriter
from pannier.store.state import OpenedStore

# what is known of a picture that is in the store; `number` is its row among those that were brought in
SCHEMA = pa.schema([pa.field("number", pa.int64(), nullable=False), *(field for field in FIELDS if field.name in FACTS)])
ROWS_AT_ONCE = 4096


class PictureRows:
    """Rows of facts, kept as Arrow, some 80 bytes of memory each. `table` gives them all."""

    def __init__(self) -> None:
        self._rows: list[tuple[Any, ...]] = []
        self._batches: list[Any] = []

    def add(self, number: int, checked: Checked) -> None:
        self._rows.append((number, checked.sha256, checked.crc32, checked.byte_count, *checked.facts))
        if len(self._rows) == ROWS_AT_ONCE:
            self._flush()

    def add_table(self, table: Any) -> None:
        """Rows that were kept in the same way elsewhere."""
        self._batches += table.to_batches()

    def _flush(self) -> None:
        columns = zip(*self._rows, strict=True)
        arrays = [pa.array(values, field.type) for values, field in zip(columns, SCHEMA, strict=True)]
        self._batches.append(pa.record_batch(arrays, schema=SCHEMA))
        self._rows = []

    def table(self) -> Any:
        """All rows, in order of their numbers."""
        if self._rows:
            self._flush()
        table = pa.Table.from_batches(self._batches, SCHEMA).unify_dictionaries()
        return table.take(pa.array(np.argsort(table.column("number").to_numpy(), kind="stable")))


class Keeper(Protocol):
    """Takes pictures in, as a shard's writer does. `finish` says where each is; a context manager once it is."""

    @property
    def byte_count(self) -> int: ...

    def keep(self, checked: Checked, data: bytes) -> None: ...

    def finish(self) -> tuple[str, Located]: ...

    def __exit__(self, *_: object) -> None: ...


class IntoShard(ShardWriter):
    """The keeper that packing has."""

    def keep(self, checked: Checked, data: bytes) -> None:
        of_file = (data, checked.sha256, checked.crc32, checked.facts)
        self.add(Picture(checked.row.key, *of_file, checked.perceptual_hash))


@dataclass
class Ingested:
    """What became of the rows: facts of the pictures, and what could not be used."""

    pictures: PictureRows = field(default_factory=PictureRows)
    left_out: list[LeftOut] = field(default_factory=list)
    new_pictures: int = 0
    new_bytes: int = 0


def ingest(
    store: OpenedStore,
    source: Source,
    rows: Chosen,
    how: Checking,
    seen: Seen,
    miniatures: KeptMiniatures,
    shard_bytes: int | None,
    progress: Progress | None = None,
    keeper: Callable[[Any], Keeper] | None = None,
) -> Ingested:
    """Brings the pictures of `rows` into shards of so many bytes; those that are there already are not stored again.

    What `seen` remembers of a file is not read again, as long as its picture is stored. Interrupted, what was read is kept.
    shard_bytes of None: all of it but writing. keeper: what keeps them in place of shards. `miniatures` takes in those that
    `how` has made.
    """
    if shard_bytes is not None:
        restore_segments(store.storage)
    store.index.refresh()
    ingesting = Ingesting(store, seen, miniatures, shard_bytes, keeper or (lambda _: IntoShard(store.storage)))
    return ingesting.run(source, rows, how, progress)


class Ingesting:
    """Pictures on their way into shards, one of which is being written. Without `seen` nobody remembers their files."""

    def __init__(
        self,
        store: OpenedStore,
        seen: Seen | None,
        miniatures: KeptMiniatures,
        shard_bytes: int | None,
        keeper: Callable[[Any], Keeper],
    ) -> None:
        self._store, self._seen, self._miniatures, self._shard_bytes = store, seen, miniatures, shard_bytes
        self._keeper = keeper
        self._result = Ingested()
        self._lock = threading.Lock()
        self._stored: set[bytes] = set()
        self._writer: Keeper | None = None

    def run(self, source: Source, rows: Chosen, how: Checking, progress: Progress | None) -> Ingested:
        rest = np.arange(len(rows))
        if self._seen is not None:
            rest = recalled(self._store.index, source, rows, self._seen, self._result)
        done = len(rows) - len(rest)
        numbered = zip(rest.tolist(), rows.take(rest).rows(source), strict=True)
        told = None if progress is None else lambda count: progress(done + count, len(rows))
        return self.take_in(source, numbered, how, told)

    def take_in(
        self,
        source: Reads,
        numbered: Iterable[tuple[int, Row]],
        how: Checking,
        progress: Callable[[int], None] | None = None,
    ) -> Ingested:
        """Brings some rows in, each with its number among all. progress: called with how many are done."""
        numbers, rows = tee(numbered)
        try:
            with Checker(source, how, self._is_known) as checker:
                outcomes = zip(numbers, checker.check_all(row for _, row in rows), strict=True)
                for done, ((number, _), outcome) in enumerate(outcomes, 1):
                    self._take(source, number, outcome)
                    if progress:
                        progress(done)
            self._finish()
            self._remember(at_end=True)
        except KeyboardInterrupt:
            self._finish()  # what was read is kept, so that the next pack goes on from here
            raise
        finally:
            if self._writer:
                self._writer.__exit__()
        return self._result

    def _is_known(self, sha256: bytes) -> bool:
        with self._lock:
            return sha256 in self._stored or self._store.index.has(sha256)

    def _take(self, source: Reads, number: int, outcome: Checked | LeftOut) -> None:
        if isinstance(outcome, LeftOut):
            self._result.left_out.append(outcome)
            return
        self._result.pictures.add(number, outcome)
        if outcome.data is not None and outcome.sha256 not in self._stored:
            self._store_picture(source, outcome, outcome.data)
        if outcome.miniature is not None:
            self._miniatures.add(outcome.sha256, outcome.miniature)
        file = None if self._seen is None else source.file(outcome.row)
        if self._seen is not None and file:
            self._seen.add(file, outcome)
        if self._writer and self._shard_bytes is not None and self._writer.byte_count >= self._shard_bytes:
            self._finish()

    def _store_picture(self, source: Reads, checked: Checked, data: bytes) -> None:
        if self._shard_bytes is not None:
            self._writer = self._writer or self._keeper(source)
            self._writer.keep(checked, data)
        with self._lock:
            self._stored.add(checked.sha256)
        self._result.new_pictures += 1
        self._result.new_bytes += checked.byte_count

    def _finish(self) -> None:
        writer, self._writer = self._writer, None  # at once: an interruption must not finish it a second time
        if writer is not None:
            try:
                name, located = writer.finish()
                publish_segment(self._store.storage, name, located)
            finally:
                writer.__exit__()
            self._remember()

    def _remember(self, *, at_end: bool = False) -> None:
        if self._shard_bytes is not None:
            if self._seen is not None:
                self._seen.flush(at_end=at_end)
            self._miniatures.flush()


def recalled(index: PictureIndex, source: Source, rows: Chosen, seen: Seen, result: Ingested) -> Rows:
    """Takes in what is remembered of files that have not changed and whose pictures are stored; the numbers of the rest."""
    rest: list[Any] = []
    every = rows.rows(source)
    for at in range(0, len(rows), ROWS_AT_ONCE):
        part = list(islice(every, ROWS_AT_ONCE))
        entries = seen.find([source.file(row) for row in part])
        known = np.flatnonzero(entries >= 0)
        if len(known):
            known = known[index.find(seen.digests(entries[known])).segment >= 0]
        for i in known.tolist():
            result.pictures.add(at + i, seen.checked(part[i], int(entries[i])))
        rest.append(at + np.setdiff1d(np.arange(len(part)), known))
    return np.concatenate(rest) if rest else np.empty(0, np.int64)
