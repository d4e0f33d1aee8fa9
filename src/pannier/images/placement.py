"""Where a picture's pixels go: which box of it is used, which part of the canvas it fills, how small it is decoded.

Plain arithmetic on numbers or on whole arrays of them, so that the planner can ask it for a million records at once.
"""

from __future__ import annotations

from typing import Any, NamedTuple

import numpy as np

from pannier.images.decode import SMALLEST_REDUCED_SIDE

# what a reduced decoding must leave to the antialiased resize; below it one can see the difference
RATIO_LEFT = 2


class Placement(NamedTuple):
    """`box`: top, left, height, width of the part used, in source pixels, fractions kept (nothing is rounded).

    `target`: height, width, top, left of the part of the canvas that it fills, in pixels.
    """

    box: tuple[float, float, float, float]
    target: tuple[int, int, int, int]


def place(height: int, width: int, size: tuple[int, int], fit: str) -> Placement:
    """The placement of an upright picture of (height, width) on a canvas of `size`."""
    tall, wide = size
    if fit == "fill":
        return Placement((0.0, 0.0, float(height), float(width)), (tall, wide, 0, 0))
    if fit == "cover":
        scale = max(tall / height, wide / width)
        box_height, box_width = min(tall / scale, float(height)), min(wide / scale, float(width))
        return Placement(((height - box_height) / 2, (width - box_width) / 2, box_height, box_width), (tall, wide, 0, 0))
    scale = min(tall / height, wide / width)
    inner_height = min(tall, max(1, int(height * scale + 0.5)))
    inner_width = min(wide, max(1, int(width * scale + 0.5)))
    above, before = (tall - inner_height) // 2, (wide - inner_width) // 2
    return Placement((0.0, 0.0, float(height), float(width)), (inner_height, inner_width, above, before))


def reduction(height: Any, width: Any, size: tuple[int, int], fit: str) -> Any:
    """By how much a JPEG of that upright size may be decoded smaller: 1, 2, 4 or 8. Takes numbers or arrays.

    The largest that leaves the resize a ratio of two or more on both axes, for pictures of 64 pixels or more a side.
    """
    height, width = np.asarray(height, np.float64), np.asarray(width, np.float64)
    down, across = height / size[0], width / size[1]
    if fit == "cover":
        ratio = np.minimum(down, across)
    elif fit == "contain":
        ratio = np.maximum(down, across)
    else:
        ratio = np.minimum(down, across)
    ratio = np.where(np.minimum(height, width) >= SMALLEST_REDUCED_SIDE, ratio, 1.0)
    found = np.ones(np.shape(ratio), np.int64)
    for step in (2, 4, 8):
        found = np.where(ratio / step >= RATIO_LEFT, step, found)
    return found


def reduced(box: tuple[float, float, float, float], by: int) -> tuple[float, float, float, float]:
    """The same box in a picture decoded smaller: exact, as libjpeg's reduced pixels are squares of `by` pixels."""
    top, left, height, width = box
    return (top / by, left / by, height / by, width / by)
