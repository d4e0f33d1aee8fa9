"""One picture through a treatment, step by step, with the numbers of every step: what one looks at before training."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from pannier.array_types import Array
from pannier.hashing import text_hash
from pannier.images.chance import draw_numbers, variations
from pannier.images.decode import decode, upright
from pannier.images.facts import check_pixels, read_facts
from pannier.images.placement import Box
from pannier.images.prepare import Preparation
from pannier.images.tone import has_tone
from pannier.images.treatment import Treatment
from pannier.images.varying import KINDS, Step
from pannier.results import Result

PATCH = 4


@dataclass(frozen=True, eq=False, repr=False)
class Stage(Result):
    """What a picture is after one step: `array` as it is there, `picture` uint8 (h, w, channels) as one sees it."""

    name: str
    array: Array
    picture: Array

    @property
    def shape(self) -> str:
        return "x".join(map(str, self.array.shape))

    @property
    def is_planar(self) -> bool:
        """Whether channels come first, as in an array of the layout "chw"."""
        shape, channels = self.array.shape, self.picture.shape[2]
        return len(shape) == 3 and shape[0] == channels and shape[2] != channels

    @property
    def by_channel(self) -> Array:
        """The values, (channels, height, width)."""
        if self.array.ndim == 2:
            return self.array[None]
        return self.array if self.is_planar else np.moveaxis(self.array, -1, 0)

    @property
    def lowest(self) -> float:
        return float(self.array.min())

    @property
    def highest(self) -> float:
        return float(self.array.max())

    @property
    def means(self) -> list[float]:
        """By channel."""
        return [float(channel.mean(dtype=np.float64)) for channel in self.by_channel]

    @property
    def deviations(self) -> list[float]:
        return [float(channel.std(dtype=np.float64)) for channel in self.by_channel]

    def to_dict(self) -> dict[str, Any]:
        """Plain data for JSON."""
        about = {"step": self.name, "shape": list(self.array.shape), "dtype": str(self.array.dtype)}
        values = {"lowest": self.lowest, "highest": self.highest, "mean": self.means, "std": self.deviations}
        return {**about, **values, "middle": self.patch.tolist()}

    @property
    def patch(self) -> Array:
        """The numbers of the first channel in the middle of the picture, 4 x 4 at the most."""
        plane = self.by_channel[0]
        top, left = max(0, plane.shape[0] // 2 - PATCH // 2), max(0, plane.shape[1] // 2 - PATCH // 2)
        return plane[top : top + PATCH, left : left + PATCH]


def stages(
    treatment: Treatment, data: bytes, key: str, *, seed: int = 0, epoch: int = 0, times: int = 3, box: Box | None = None
) -> list[Stage]:
    """As stored, upright, evened out (where something is), fitted, augmented (epochs from `epoch` on), final."""
    facts = read_facts(data)
    check_pixels(facts)
    stored = np.ascontiguousarray(decode(data, facts, background=treatment.background))
    steps = [Stage("as stored", stored, stored)]
    turned = np.ascontiguousarray(upright(stored, facts.turn))
    steps.append(Stage("upright", turned, turned))
    preparation = Preparation(treatment)
    if treatment.box is not None or treatment.trim is not None or treatment.own_at("decoded"):
        only_cut = Preparation(treatment.with_fields(**_raw(treatment), tone="none", tone_gamma=1.0))
        steps.append(_stage("cut", only_cut.pixels_of(data, facts, box)))
    if has_tone(treatment) or treatment.color == "gray":
        name = "evened out" if has_tone(treatment) else "gray"
        steps.append(_stage(name, preparation.pixels_of(data, facts, box)))
    fitted = Preparation(treatment.with_fields(**_raw(treatment))).one(data, box=box)
    steps.append(Stage("fitted", fitted, fitted))
    steps += [
        Stage(f"augmented {i + 1}", each, each)
        for i, each in enumerate(varied(treatment, data, key, seed, epoch, times, box))
    ]
    final = preparation.one(data, box=box)
    steps.append(Stage("final", final, treatment.undo(final)))
    return steps


def _stage(name: str, pixels: Array) -> Stage:
    pixels = pixels.copy()
    return Stage(name, pixels, pixels if pixels.ndim == 3 else pixels[:, :, None])


def _raw(treatment: Treatment) -> dict[str, Any]:
    """What makes a treatment's arrays pictures: uint8 (h, w, channels)."""
    own = [step for step in treatment.own if step.at != "values"]
    none = dict.fromkeys(("mean", "std", "table", "measured_on"))
    return {"values": "raw", "dtype": "uint8", "layout": "hwc", "own": own, **none}


def varied(
    treatment: Treatment, data: bytes, key: str, seed: int, epoch: int, times: int, box: Box | None = None
) -> list[Array]:
    """The picture as that many epochs would have it, uint8 (h, w, channels); none where nothing is random."""
    if not treatment.varies:
        return []
    raw = treatment.with_fields(**_raw(treatment))
    preparation = Preparation(raw)
    hashes = np.array([text_hash(key)], np.uint64)
    return [
        preparation.one(data, variation=variations(raw, hashes, seed, each)[0], box=box)
        for each in range(epoch, epoch + times)
    ]


def drawn_words(treatment: Treatment, key: str, seed: int, epoch: int) -> list[tuple[str, str]]:
    """What is drawn for a record in an epoch: step and number, in words; "-" where the step is not done."""
    drawn = draw_numbers(treatment, np.array([text_hash(key)], np.uint64), seed, epoch)
    words = []
    for name, each in drawn.items():
        numbers = each.numbers[0].tolist()
        step = getattr(treatment, name, None)
        if name == "flip":
            text = {0: "-", 1: "left-right", 2: "top-bottom", 3: "both"}[int(numbers[0])]
        elif not each.active[0]:
            text = "-"
        elif isinstance(step, Step):
            text = _numbers(name, numbers)
        elif name == "crop":
            text = f"{numbers[0]:.2f} of the area"
        else:
            text = "yes"
        words.append((name, text))
    return words


def _numbers(name: str, numbers: Sequence[float]) -> str:
    if name == "noise":
        numbers = numbers[:1]
    if name == "perspective":
        return f"{max(map(abs, numbers)):.3f}"
    if KINDS[name].unit == "degrees":
        return " ".join(f"{number:+.1f}\u00b0" for number in numbers)
    if name == "jpeg":
        return f"{numbers[0]:.0f}"
    if KINDS[name].unit == "factors":
        return f"{numbers[0]:.2f}"
    return " ".join(f"{number:+.3f}" if name == "shift" else f"{number:.3f}" for number in numbers)
