"""Records by index, prepared when they are asked for: what a loop with a sampler of its own wants."""

from __future__ import annotations

import os
import threading
import weakref
from collections.abc import Iterator, Sequence
from functools import cached_property
from typing import Any, Self

import numpy as np

from pannier.array_types import Array, Numbers
from pannier.columns import Rows, numbers_of
from pannier.errors import PictureError, UsageError
from pannier.feeding.job import FeedJob
from pannier.images.chance import Variation, variations
from pannier.images.facts import Facts
from pannier.images.prepare import Preparation
from pannier.images.treatment import Treatment
from pannier.store.boxes import boxes_of
from pannier.store.choosing import chosen_rows
from pannier.store.leases import Held, reading
from pannier.store.places import PictureReader, ReadError, damage, fact_lists, places_of
from pannier.store.state import State


class View:
    """Records of a split in order of keys: `view[i]` is (array, class number), of a slice or a list (arrays, numbers).

    The array is what a feed with the same treatment, seed and epoch gives of that record; a record without a label has -1.
    Safe between threads. Pickled, it opens the store anew where it arrives; after a fork it opens files anew.
    """

    def __init__(self, job: FeedJob, state: State, epoch: int = 0) -> None:
        if job.treatment is None:
            raise UsageError("say through which treatment: a Treatment, a TOML file's path, or size=96")
        self._job, self._state, self.treatment, self.split = job, state, job.treatment, job.split
        self.seed, self.epoch, self.augment = job.seed, epoch, bool(job.augment) and bool(job.treatment.varies)
        rows = chosen_rows(state, job.split, job.subset, job.seed, where=job.where)
        keys = state.manifest.take(rows, ["key"]).column(0).to_pylist()
        order = sorted(range(len(keys)), key=lambda at: keys[at].encode())
        self._rows: Rows = rows[np.array(order, np.int64)]
        self.keys: list[str] = [keys[at] for at in order]
        self._hands = _Hands(state, self.treatment)

    def __reduce__(self) -> tuple[Any, ...]:
        return _reopened, (type(self), self._job, self.epoch)

    def at_epoch(self, epoch: int) -> Self:
        """The same records as that epoch draws them."""
        other = object.__new__(type(self))
        vars(other).update(vars(self) | {"epoch": epoch})
        return other

    def __repr__(self) -> str:
        return f"<View {self.split or 'of all'}: {len(self)} records, epoch {self.epoch}>"

    def to_dict(self) -> dict[str, Any]:
        """What is seen: plain data for JSON."""
        names = ("split", "seed", "epoch", "augment")
        return {"records": len(self), **{name: getattr(self, name) for name in names}, "treatment": self.treatment.identity}

    def __len__(self) -> int:
        return len(self._rows)

    def __iter__(self) -> Iterator[tuple[Array, int]]:
        return (self[at] for at in range(len(self)))

    def __getitem__(self, which: int | slice | Sequence[int] | Array) -> tuple[Array, Any]:
        """Raises IndexError, and DamageError, which names shard, row and key."""
        if isinstance(which, (int, np.integer)):
            at = range(len(self))[int(which)]
            out = np.empty(self.treatment.shape, self.treatment.dtype)
            self._into(np.array([at]), out[None])
            return out, int(self.labels[at])
        places = np.arange(len(self))[which if isinstance(which, slice) else np.asarray(which, np.int64)]
        several = np.empty((len(places), *self.treatment.shape), self.treatment.dtype)
        self._into(places, several)
        return several, self.labels[places]

    @cached_property
    def labels(self) -> Numbers:
        """Class numbers, int64, by index."""
        return numbers_of(*self._state.manifest.codes("label"), self._state.classes)[self._rows].astype(np.int64)

    def _into(self, places: Numbers, out: Array) -> None:
        manifest, rows = self._state.manifest, self._rows[places]
        reader, preparation = self._hands.own()
        boxes = boxes_of(manifest, rows, self.treatment) if self.treatment.box is not None else [None] * len(rows)
        drawn: list[Variation | None] = [None] * len(rows)
        if self.augment:
            drawn = [*variations(self.treatment, manifest.hashes_at(rows), self.seed, self.epoch)]
        facts = zip(*fact_lists(manifest, rows, Facts._fields[:-1]), strict=True)
        found = zip(places_of(manifest, self._state.index, rows), facts, drawn, boxes, strict=True)
        for at, (place, told, variation, box) in enumerate(found):
            try:
                preparation.into(reader.read(place), Facts(*told), out[at], variation, box)
            except (ReadError, PictureError) as error:
                what = str(error) if isinstance(error, ReadError) else f"cannot be decoded: {error}"
                raise damage(place, self.keys[int(places[at])], what) from error


class _Hands:
    """A reader and a preparation for each thread of each process, and one lease for all of a process."""

    def __init__(self, state: State, treatment: Treatment) -> None:
        self._state, self._treatment, self._lock = state, treatment, threading.Lock()
        self._process = 0
        self._lease: Held | None = None
        self._local = threading.local()

    def own(self) -> tuple[PictureReader, Preparation]:
        with self._lock:
            if self._process != os.getpid():  # at first, and after a fork
                self._process, self._local = os.getpid(), threading.local()
                self._lease = reading(self._state.storage, [self._state.id])
                if self._lease is not None:
                    weakref.finalize(self, self._lease.end)
        if self._lease is not None:
            self._lease.renew()
        if not hasattr(self._local, "reader"):
            self._local.reader = PictureReader(self._state.storage, open_files=8)
            self._local.preparation = Preparation(self._treatment)
        return self._local.reader, self._local.preparation


def _reopened(kind: type[View], job: FeedJob, epoch: int) -> View:
    return kind(job, job.open(), epoch)
