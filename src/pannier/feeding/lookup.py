"""What comes next: the order of epochs, parted into batches, and where their pictures lie. Looked up shortly before use."""

from __future__ import annotations

import time
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field
from itertools import pairwise, repeat
from typing import Any, NamedTuple

import numpy as np

from pannier.array_types import Array, Numbers
from pannier.columns import numbers_of, tuples
from pannier.feeding.buffers import Slot
from pannier.feeding.course import Places
from pannier.feeding.job import FeedWork
from pannier.images.chance import Variation, variations
from pannier.images.facts import Facts
from pannier.images.placement import Box
from pannier.images.treatment import Treatment
from pannier.storage.protocol import Far
from pannier.store.boxes import boxes_of, canvas_identities
from pannier.store.canvases import Canvases
from pannier.store.places import Place, fact_lists, places_of

# so many records, in whole batches, are looked up at once, which costs less a record; canvases that are copied as they are
# cost little else
LOOKED_UP_AT_ONCE, COPIED_AT_ONCE = 256, 1024


class Item(NamedTuple):
    """One record of a batch: where in it, which row of the manifest, where its bytes lie, and what is known of them.

    `canvas` is where its canvas lies, if it is rendered; `variation` what is random about it, if anything. Where all of a
    batch is rendered, `place`, `facts` and `box` are looked up only if a canvas turns out to be damaged.
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
    """One batch on its way: its number (epoch, batch), its records' rows in the manifest and class numbers, its items.

    Where all of it is canvases that are copied as they are, it has those in place of items.
    """

    number: tuple[int, int]
    rows: Array
    labels: Array
    items: list[Item]
    canvases: Canvases | None = None
    # the requests that bring their bytes from afar, by place in the batch
    fetched: dict[int, Any] = field(default_factory=dict)
    slot: Slot | None = None
    left: int = 0


class Lookup:
    """Order and places of one feed's records. Knows nothing of the feed itself, which it would keep alive."""

    def __init__(self, work: FeedWork) -> None:
        job, self._state = work.job, work.state
        self._manifest, self._rows, self._heavy = work.state.manifest, work.rows, work.heavy
        names = self._manifest.names("label")
        numbers = numbers_of(np.arange(len(names), dtype=np.int32), names, self._state.classes)
        self._numbers = np.append(numbers, -1).astype(np.int32)  # the last is of -1, for none
        self._codes = self._manifest.codes("label")[0] if self._manifest.lacks("label") else None
        self._batch_size, self._course, self._passed = job.batch_size, work.course, work.order
        self._seed, self._treatment = job.seed, job.treatment
        is_varied = job.augment and not job.to_canvas and job.treatment is not None and job.treatment.varies
        self._augmented = job.treatment if is_varied else None
        self._plain_every = job.variations * job.plain  # of so many one is without random steps
        self._rendering = work.rendering
        # what comes from afar is asked for record by record
        self._is_copied = work.is_copied and not is_varied and not isinstance(work.state.storage, Far)
        # by row of the manifest, whether its picture is still to be held against its SHA-256, where that is asked for
        self._unproved = np.ones(len(self._manifest), bool) if self._manifest.by_digest else None

    def batches(self, epoch: int, until: int, begin: int = 0, end: int | None = None) -> Iterator[Issued]:
        """The batches of some epochs, see `Course.numbers`. Raises DamageError."""
        group = max(1, (COPIED_AT_ONCE if self._is_copied else LOOKED_UP_AT_ONCE) // self._batch_size)
        for each, numbers in self._course.numbers(epoch, until, begin, end):
            for at in range(0, len(numbers), group):
                some = numbers[at : at + group]
                yield from self._look_up(each, some, self._course.at(each, some))

    def found(self, row: int) -> tuple[Place, Facts, Box | None]:
        """Where one record's picture lies, and what is known of it. Raises DamageError. For any thread."""
        rows = np.array([row], np.int64)
        return self._places(rows)[0], self._facts(rows)[0], next(iter(self._boxes(rows)), None)

    @staticmethod
    def items_of(batch: Issued, some: range | None = None) -> list[Item]:
        """A batch, or some of it where it is all canvases, one by one."""
        if batch.canvases is None:
            return batch.items
        some = range(len(batch.rows)) if some is None else some
        canvases = batch.canvases[some.start : some.stop].places()
        rows = batch.rows[some.start : some.stop].tolist()
        return [
            Item(at, row, None, None, None, None, canvas, False)
            for at, row, canvas in zip(some, rows, canvases, strict=True)
        ]

    def proved(self, row: int) -> None:
        """A record's picture was read and is what it must be: from now on its CRC-32 is enough. For any thread."""
        if self._unproved is not None:
            self._unproved[row] = False

    def key_of(self, row: int) -> str:
        """The key of a record by its row in the manifest."""
        key: str = self._manifest.take([row], ["key"]).column(0)[0].as_py()
        return key

    def _variations(self, treatment: Treatment, rows: Array, draws: Numbers) -> list[Variation]:
        """What is random about some records: by seed, key and the number with which it is drawn."""
        hashes, found = self._manifest.hashes_at(rows), dict[int, Variation]()
        for number in np.unique(draws).tolist():
            here = np.flatnonzero(draws == number)
            found |= zip(here.tolist(), variations(treatment, hashes[here], self._seed, number), strict=True)
        return [found[at] for at in range(len(rows))]

    def _look_up(self, epoch: int, numbers: range, where: Places) -> Iterator[Issued]:
        """Those batches of an epoch, whose records stand at those places."""
        passes = where.passes
        parts = [self._passed.at(int(passes[part][0]), where.places[part]) for part in _runs_of_one(passes)]
        positions, draws = (np.concatenate(each) for each in zip(*parts, strict=True)) if parts else (where.places, passes)
        rows, size = self._rows.at(positions), self._batch_size
        labels = self._labels(rows)
        varied: Iterable[Variation | None] = repeat(None)
        if self._augmented is not None:
            varied = self._variations(self._augmented, rows, draws)
            if self._plain_every:
                varied = [
                    None if number % self._plain_every == 0 else one for number, one in zip(draws, varied, strict=True)
                ]
            _give_way()
        boxes = self._boxes(rows)
        canvases: Iterable[Place | None] = repeat(None)
        if self._rendering is not None:
            found = self._rendering.find(canvas_identities(self._manifest.gather(rows, "sha256"), boxes))
            _give_way()
            if self._is_copied and found.is_there.all():
                for number, some in self._parted(numbers, len(rows)):
                    yield Issued((epoch, number), rows[some], labels[some], [], found[some])
                return
            canvases = found.places()
        places: Iterable[Place | None] = repeat(None)
        facts: Iterable[Facts | None] = repeat(None)
        if not isinstance(canvases, list) or None in canvases:
            places = self._places(rows)
            _give_way()
            facts = self._facts(rows)
            _give_way()
        heavy: Iterable[bool] = repeat(False) if self._heavy is None else self._heavy.at(positions).tolist()
        within = [at % size for at in range(len(rows))]
        items = tuples(Item, within, rows.tolist(), places, facts, varied, boxes or repeat(None), canvases, heavy)
        for number, some in self._parted(numbers, len(rows)):
            yield Issued((epoch, number), rows[some], labels[some], items[some])

    def _parted(self, numbers: range, count: int) -> Iterator[tuple[int, slice]]:
        """Which of so many records are of which batch."""
        starts = range(0, count, self._batch_size)
        return ((number, slice(at, at + self._batch_size)) for number, at in zip(numbers, starts, strict=True))

    def _boxes(self, rows: Array) -> list[Box | None]:
        """Their crop boxes; nothing where the treatment asks for none."""
        if self._treatment is None or self._treatment.box is None:
            return []
        return boxes_of(self._manifest, rows, self._treatment)

    def _labels(self, rows: Array) -> Array:
        """Their class numbers int32, -1 for none."""
        if self._codes is None:
            return self._numbers[self._manifest.gather(rows, "label")]
        return self._numbers[self._codes[rows]]

    def _places(self, rows: Array) -> list[Place]:
        by_digest = None if self._unproved is None else self._unproved[rows]
        return places_of(self._manifest, self._state.index, rows, by_digest)

    def _facts(self, rows: Array) -> list[Facts]:
        """What decoding needs to know; whether a picture is progressive matters to planning alone."""
        return tuples(Facts, *fact_lists(self._manifest, rows, Facts._fields[:-1]), repeat(False))


def _runs_of_one(passes: Numbers) -> Iterator[slice]:
    """Where each pass stands among those numbers, which do not fall."""
    borders = [0, *(np.flatnonzero(np.diff(passes)) + 1).tolist(), len(passes)]
    return (slice(first, last) for first, last in pairwise(borders) if first < last)


def _give_way() -> None:
    """Lets other threads have the interpreter: they need it for a moment, more often than this one."""
    time.sleep(0)
