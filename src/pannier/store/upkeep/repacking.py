"""Repacking: the live pictures of a shard, and how they move into a new one."""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Iterable, Iterator, Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
import pyarrow as pa

from pannier.columns import Digests
from pannier.errors import DamageError
from pannier.images.facts import Facts
from pannier.splits import Flags
from pannier.store.files import Directory
from pannier.store.index import publish_segment, segment_file
from pannier.store.shards import (
    DEFAULT_SHARD_BYTES,
    FOLDER,
    SUFFIX,
    Located,
    Picture,
    ShardWriter,
    locate,
    shard_names,
    shard_path,
)
from pannier.store.upkeep.referenced import distinct, is_in

if TYPE_CHECKING:
    from pannier.store.store import Store


@dataclass
class ShardLife:
    """Of one shard, by row: how many bytes each picture has, and whether it lives."""

    length: np.ndarray[Any, np.dtype[np.int64]]
    live: Flags


def live_pictures(store: Store, pictures: Digests, is_old: Callable[[str], bool]) -> tuple[dict[str, ShardLife], int]:
    """By shard which pictures live: those that `pictures` has, each in one shard, and all of young ones; how many doubles.

    A picture that is in several shards lives in a young one, or the one of which least is dead. Raises DamageError.
    """
    located: dict[str, Located] = {name: locate(shard_path(store.directory, name)) for name in shard_names(store.directory)}
    live = {name: is_in(each.sha256, pictures) for name, each in located.items()}
    young = [name for name in located if not is_old(f"{FOLDER}/{name}{SUFFIX}")]

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


def repack(store: Store, live: Mapping[str, Flags], renew: Callable[[], None]) -> tuple[int, set[str]]:
    """Writes the live pictures of shards, by name, into new ones, each checked: (bytes, files). Raises DamageError.

    renew: called before every picture.
    """
    paths = {shard_path(store.directory, name): flags for name, flags in live.items()}
    pictures = (picture for path, flags in paths.items() for picture in pictures_in(path, flags))
    return write_shards(store.directory, pictures, renew)


def write_shards(directory: Directory, pictures: Iterable[Picture], each_time: Callable[[], None]) -> tuple[int, set[str]]:
    """Writes pictures into new shards, with their indexes: (bytes, files). Memory is one block."""
    rest, total = iter(pictures), 0
    files: set[str] = set()
    picture = next(rest, None)
    while picture is not None:
        with ShardWriter(directory) as writer:
            while picture is not None and writer.byte_count < DEFAULT_SHARD_BYTES:
                each_time()
                writer.add(picture)
                picture = next(rest, None)
            total += writer.byte_count
            name, located = writer.finish()
        publish_segment(directory, name, located)
        files |= {f"{FOLDER}/{name}{SUFFIX}", segment_file(name)}
    return total, files


def pictures_in(path: Path, wanted: Flags) -> Iterator[Picture]:
    """The wanted pictures of a shard, by row, with all that it says of them; one block in memory. Raises DamageError."""
    start = 0
    with pa.memory_map(str(path)) as file:
        reader = pa.ipc.open_file(file)
        for number in range(reader.num_record_batches):
            block = reader.get_batch(number)
            rows = np.flatnonzero(wanted[start : start + len(block)])
            start += len(block)
            if len(rows):
                for row in block.take(pa.array(rows)).to_pylist():
                    yield _picture(row, path.stem)


def _picture(row: dict[str, Any], shard: str) -> Picture:
    if hashlib.sha256(row["picture"]).digest() != row["sha256"]:
        raise DamageError(
            f"the picture of {row['key']!r} in shard {shard} is damaged, so nothing is moved: run pannier verify",
            file=f"{FOLDER}/{shard}{SUFFIX}",
            key=row["key"],
        )
    facts = Facts(row["format"], row["mode"], row["height"], row["width"], row["turn"], row["progressive"])
    return Picture(row["key"], row["picture"], row["sha256"], row["crc32"], facts, row["perceptual_hash"])
