"""Mean, deviation, extremes and histogram of a split through a treatment's fixed part: exact, from counts of every value."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterator
from concurrent.futures import Executor
from dataclasses import dataclass
from typing import Any, TypeVar

import numpy as np

from pannier.errors import SourceError, TreatmentError
from pannier.executors import done_by
from pannier.feeding.feed import Feed
from pannier.feeding.job import job_of, pictures_digest
from pannier.feeding.parted import Part, parts_of
from pannier.images.treatment import Treatment
from pannier.results import Result
from pannier.store.state import State

T = TypeVar("T", bound=Treatment)
Histogram = np.ndarray[Any, np.dtype[np.int64]]


@dataclass(frozen=True, eq=False, repr=False)
class Statistics(Result):
    """What was counted. `counts` int64 (channels, 256): how often each value is there, over all pixels of all pictures.

    `pictures_digest` tells whether the split still holds the same pictures; `measured_through` is the treatment.
    """

    counts: Histogram
    pictures: int
    split: str | None
    content_id: str
    pictures_digest: str | None
    measured_through: Treatment

    @property
    def mean(self) -> tuple[float, ...]:
        """By channel, on the scale 0..1: whole numbers until the last division."""
        return tuple(_mean_and_std(row.tolist())[0] for row in self.counts)

    @property
    def std(self) -> tuple[float, ...]:
        """By channel, on the scale 0..1: of all pixels (population)."""
        return tuple(_mean_and_std(row.tolist())[1] for row in self.counts)

    @property
    def lowest(self) -> tuple[int, ...]:
        """The smallest pixel of each channel, 0..255."""
        return tuple(int(np.flatnonzero(row)[0]) for row in self.counts)

    @property
    def highest(self) -> tuple[int, ...]:
        return tuple(int(np.flatnonzero(row)[-1]) for row in self.counts)

    @property
    def at_the_ends(self) -> tuple[float, float]:
        """Which shares of all values are 0, and 255: what is cut off, or padding."""
        total = self.counts.sum()
        return float(self.counts[:, 0].sum() / total), float(self.counts[:, 255].sum() / total)

    @property
    def through_in_words(self) -> str:
        """How many pictures, and through what."""
        through = self.measured_through
        return f"{self.pictures:,} pictures at {'x'.join(map(str, through.size))}, {through.fit}, {through.color}"

    def to_dict(self) -> dict[str, Any]:
        """Plain data for JSON."""
        about = {name: getattr(self, name) for name in ("split", "pictures", "content_id")}
        numbers = {name: list(getattr(self, name)) for name in ("mean", "std", "lowest", "highest")}
        fixed_part = self.measured_through.fixed_part
        return {**about, "fixed_part": fixed_part, **numbers, "histogram": self.counts.tolist()}

    def treatment(self, kind: type[T]) -> T:
        """This treatment, of a class of treatments, with values "standard" and these numbers. Raises TreatmentError."""
        through, mean, std = self.measured_through, self.mean, self.std
        for channel, deviation in enumerate(std):
            if deviation == 0:
                raise TreatmentError(
                    f"channel {channel} is {mean[channel] * 255:g} in every pixel: it cannot be standardized"
                )
        seen = {
            "split": self.split,
            "content_id": self.content_id,
            "fixed_part": through.fixed_part,
            "pictures": self.pictures_digest,
            "through": through.fixed_fields(),
        }
        dtype = "float32" if through.dtype == "uint8" else through.dtype
        fields = {"values": "standard", "dtype": dtype, "mean": mean, "std": std, "table": None, "measured_on": seen}
        return kind(**({name: getattr(through, name) for name in through.model_fields_set} | fields))


def measure_values(
    snapshot: State,
    split: str | None,
    treatment: Treatment,
    *,
    workers: int | None = None,
    memory_limit: str | int | None = "auto",
    progress: Callable[[int, int], None] | None = None,
    executor: Executor | None = None,
) -> Statistics:
    """Histogram every pixel of a split's pictures as the treatment's fixed part makes them, padding too.

    Pictures are prepared in parallel, and counted batch by batch in whole numbers, whose sums do not hang on their order.
    executor: whose workers do it, with `workers` threads each, by default one. Raises SourceError where the split is empty.
    """
    raw = treatment.with_fields(
        values="raw", dtype="uint8", layout="chw", mean=None, std=None, table=None, measured_on=None, own=_fixed(treatment)
    )
    counts = np.zeros((raw.channels, 256), np.int64)
    pictures = 0
    job = job_of(snapshot, split, raw, shuffle=False, augment=False, workers=workers, memory_limit=memory_limit)
    if executor is not None:
        counted: Iterator[tuple[Histogram, int]]
        parts = [*parts_of(snapshot, job)]
        total = sum(records for _, records in parts)
        paths = [snapshot.storage.address]
        counted = (result for _, _, result in done_by(executor, _counted_elsewhere, parts, paths=paths))
    else:
        feed = Feed(job, snapshot)
        total, counted = feed.records, _counted(feed)
    for own, records in counted:
        counts += own
        pictures += records
        if progress:
            progress(pictures, total)
    if not pictures:
        raise SourceError(f"split {split!r} holds no pictures to measure")
    digest = pictures_digest(snapshot, split)
    return Statistics(counts, pictures, split, snapshot.content_id, digest, treatment)


def _counted(feed: Feed) -> Iterator[tuple[Histogram, int]]:
    """The counts of a feed's batches, and how many pictures each has."""
    from pannier.images.kernels.pixels import count_values

    with feed:
        for batch in feed:
            counts = np.zeros((batch.images.shape[1], 256), np.int64)
            count_values(batch.images, counts)
            yield counts, len(batch)


def _counted_elsewhere(part: Part) -> tuple[Histogram, int]:
    counts, pictures = zip(*_counted(part.opened()[1]), strict=True)
    return np.sum(counts, axis=0), sum(pictures)


def _fixed(treatment: Treatment) -> tuple[Any, ...]:
    return tuple(treatment.own_at("decoded"))


def _mean_and_std(counts: list[int]) -> tuple[float, float]:
    n = sum(counts)
    total = sum(value * count for value, count in enumerate(counts))
    squares = sum(value * value * count for value, count in enumerate(counts))
    return total / n / 255, math.sqrt(n * squares - total * total) / n / 255
