"""The canvas: how much larger and finer than the view it has to be for a treatment's random geometry."""

from __future__ import annotations

import math

from pannier.images.fields import TreatmentFields
from pannier.images.varying import GEOMETRY, Crop, Step

LARGEST_MARGIN, LARGEST_SCALE = 0.5, 2.0
# canvas pixels to one of the strongest zoom's: with the bilinear warp then about as sharp as one resize (docs/treatments.md)
FINENESS = 1.1


def warps(treatment: TreatmentFields) -> bool:
    """Whether any random step moves pixels otherwise than by mirroring them."""
    return any(getattr(treatment, name) is not None for name in GEOMETRY if name != "flip")


def proposed_scale(treatment: TreatmentFields) -> float:
    """Canvas pixels to a pixel of the view: enough for the strongest magnification, at most 2."""
    if not warps(treatment):
        return 1.0
    magnified = _most(treatment.zoom) * math.sqrt(_most(treatment.stretch))
    if isinstance(treatment.crop, Crop):
        magnified /= math.sqrt(treatment.crop.area[0])
    return round(min(LARGEST_SCALE, FINENESS * max(1.0, magnified)), 2)


def proposed_margin(treatment: TreatmentFields, scale: float) -> float:
    """What the view needs around it on each side, as a share of the side, so that no warp sees the border; at most one half.

    The view's half sides are widened by the most that each step can, from the last step to the first.
    """
    if not warps(treatment):
        return 0.0
    height, width = treatment.size
    down, across = height / 2, width / 2
    for name in reversed(treatment.order):
        step = getattr(treatment, name, None)
        if name in GEOMETRY and isinstance(step, Step):
            down, across = _widened(name, step, down, across, treatment.size)
        elif isinstance(step, Crop):
            down, across = max(down, height / 2), max(across, width / 2)
    growth = max(2 * down / height, 2 * across / width)
    reach = growth + 1 / scale + 0.5  # what the warp's filter takes in around a point, in pixels of the view
    margin = max((down + reach) / height - 0.5, (across + reach) / width - 0.5)
    return min(LARGEST_MARGIN, math.ceil(margin * 1000) / 1000)


def _widened(name: str, step: Step, down: float, across: float, size: tuple[int, int]) -> tuple[float, float]:
    """Half sides that hold all that the step can make of a box with these."""
    most = max(abs(step.range[0]), abs(step.range[1]))
    if name in ("shift", "perspective"):
        return down + most * size[0], across + most * size[1]
    if name == "shear":
        tangent = math.tan(math.radians(most))
        return down + tangent * across, across + tangent * down
    if name == "zoom":
        return down / _least(step), across / _least(step)
    if name == "stretch":
        return down * math.sqrt(_most(step)), across / math.sqrt(_least(step))
    return _turned(step, down, across)


def _turned(step: Step, down: float, across: float) -> tuple[float, float]:
    low, high = (math.radians(end) for end in step.range)
    corner = math.atan2(down, across)
    angles = [low, high, 0.0]
    for turn in range(-4, 5):  # where a corner is furthest out, downward and across
        angles += [turn * math.pi / 2 + sign * angle for sign in (-1, 1) for angle in (corner, math.pi / 2 - corner)]
    reached = [angle for angle in angles if low <= angle <= high or angle == 0]
    sines, cosines = [abs(math.sin(each)) for each in reached], [abs(math.cos(each)) for each in reached]
    return (
        max(s * across + c * down for s, c in zip(sines, cosines, strict=True)),
        max(c * across + s * down for s, c in zip(sines, cosines, strict=True)),
    )


def _most(step: Step | None) -> float:
    return 1.0 if step is None else max(step.range[1], 1.0) if step.chance < 1 else step.range[1]


def _least(step: Step) -> float:
    return min(step.range[0], 1.0) if step.chance < 1 else step.range[0]
