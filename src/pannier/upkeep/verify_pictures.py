"""Verifying shards: every picture against its SHA-256, every other byte against the shard's name; and the indexes."""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Iterable, Iterator, Sequence
from concurrent.futures import Executor, ThreadPoolExecutor
from dataclasses import dataclass, field
from functools import partial
from typing import Any

import numpy as np

from pannier.choices import Progress
from pannier.columns import Digests
from pannier.errors import DamageError, NotFoundError, StoreError
from pannier.executors import done_by, for_workers
from pannier.hashing import fold, fold_each
from pannier.images.facts import format_of
from pannier.machine import usable_cores
from pannier.storage.layout import ARROW, INDEX, segment_file, shard_file
from pannier.storage.opening import nearby, open_storage
from pannier.storage.protocol import Far, Storage
from pannier.store.index import segment_bytes, stored_segment
from pannier.store.shards import Located, locate, shard_name, shard_names
from pannier.upkeep.findings import FROM_COPY, Finding

# so many bytes of a shard are read and hashed at once, by each thread
READ_BYTES = 4 << 20


@dataclass
class Pictures:
    """The pictures that are whole, as far as it was looked: digests and lengths, (n, 32) uint8 and (n,), in no order."""

    digests: list[Digests] = field(default_factory=list)
    lengths: list[Any] = field(default_factory=list)
    damaged: list[tuple[str, int, bytes]] = field(default_factory=list)
    foreign: list[bytes] = field(default_factory=list)  # SHA-256 of bytes that are whole, and no picture
    checked: int = 0

    def add(self, located: Located, is_whole: Any) -> None:
        self.digests.append(located.sha256[is_whole])
        self.lengths.append(located.length[is_whole])

    def all(self) -> tuple[Digests, Any]:
        none = (np.empty((0, 32), np.uint8), np.empty(0, np.int64))
        return np.concatenate([none[0], *self.digests]), np.concatenate([none[1], *self.lengths])


@dataclass(frozen=True)
class Looking:
    """How shards are looked at. share: of the pictures are hashed, fixed by the seed. quick: none are."""

    share: float
    seed: int
    quick: bool


@dataclass(frozen=True)
class Looked:
    """What was seen of one shard: findings, its pictures, which of them are whole, how many were hashed."""

    findings: list[Finding]
    located: Located | None = None
    is_whole: Any = None
    checked: int = 0
    foreign: list[int] = field(default_factory=list)


def check_shards(
    storage: Storage, pictures: Pictures, how: Looking, progress: Progress | None, executor: Executor | None = None
) -> Iterator[Finding]:
    """Looks at all shards and their indexes; quick: of shards only what an index tells. What is whole goes into `pictures`.
    executor: whose workers do it, a shard each. Memory: a few pieces of 4 MiB."""
    names = shard_names(storage)
    sizes = {name: storage.size(shard_file(name)) for name in names}
    done, total = 0, sum(sizes.values())

    def step(size: int) -> None:
        nonlocal done
        done += size
        if progress and not how.quick:
            progress(done, total)

    if executor is not None:
        address = for_workers(storage.address)
        pieces = (((address, name, how), name) for name in names)
        for _, name, looked in done_by(executor, _look_elsewhere, pieces, paths=[address]):
            if looked.findings or not np.all(looked.is_whole):  # what a worker does not see is no damage: looked at here
                looked = _look_elsewhere((address, name, how))
            step(sizes[name])
            yield from _taken(name, looked, pictures)
    else:
        # twice as many threads as cores: some read, or wait for the interpreter, while others hash
        with ThreadPoolExecutor(2 * usable_cores(), thread_name_prefix="pannier-verify") as pool:
            for name in names:
                yield from _taken(name, _look(storage, name, how, pool, step), pictures)
    yield from _indexes_without_shard(storage, set(names))


def _look_elsewhere(given: tuple[str, str, Looking]) -> Looked:
    address, name, how = given
    storage = open_storage(address)
    with ThreadPoolExecutor(1, thread_name_prefix="pannier-verify") as pool:
        return _look(storage.directly() if isinstance(storage, Far) else storage, name, how, pool, lambda _: None)


def _look(storage: Storage, name: str, how: Looking, pool: ThreadPoolExecutor, step: Callable[[int], None]) -> Looked:
    """Looks at one shard and its index; what a thread of the pool has read goes to `step`, in bytes."""
    file, checked = shard_file(name), 0
    if how.quick and isinstance(storage, Far) and (told := _by_index(storage, name)) is not None:
        return told
    with nearby(storage, file) as near:
        findings = list[Finding]()
        try:
            located = locate(near, name)
        except DamageError as error:
            return Looked([Finding(file, str(error), "every record whose picture lies in it", FROM_COPY)])
        is_whole, foreign = np.ones(len(located.offset), bool), list[int]()
        if not how.quick:
            named = pool.submit(shard_name, near.view(file), located)
            rows = np.arange(len(located.offset)) if how.share >= 1 else _chosen(located, how.share, how.seed)
            checked = len(rows)
            for part, wrong, no_pictures in pool.map(partial(_wrong, near, file, located), _runs(located, rows)):
                is_whole[wrong] = False
                foreign += no_pictures
                step(int(located.length[part].sum()))
            if named.result() != name:
                problem = "its bytes outside the pictures are not those its name was made from"
                findings.append(Finding(file, problem, "perhaps every record whose picture lies in it", FROM_COPY))
    foreign = [row for row in foreign if is_whole[row]]
    return Looked([*findings, *_check_index(storage, name, located)], located, is_whole, checked, foreign)


def _by_index(storage: Storage, name: str) -> Looked | None:
    """What an index tells of a shard that is far away and whose pictures are not read: it is there, and long enough.

    None where the index does not tell.
    """
    try:
        segment = stored_segment(storage, name)
    except (StoreError, NotFoundError):
        return None
    order = np.argsort(segment.row, kind="stable")
    located = Located(segment.sha256[order], segment.offset[order], segment.length[order])
    ends = int((located.offset + located.length).max(initial=0))
    if ends > storage.size(shard_file(name)):
        return None
    return Looked([], located, np.ones(len(order), bool))


def _taken(name: str, looked: Looked, pictures: Pictures) -> list[Finding]:
    """Takes in what was seen of a shard's pictures; its findings."""
    located = looked.located
    if located is not None:
        for row in np.flatnonzero(~looked.is_whole).tolist():
            pictures.damaged.append((name, row, located.sha256[row].tobytes()))
        pictures.foreign += [located.sha256[row].tobytes() for row in looked.foreign]
        pictures.add(located, looked.is_whole)
        pictures.checked += looked.checked
    return looked.findings


def _chosen(located: Located, share: float, seed: int) -> Any:
    """The rows of a fair part, by the first bytes of their SHA-256."""
    prefixes = np.ascontiguousarray(located.sha256[:, :8]).view(">u8").ravel().astype(np.uint64)
    return np.flatnonzero(fold_each(fold(seed), prefixes) < np.uint64(min(share, 1 - 1e-9) * 2**64))


def _runs(located: Located, rows: Any) -> list[Any]:
    """Those rows as they lie, in pieces that are read at once."""
    order = rows[np.argsort(located.offset[rows], kind="stable")]
    pieces, start, size = [], 0, 0
    for at, length in enumerate(located.length[order].tolist()):
        if size and size + length > READ_BYTES:
            pieces.append(order[start:at])
            start, size = at, 0
        size += length
    return [*pieces, order[start:]] if len(order) else []


def _wrong(storage: Storage, file: str, located: Located, rows: Any) -> tuple[Any, list[int], list[int]]:
    """Which of some rows, in order of their places, are not what their SHA-256 says, and which begin like no picture."""
    offsets, lengths = located.offset[rows], located.length[rows]
    first, last = int(offsets[0]), int(offsets[-1] + lengths[-1])
    places = list(zip(offsets.tolist(), lengths.tolist(), strict=True))
    if last - first <= 2 * int(lengths.sum()) + 4096:
        content = memoryview(storage.read(file, first, last - first))
        pieces: Iterable[Any] = (content[at - first : at - first + length] for at, length in places)
    else:
        pieces = (storage.read(file, at, length) for at, length in places)
    digests, foreign = [], []
    for row, piece in zip(rows.tolist(), pieces, strict=True):
        digests.append(hashlib.sha256(piece).digest())
        if format_of(bytes(piece[:16])) is None:
            foreign.append(row)
    is_wrong = (np.frombuffer(b"".join(digests), np.uint8).reshape(-1, 32) != located.sha256[rows]).any(axis=1)
    return rows, rows[is_wrong].tolist(), foreign


def _check_index(storage: Storage, name: str, located: Located) -> Iterator[Finding]:
    file = segment_file(name)
    if not storage.exists(file):
        harms = "speed alone: look-ups read the shard instead"
        yield Finding(file, "it is missing", harms, "the next pack makes it again from the shard", False)
    elif storage.read(file) != segment_bytes(located):
        again = "nothing for long: it is derived; verifying with `repair` makes it again from the shard"
        yield Finding(file, "it is damaged", "records whose pictures lie in that shard", again)


def _indexes_without_shard(storage: Storage, names: set[str]) -> Iterator[Finding]:
    for name in storage.list(INDEX):
        shard = name.removesuffix(ARROW)
        if name.endswith(ARROW) and shard not in names:
            file = shard_file(shard)
            yield Finding(file, "it is missing, though its index is there", "records whose pictures lay in it", FROM_COPY)


def harmed(pictures: Pictures, keys: Callable[[bytes], Sequence[str]]) -> Iterator[Finding]:
    """The damaged pictures, each with the keys of the records that show it."""
    for name, row, digest in pictures.damaged:
        shown_by = tuple(keys(digest))
        more = f" and {len(shown_by) - 1} more records" if len(shown_by) > 1 else ""
        harms = f"{shown_by[0]!r}{more}" if shown_by else "no record"
        file = shard_file(name)
        yield Finding(file, f"the picture in row {row} is damaged", harms, FROM_COPY, keys=shown_by)
