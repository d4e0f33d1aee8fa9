"""Mean and deviation of a split through a treatment's fixed part: exact, from counts of every value."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

import numpy as np

from pannier.errors import SourceError, TreatmentError
from pannier.feed.feed import Feed

if TYPE_CHECKING:
    from pannier.images.treatment import Treatment
    from pannier.store.snapshot import Snapshot


def measure_values(
    snapshot: Snapshot, split: str | None, treatment: Treatment, *, workers: int | None = None
) -> tuple[tuple[float, ...], tuple[float, ...]]:
    """(mean, std) by channel on the scale 0..1, population, over all pixels. Whole numbers until the last division."""
    raw = treatment.with_fields(values="raw", dtype="uint8", layout="chw", mean=None, std=None, measured_on=None)
    counts = np.zeros((raw.channels, 256), np.int64)
    with Feed(snapshot, split, raw, shuffle=False, augment=False, workers=workers) as feed:
        for batch in feed:
            for channel in range(raw.channels):
                counts[channel] += np.bincount(batch.images[:, channel].ravel(), minlength=256)
    if not counts.sum():
        raise SourceError(f"split {split!r} holds no pictures to measure")
    pairs = [_mean_and_std(row.tolist()) for row in counts]
    for channel, (mean, std) in enumerate(pairs):
        if std == 0:
            raise TreatmentError(f"channel {channel} is {mean * 255:g} in every pixel: it cannot be standardized")
    return tuple(mean for mean, _ in pairs), tuple(std for _, std in pairs)


def _mean_and_std(counts: list[int]) -> tuple[float, float]:
    n = sum(counts)
    total = sum(value * count for value, count in enumerate(counts))
    squares = sum(value * value * count for value, count in enumerate(counts))
    return total / n / 255, math.sqrt(n * squares - total * total) / n / 255
