"""Miniatures: 64 x 64 gray pixels of a picture, enough to tell whether it is another one turned, cropped or saved anew."""

from __future__ import annotations

from typing import Any

import numpy as np

from pannier.images.colors import Pixels

SIDE = 64
BYTES = SIDE * SIDE

Miniatures = np.ndarray[Any, np.dtype[np.uint8]]


def miniature(pixels: Pixels) -> bytes:
    """The miniature of upright gray pixels, uint8 (h, w): 64 rows of 64, stretched from 0 to 255.

    Means over 128 x 128 areas, then every other pixel of those smoothed by 1, 3, 3, 1: fine threads would beat with a
    coarser grid.
    """
    import cv2

    from pannier.images.kernels import likeness

    if min(pixels.shape) < 2 * SIDE:
        means = cv2.resize(np.ascontiguousarray(pixels), (2 * SIDE, 2 * SIDE), interpolation=cv2.INTER_AREA)
    else:
        means = np.empty((2 * SIDE, 2 * SIDE), np.uint8)
        likeness.area_means(np.ascontiguousarray(pixels), means)
    small = np.empty((SIDE, SIDE), np.float32)
    likeness.halved(means, small)
    low, high = float(small.min()), float(small.max())
    return bytes(np.rint((small - low) * (255 / (high - low) if high > low else 0)).astype(np.uint8))
