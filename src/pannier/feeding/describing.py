"""One batch described as one wants it before training: shapes, values, labels, memory, and what looks wrong."""

from __future__ import annotations

import math
from collections import Counter
from dataclasses import dataclass
from typing import Any

import numpy as np

from pannier.errors import UsageError, did_you_mean
from pannier.feeding.batch import Batch
from pannier.feeding.feed import Feed
from pannier.results import Result

# a mean or deviation further off than this is not what standardizing gives
_STANDARD_MEAN, _STANDARD_STD = 1.0, (0.4, 2.5)
_EXPECTED = ("shape", "dtype", "layout", "range", "mean", "std", "classes")


@dataclass(frozen=True, repr=False)
class Description(Result):
    """A batch in numbers. `mean` and `std` by channel; `labels` names and counts, the most frequent first.

    `batch_bytes` is the array's memory; `epoch_bytes` what an epoch gives in all. `warnings`: what looks wrong.
    """

    shape: tuple[int, ...]
    dtype: str
    layout: str
    lowest: float
    highest: float
    mean: tuple[float, ...]
    std: tuple[float, ...]
    label_dtype: str
    labels: tuple[tuple[str | None, int], ...]
    batch_bytes: int
    epoch_bytes: int
    warnings: tuple[str, ...]

    def unmet(self, expected: str) -> list[str]:
        """What of `expected` does not hold, a line each. Raises UsageError for what cannot be understood.

        expected: parts with commas between, as "shape=32x3x96x96,dtype=float32,range=-3..3,mean=-0.5..0.5": shape (* for any
        number), dtype, layout, classes (how many are in the batch), and as low..high range, mean and std of every channel.
        """
        problems = []
        for part in expected.split(","):
            name, equals, wanted = (each.strip() for each in part.partition("="))
            if not equals or name not in _EXPECTED:
                raise UsageError(f"`expect` {part!r}: write NAME=VALUE with a name of {', '.join(_EXPECTED)}{_near(name)}")
            problem = _unmet_one(self, name, wanted)
            if problem:
                problems.append(f"{name}: expected {wanted}, got {problem}")
        return problems


def describe(feed: Feed, batch: Batch) -> Description:
    """Describes a batch of a feed that has a treatment. Raises UsageError for one without."""
    if feed.treatment is None:
        raise UsageError("without a treatment batches are encoded pictures: there are no arrays to describe")
    images = batch.images
    channels_last = np.moveaxis(images, 1, -1) if feed.treatment.layout == "chw" else images
    flat = channels_last.reshape(-1, channels_last.shape[-1]).astype(np.float64)
    labels = Counter(batch.names)
    dtype = "names" if isinstance(batch.labels, list) else f"{batch.labels.dtype} {'x'.join(map(str, batch.labels.shape))}"
    ends = (float(images.min()), float(images.max()))
    spread = (tuple(flat.mean(axis=0).tolist()), tuple(flat.std(axis=0).tolist()))
    told = tuple(sorted(labels.items(), key=lambda each: (-each[1], each[0] or "")))
    sizes = (images.nbytes, feed.treatment.byte_count * feed.pictures_per_epoch)
    layout, warnings = feed.treatment.layout, tuple(_warnings(feed, batch, flat))
    return Description(images.shape, str(images.dtype), layout, *ends, *spread, dtype, told, *sizes, warnings)


def _warnings(feed: Feed, batch: Batch, flat: Any) -> list[str]:
    assert feed.treatment is not None
    warnings = []
    images, count = batch.images, len(batch)
    if not np.isfinite(flat).all():
        warnings.append("some values are not numbers (NaN or infinite)")
    names = set(batch.names)
    if len(names) == 1 and count > 1 and len(feed.state.classes) > 1:
        reason = "" if feed.shuffle else ": it is not shuffled"
        warnings.append(f"all {count} labels are {next(iter(names)) or 'missing'}{reason}")
    if None in names:
        warnings.append(f"{batch.names.count(None)} of {count} pictures have no label")
    if images.dtype != np.uint8 and float(images.max()) > 32:
        ends = f"{float(images.min()):.4g} to {float(images.max()):.4g}"
        warnings.append(f'{images.dtype} values from {ends}: most models want values = "unit", "signed" or "standard"')
    constant = [key for key, image in zip(batch.keys, images, strict=True) if image.min() == image.max()]
    if constant:
        warnings.append(f"{len(constant)} of {count} pictures are one color: {', '.join(constant[:3])}")
    if feed.treatment.values == "standard" and np.isfinite(flat).all():
        mean, std = flat.mean(axis=0), flat.std(axis=0)
        if np.abs(mean).max() > _STANDARD_MEAN or std.min() < _STANDARD_STD[0] or std.max() > _STANDARD_STD[1]:
            spread = f"mean {mean[np.abs(mean).argmax()]:.2f} and std {std.min():.2f} to {std.max():.2f}"
            warnings.append(f"standardized values have {spread}: are mean and std those of these pictures?")
    return warnings


def _near(name: str) -> str:
    hint = did_you_mean(name, _EXPECTED)
    return hint if "did you mean" in hint else ""


def _unmet_one(description: Description, name: str, wanted: str) -> str | None:
    if name == "shape":
        sides = wanted.lower().split("x")
        if not all(side == "*" or side.isdigit() for side in sides):
            raise UsageError(f"`expect` shape={wanted}: write numbers or * with x between, as 32x3x96x96")
        got = [str(side) for side in description.shape]
        alike = len(sides) == len(got) and all(a in ("*", b) for a, b in zip(sides, got, strict=True))
        return None if alike else "x".join(got)
    if name in ("dtype", "layout"):
        value: str = getattr(description, name)
        return None if value == wanted else value
    if name == "classes":
        labelled = sum(label is not None for label, _ in description.labels)
        return None if wanted == str(labelled) else str(labelled)
    low, high = _ends(name, wanted)
    numbers = (description.lowest, description.highest) if name == "range" else getattr(description, name)
    if all(low <= number <= high for number in numbers):
        return None
    return f"{min(numbers):.4g}..{max(numbers):.4g}" if not any(map(math.isnan, numbers)) else "NaN"


def _ends(name: str, wanted: str) -> tuple[float, float]:
    low, dots, high = wanted.partition("..")
    try:
        if not dots:
            raise ValueError
        return float(low), float(high)
    except ValueError:
        raise UsageError(f"`expect` {name}={wanted}: write low..high, as -3..3") from None
