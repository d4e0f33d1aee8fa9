"""Where a picture's pixels go: which box of it is used, which part of the canvas it fills, how small it is decoded.

Plain arithmetic on numbers or on whole arrays of them, so that the planner can ask it for a million records at once.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Any, NamedTuple

import numpy as np

from pannier.images.decode import SMALLEST_REDUCED_SIDE

# what a reduced decoding must leave to the antialiased resize; below it one can see the difference
RATIO_LEFT = 2

Window = tuple[int, int, int, int]
# top, left, height, width of a part of a picture
Box = tuple[float, float, float, float]


class Placement(NamedTuple):
    """`box`: top, left, height, width of the part used, in source pixels, fractions kept (nothing is rounded).

    `target`: height, width, top, left of the part of the canvas that it fills, in pixels.
    """

    box: tuple[float, float, float, float]
    target: tuple[int, int, int, int]


@dataclass(frozen=True)
class Frame:
    """What a picture is placed on: a view of some pixels, the canvas' margin around it on each side, and how it fits.

    anchor: which part is kept, or where a smaller picture lies: shares (down, across). side: for "shortest" and "longest",
    how many pixels of the view that side gets.
    """

    view: tuple[int, int]
    margin: tuple[int, int] = (0, 0)
    fit: str = "cover"
    anchor: tuple[float, float] = (0.5, 0.5)
    side: int = 0
    decodes_whole: bool = False

    @property
    def canvas(self) -> tuple[int, int]:
        """Height and width of the whole canvas, in pixels."""
        return (self.view[0] + 2 * self.margin[0], self.view[1] + 2 * self.margin[1])

    @property
    def view_window(self) -> Window:
        """The view as a part of the canvas: top, left, height, width."""
        return (*self.margin, *self.view)


def place(height: int, width: int, frame: Frame) -> Placement:
    """The placement of an upright picture of (height, width) on a canvas."""
    if frame.fit == "contain":
        scale = min(frame.view[0] / height, frame.view[1] / width)
        axes = [_inner_axis(*axis, scale) for axis in _axes(height, width, frame)]
    elif frame.fit in ("shortest", "longest"):
        scale = frame.side / (min if frame.fit == "shortest" else max)(height, width)
        axes = [_scaled_axis(*axis, scale) for axis in _axes(height, width, frame)]
    else:
        covering = max(frame.view[0] / height, frame.view[1] / width) if frame.fit == "cover" else None
        axes = [_covering_axis(*axis, covering) for axis in _axes(height, width, frame)]
    (top, tall, rows, above), (left, wide, columns, before) = axes
    return Placement((top, left, tall, wide), (rows, columns, above, before))


Axis = tuple[float, float, int, int]


def _axes(height: int, width: int, frame: Frame) -> list[tuple[int, int, int, float]]:
    """For each axis: the picture's pixels, the view's, the margin's, and the anchor."""
    return list(zip((height, width), frame.view, frame.margin, frame.anchor, strict=True))


def _covering_axis(length: int, view: int, margin: int, anchor: float, scale: float | None) -> Axis:
    """(start, length) in the source, (pixels, begin) on the canvas: the view is filled; beyond it, as far as pixels go."""
    used = float(length) if scale is None else min(view / scale, float(length))
    start = (length - used) * anchor
    if not margin:
        return start, used, view, 0
    step = used / view
    first = max(-margin, min(0, math.ceil(-start / step - 0.5)))  # whose center lies in the picture
    last = min(view + margin, max(view, math.ceil((length - start) / step - 0.5)))
    return start + first * step, (last - first) * step, last - first, margin + first


def _inner_axis(length: int, view: int, margin: int, anchor: float, scale: float) -> Axis:
    inner = min(view, max(1, int(length * scale + 0.5)))
    return 0.0, float(length), inner, margin + int((view - inner) * anchor)


def _scaled_axis(length: int, view: int, margin: int, anchor: float, scale: float) -> Axis:
    scaled = max(1, int(length * scale + 0.5))
    begin = margin + math.floor((view - scaled) * anchor)
    first, last = max(0, begin), min(view + 2 * margin, begin + scaled)
    step = length / scaled
    return (first - begin) * step, (last - first) * step, last - first, first


def reduction(height: Any, width: Any, frame: Frame) -> Any:
    """By how much a JPEG of that upright size may be decoded smaller: 1, 2, 4 or 8. Takes numbers or arrays.

    The largest that leaves the resize a ratio of two or more on both axes, for pictures of 64 pixels or more a side.
    """
    height, width = np.asarray(height, np.float64), np.asarray(width, np.float64)
    if frame.decodes_whole:
        return np.ones(np.shape(height), np.int64)
    down, across = height / frame.view[0], width / frame.view[1]
    if frame.fit in ("shortest", "longest"):
        ratio = (np.minimum if frame.fit == "shortest" else np.maximum)(height, width) / frame.side
    else:
        ratio = (np.maximum if frame.fit == "contain" else np.minimum)(down, across)
    ratio = np.where(np.minimum(height, width) >= SMALLEST_REDUCED_SIDE, ratio, 1.0)
    found = np.ones(np.shape(ratio), np.int64)
    for step in (2, 4, 8):
        found = np.where(ratio / step >= RATIO_LEFT, step, found)
    return found


def reduced(box: tuple[float, float, float, float], by: int) -> tuple[float, float, float, float]:
    """The same box in a picture decoded smaller: exact, as libjpeg's reduced pixels are squares of `by` pixels."""
    top, left, height, width = box
    return (top / by, left / by, height / by, width / by)


def with_mirrored(window: Window, target: tuple[int, int, int, int], border: str) -> Window:
    """The window widened by those pixels of the target that what lies beyond it is made of."""
    if border == "pad":
        return window
    (top, tall), (left, wide) = (
        _with_mirrored(window[axis], window[axis + 2], target[axis + 2], target[axis], border) for axis in (0, 1)
    )
    return top, left, tall, wide


def _with_mirrored(begin: int, length: int, target: int, target_length: int, border: str) -> tuple[int, int]:
    end, target_end = begin + length, target + target_length
    before, after = max(0, target - begin), max(0, end - target_end)
    if (before and after) or max(before, after) > target_length:
        return min(begin, target), max(end, target_end) - min(begin, target)
    if before:
        end = max(end, target + (before if border == "mirror" else 1))
    if after:
        begin = min(begin, target_end - (after if border == "mirror" else 1))
    return begin, end - begin
