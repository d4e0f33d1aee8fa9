"""Ingest: the pictures of a source become shards, each stored once, never held whole."""

from __future__ import annotations

import threading
from dataclasses import dataclass, field

from pannier.images.facts import Facts
from pannier.sources.checking import Checked, Checker, Progress
from pannier.sources.rows import LeftOut, Row, Source
from pannier.store.files import Directory
from pannier.store.index import PictureIndex, publish_segment, restore_segments
from pannier.store.shards import DEFAULT_SHARD_BYTES, Picture, ShardWriter


@dataclass
class Ingested:
    """What became of the rows: facts of the pictures by key, and what could not be used."""

    pictures: dict[str, Stored] = field(default_factory=dict)
    left_out: list[LeftOut] = field(default_factory=list)
    new_pictures: int = 0
    new_bytes: int = 0
    shards: list[str] = field(default_factory=list)


@dataclass(frozen=True, slots=True)
class Stored:
    """The facts of a picture that is in the store."""

    sha256: bytes
    crc32: int
    byte_count: int
    facts: Facts


def ingest(
    directory: Directory,
    index: PictureIndex,
    source: Source,
    rows: list[Row],
    *,
    workers: int,
    max_pixels: int,
    shard_bytes: int = DEFAULT_SHARD_BYTES,
    progress: Progress | None = None,
) -> Ingested:
    """Brings the pictures of `rows` into shards; those that are there already are not stored again."""
    restore_segments(directory)
    index.refresh()
    lock = threading.Lock()
    stored: set[bytes] = set()
    result = Ingested()

    def is_known(sha256: bytes) -> bool:
        with lock:
            return sha256 in stored or index.has(sha256)

    writer: ShardWriter | None = None
    try:
        with Checker(source, workers, max_pixels, is_known) as checker:
            for done, outcome in enumerate(checker.check_all(rows), 1):
                if isinstance(outcome, LeftOut):
                    result.left_out.append(outcome)
                else:
                    facts = Stored(outcome.sha256, outcome.crc32, outcome.byte_count, outcome.facts)
                    result.pictures[outcome.row.key] = facts
                    if outcome.data is not None and outcome.sha256 not in stored:
                        writer = writer or ShardWriter(directory)
                        writer.add(_picture(outcome, outcome.data))
                        with lock:
                            stored.add(outcome.sha256)
                        result.new_pictures += 1
                        result.new_bytes += outcome.byte_count
                        if writer.byte_count >= shard_bytes:
                            _finish(directory, writer, result)
                            writer = None
                if progress:
                    progress(done, len(rows))
        if writer:
            _finish(directory, writer, result)
            writer = None
    finally:
        if writer:
            writer.__exit__()
    return result


def _picture(checked: Checked, data: bytes) -> Picture:
    return Picture(checked.row.key, data, checked.sha256, checked.crc32, checked.facts, checked.perceptual_hash)


def _finish(directory: Directory, writer: ShardWriter, result: Ingested) -> None:
    name, located = writer.finish()
    publish_segment(directory, name, located)
    result.shards.append(name)
