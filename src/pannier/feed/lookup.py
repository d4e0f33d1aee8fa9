"""What comes next: the order of epochs, parted into batches, and where their pictures lie. Looked up shortly before use."""

from __future__ import annotations

import time
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from functools import cached_property
from itertools import repeat
from typing import Any, NamedTuple, TypeVar

import numpy as np

from pannier.columns import DIGEST_BYTES
from pannier.feed.buffers import Slot
from pannier.feed.order import shuffled
from pannier.images.chance import Variation, variations
from pannier.images.facts import Facts
from pannier.images.placement import Box
from pannier.images.treatment import Treatment
from pannier.store.canvases import Rendering, boxes_of, canvas_identities
from pannier.store.reading import Place
from pannier.store.snapshot import Snapshot, check_place

Array = np.ndarray[Any, Any]

T = TypeVar("T", bound=tuple[Any, ...])

# so many records, in whole batches, are looked up at once, which costs less a record
LOOKED_UP_AT_ONCE = 128


class Item(NamedTuple):
    """One record of a batch: where in it, which row of the manifest, where its bytes lie, and what is known of them.

    `canvas` is where its canvas lies, if it is rendered; `variation` what is random about it, if anything. Where all of a
    batch is rendered, `place` and `facts` are looked up only if a canvas turns out to be damaged.
    """

    at: int
    record: int
    place: Place | None
    facts: Facts | None
    variation: Variation | None
    box: Box | None
    canvas: Place | None
    is_heavy: bool


@dataclass
class Issued:
    """One batch on its way: its number (epoch, batch), its records' rows in the manifest, its items."""

    number: tuple[int, int]
    rows: Array
    items: list[Item]
    slot: Slot | None = None
    left: int = 0


class Lookup:
    """Order and places of one feed's records. Knows nothing of the feed itself, which it would keep alive."""

    def __init__(
        self,
        snapshot: Snapshot,
        rows: Array,
        heavy: Array,
        *,
        batch_size: int,
        steps: int,
        seed: int,
        shuffle: bool,
        treatment: Treatment | None,
        augment: bool,
        rendering: Rendering | None,
    ) -> None:
        self._manifest, self._index = snapshot.manifest, snapshot.store.index
        self._rows, self._heavy = rows, heavy
        self._batch_size, self._steps = batch_size, steps
        self._seed, self._shuffle, self._treatment = seed, shuffle, treatment
        self._augmented = treatment if augment and treatment is not None and treatment.varies else None
        self._rendering = rendering

    def batches(self, epoch: int, until: int, begin: int = 0, end: int | None = None) -> Iterator[Issued]:
        """The batches of the epochs from `epoch` to before `until`, of each those from `begin` to before `end`.

        Raises DamageError.
        """
        group = max(1, LOOKED_UP_AT_ONCE // self._batch_size)
        steps = self._steps if end is None else end
        for each in range(epoch, until):
            positions = self._order(each)
            for first in range(begin, steps, group):
                last = min(first + group, steps)
                yield from self._look_up(each, first, positions[first * self._batch_size : last * self._batch_size])

    def found(self, row: int) -> tuple[Place, Facts]:
        """Where one record's picture lies, and what is known of it. Raises DamageError. For any thread."""
        rows = np.array([row], np.int64)
        return self._places(rows)[0], self._facts(rows)[0]

    def key_of(self, row: int) -> str:
        """The key of a record by its row in the manifest."""
        key: str = self._manifest.take([row], ["key"]).column(0)[0].as_py()
        return key

    def _order(self, epoch: int) -> np.ndarray[Any, np.dtype[np.int32]]:
        if self._shuffle:
            order = shuffled(self._manifest.hashes[self._rows], self._seed, epoch)
        else:
            order = self._by_key
        return order.astype(np.int32)

    @cached_property
    def _by_key(self) -> np.ndarray[Any, np.dtype[np.int64]]:
        keys = self._manifest.take(self._rows, ["key"]).column(0).to_pylist()
        encoded = [key.encode() for key in keys]
        return np.array(sorted(range(len(encoded)), key=encoded.__getitem__), np.int64)

    def _look_up(self, epoch: int, first: int, positions: Array) -> Iterator[Issued]:
        """The batches from number `first` on whose records are at those positions."""
        rows, size = self._rows[positions], self._batch_size
        varied: Iterable[Variation | None] = repeat(None)
        if self._augmented is not None:
            varied = variations(self._augmented, self._manifest.hashes[rows], self._seed, epoch)
            _give_way()
        boxes: Iterable[Box | None] = repeat(None)
        if self._treatment is not None and self._treatment.box is not None:
            boxes = boxes_of(self._manifest, rows, self._treatment)
        canvases: Iterable[Place | None] = repeat(None)
        if self._rendering is not None:
            sha256 = self._manifest.gather(rows, "sha256")
            canvases = self._rendering.find(canvas_identities(sha256, boxes if isinstance(boxes, list) else []))
        places: Iterable[Place | None] = repeat(None)
        facts: Iterable[Facts | None] = repeat(None)
        if not isinstance(canvases, list) or None in canvases:
            places = self._places(rows)
            _give_way()
            facts = self._facts(rows)
            _give_way()
        heavy = self._heavy[positions].tolist()
        within = [at % size for at in range(len(rows))]
        items = _tuples(Item, within, rows.tolist(), places, facts, varied, boxes, canvases, heavy)
        for number, at in enumerate(range(0, len(rows), size), first):
            yield Issued((epoch, number), rows[at : at + size], items[at : at + size])

    def _places(self, rows: Array) -> list[Place]:
        sha256, lengths = self._manifest.gather(rows, "sha256"), self._manifest.gather(rows, "byte_count")
        found = self._index.find(sha256)
        for i in np.flatnonzero((found.segment < 0) | (found.length != lengths)).tolist():
            where = (int(column[i]) for column in (found.segment, found.length, found.row))
            check_place(self.key_of(rows[i]), sha256[i].tobytes().hex(), int(lengths[i]), found.shards, *where)
        shards = [found.shards[segment] for segment in found.segment.tolist()]
        crcs = self._manifest.gather(rows, "crc32").tolist()
        digests = _digests(sha256)
        return _tuples(Place, shards, found.offset.tolist(), found.length.tolist(), crcs, found.row.tolist(), digests)

    def _facts(self, rows: Array) -> list[Facts]:
        """What decoding needs to know; whether a picture is progressive matters to planning alone."""
        numbers = (self._manifest.gather(rows, name).tolist() for name in ("format", "mode", "height", "width", "turn"))
        formats, modes, *sizes = numbers
        format_names, mode_names = self._manifest.names("format"), self._manifest.names("mode")
        format_column, mode_column = [format_names[code] for code in formats], [mode_names[code] for code in modes]
        return _tuples(Facts, format_column, mode_column, *sizes, repeat(False))


def _tuples(kind: type[T], *columns: Iterable[Any]) -> list[T]:
    """Named tuples of columns, without a call of Python's own for each of them."""
    return list(map(tuple.__new__, repeat(kind), zip(*columns, strict=False)))


def _digests(sha256: Array) -> list[bytes]:
    content = np.ascontiguousarray(sha256).tobytes()
    return [content[at : at + DIGEST_BYTES] for at in range(0, len(content), DIGEST_BYTES)]


def _give_way() -> None:
    """Lets other threads have the interpreter: they need it for a moment, more often than this one."""
    time.sleep(0)
