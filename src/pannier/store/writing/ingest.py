"""Ingest: the pictures of a source become shards, each stored once, never held whole."""

from __future__ import annotations

import threading
from dataclasses import dataclass, field
from itertools import islice
from typing import Any

import numpy as np
import pyarrow as pa

from pannier.columns import Rows
from pannier.images.recode import Recoding
from pannier.sources.checking import Checked, Checker, Progress
from pannier.sources.rows import Chosen, LeftOut, Source
from pannier.store.files import Directory
from pannier.store.index import PictureIndex, publish_segment, restore_segments
from pannier.store.manifest import FACTS, FIELDS
from pannier.store.shards import DEFAULT_SHARD_BYTES, Picture, ShardWriter
from pannier.store.writing.seen import Seen

# what is known of a picture that is in the store; `number` is its row among those that were brought in
SCHEMA = pa.schema([pa.field("number", pa.int64(), nullable=False), *(field for field in FIELDS if field.name in FACTS)])
ROWS_AT_ONCE = 4096


class PictureRows:
    """Rows of facts, kept as Arrow, some 80 bytes of memory each. `table` gives them all."""

    def __init__(self) -> None:
        self._rows: list[tuple[Any, ...]] = []
        self._batches: list[Any] = []

    def add(self, number: int, checked: Checked) -> None:
        facts = checked.facts
        self._rows.append(
            (
                number,
                checked.sha256,
                checked.crc32,
                checked.byte_count,
                facts.width,
                facts.height,
                facts.format,
                facts.mode,
                facts.turn,
                facts.progressive,
            )
        )
        if len(self._rows) == ROWS_AT_ONCE:
            self._flush()

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


@dataclass
class Ingested:
    """What became of the rows: facts of the pictures, and what could not be used."""

    pictures: PictureRows = field(default_factory=PictureRows)
    left_out: list[LeftOut] = field(default_factory=list)
    new_pictures: int = 0
    new_bytes: int = 0


def ingest(
    directory: Directory,
    index: PictureIndex,
    source: Source,
    rows: Chosen,
    *,
    workers: int,
    max_pixels: int,
    shard_bytes: int = DEFAULT_SHARD_BYTES,
    recoding: Recoding | None = None,
    seen: Seen,
    progress: Progress | None = None,
) -> Ingested:
    """Brings the pictures of `rows` into shards; those that are there already are not stored again.

    What `seen` remembers of a file is not read again, as long as its picture is stored. Interrupted, what was read is kept.
    """
    restore_segments(directory)
    index.refresh()
    lock = threading.Lock()
    stored: set[bytes] = set()
    result = Ingested()
    rest = _recall(index, source, rows, seen, result)

    def is_known(sha256: bytes) -> bool:
        with lock:
            return sha256 in stored or index.has(sha256)

    writer: ShardWriter | None = None

    def finish() -> None:
        nonlocal writer
        whole, writer = writer, None  # at once: an interruption must not finish it a second time
        if whole is not None:
            with whole:
                _finish(directory, whole)
            seen.flush()

    try:
        with Checker(source, workers, max_pixels, is_known, recoding=recoding) as checker:
            outcomes = checker.check_all(rows.take(rest).rows(source))
            for done, (number, outcome) in enumerate(zip(rest.tolist(), outcomes, strict=True), len(rows) - len(rest) + 1):
                if isinstance(outcome, LeftOut):
                    result.left_out.append(outcome)
                else:
                    result.pictures.add(number, outcome)
                    if outcome.data is not None and outcome.sha256 not in stored:
                        writer = writer or ShardWriter(directory)
                        writer.add(_picture(outcome, outcome.data))
                        with lock:
                            stored.add(outcome.sha256)
                        result.new_pictures += 1
                        result.new_bytes += outcome.byte_count
                    file = source.file(outcome.row)
                    if file:
                        seen.add(file, outcome)
                    if writer and writer.byte_count >= shard_bytes:
                        finish()
                if progress:
                    progress(done, len(rows))
        finish()
        seen.flush(at_end=True)
    except KeyboardInterrupt:
        finish()  # what was read is kept, so that the next pack goes on from here
        raise
    finally:
        if writer:
            writer.__exit__()
    return result


def _recall(index: PictureIndex, source: Source, rows: Chosen, seen: Seen, result: Ingested) -> Rows:
    """Takes in what is remembered of files that have not changed and whose pictures are stored; the numbers of the rest."""
    rest: list[Any] = []
    every = rows.rows(source)
    for at in range(0, len(rows), ROWS_AT_ONCE):
        part = list(islice(every, ROWS_AT_ONCE))
        entries = seen.find([source.file(row) for row in part])
        found = np.flatnonzero(entries >= 0)
        if len(found):
            found = found[index.find(seen.digests(entries[found])).segment >= 0]
        for i in found.tolist():
            result.pictures.add(at + i, seen.checked(part[i], int(entries[i])))
        rest.append(at + np.setdiff1d(np.arange(len(part)), found))
    return np.concatenate(rest) if rest else np.empty(0, np.int64)


def _picture(checked: Checked, data: bytes) -> Picture:
    return Picture(checked.row.key, data, checked.sha256, checked.crc32, checked.facts, checked.perceptual_hash)


def _finish(directory: Directory, writer: ShardWriter) -> None:
    name, located = writer.finish()
    publish_segment(directory, name, located)
