"""Repacking: the live pictures of a shard, and how they move into a new one."""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Iterable, Iterator, Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np
import pyarrow as pa

from pannier.array_types import Flags
from pannier.columns import Digests, present
from pannier.errors import DamageError
from pannier.images.facts import Facts
from pannier.storage.layout import segment_file, shard_file
from pannier.storage.protocol import Storage
from pannier.store.arrow_files import read_batches
from pannier.store.index import publish_segment, read_segment
from pannier.store.shards import DEFAULT_SHARD_BYTES, SCHEMA, WHAT, Located, Picture, ShardWriter, locate, shard_names
from pannier.store.state import OpenedStore
from pannier.upkeep.referenced import distinct, is_in


@dataclass
class ShardLife:
    """Of one shard, by row: how many bytes each picture has, and whether it lives."""

    length: np.ndarray[Any, np.dtype[np.int64]]
    live: Flags


def live_pictures(storage: Storage, pictures: Digests, is_old: Callable[[str], bool]) -> tuple[dict[str, ShardLife], int]:
    """By shard which pictures live: those that `pictures` has, each in one shard, and all of young ones; how many doubles.

    A picture that is in several shards lives in a young one, or the one of which least is dead. Raises DamageError.
    """
    located: dict[str, Located] = {name: locate(storage, name) for name in shard_names(storage)}
    live = {name: is_in(each.sha256, pictures) for name, each in located.items()}
    young = [name for name in located if not is_old(shard_file(name))]

    def rank(name: str) -> tuple[bool, int, int, str]:
        length = located[name].length
        return name not in young, int(length[~live[name]].sum()), -int(length[live[name]].sum()), name

    order = sorted(located, key=rank)
    homed: Digests = np.empty((0, 32), np.uint8)
    doubles = 0
    for name in order:
        elsewhere = is_in(located[name].sha256, homed)
        if name in young:
            live[name] = np.ones(len(live[name]), bool)
        else:
            doubles += int((live[name] & elsewhere).sum())
            live[name] &= ~elsewhere
        homed = distinct(np.concatenate([homed, located[name].sha256[live[name]]]))
    return {name: ShardLife(each.length, live[name]) for name, each in located.items()}, doubles


def repack(storage: Storage, live: Mapping[str, Flags], renew: Callable[[], None]) -> tuple[int, set[str]]:
    """Writes the live pictures of shards, by name, into new ones, each checked: (bytes, files). Raises DamageError.

    renew: called before every picture.
    """
    pictures = (picture for name, flags in live.items() for picture in pictures_in(storage, shard_file(name), flags))
    return write_shards(storage, pictures, renew)


def write_shards(storage: Storage, pictures: Iterable[Picture], each_time: Callable[[], None]) -> tuple[int, set[str]]:
    """Writes pictures into new shards, with their indexes: (bytes, files). Memory is one block."""
    rest, total = iter(pictures), 0
    files: set[str] = set()
    picture = next(rest, None)
    while picture is not None:
        with ShardWriter(storage) as writer:
            while picture is not None and writer.byte_count < DEFAULT_SHARD_BYTES:
                each_time()
                writer.add(picture)
                picture = next(rest, None)
            total += writer.byte_count
            name, located = writer.finish()
        publish_segment(storage, name, located)
        files |= {shard_file(name), segment_file(name)}
    return total, files


def pictures_in(storage: Storage, file: str, wanted: Flags) -> Iterator[Picture]:
    """The wanted pictures of a shard's file, by row, with all it says of them; one block in memory. Raises DamageError."""
    start = 0
    for block in read_batches(storage.view(file), file, WHAT, SCHEMA):
        rows = np.flatnonzero(wanted[start : start + len(block)])
        start += len(block)
        if len(rows):
            for row in block.take(pa.array(rows)).to_pylist():
                yield _picture(row, file)


def found_pictures(store: OpenedStore, sha256: Digests) -> Iterator[tuple[str, Flags]]:
    """The shards in which some pictures lie, with the rows in which they do."""
    places = store.index.find(sha256)
    for number in present(places.segment[places.segment >= 0]):
        name = places.shards[number]
        wanted = np.zeros(len(read_segment(store.storage, name).row), bool)
        wanted[places.row[places.segment == number]] = True
        yield shard_file(name), wanted


def _picture(row: dict[str, Any], file: str) -> Picture:
    if hashlib.sha256(row["picture"]).digest() != row["sha256"]:
        raise DamageError(
            f"the picture of {row['key']!r} in {file} is damaged, so nothing is moved: run pannier verify",
            file=file,
            key=row["key"],
        )
    facts = Facts(*(row[name] for name in Facts._fields))
    return Picture(row["key"], row["picture"], row["sha256"], row["crc32"], facts, row["perceptual_hash"])
