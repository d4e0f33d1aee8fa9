"""A 64-bit hash that stays near itself when a picture is resized or compressed again (docs/format.md).

Means of 32 x 32 boxes, then the low frequencies of a discrete cosine transform against their median (Zauner,
"Implementation and Benchmarking of Perceptual Image Hash Functions", 2010), in integers throughout, so that it is the
same on every machine.
"""

from __future__ import annotations

from functools import cache
from typing import Any

import numpy as np

from pannier.images.colors import Pixels

SIDE = 32
FREQUENCIES = 8
_ONE = 1 << 14
# hashes that differ in at most so many bits are of one picture, resized or compressed again
ALIKE_BITS = 6


@cache
def _cosines() -> np.ndarray[Any, np.dtype[np.int64]]:
    """round(2^14 * cos((2 x + 1) u pi / 64)) for u = 1..8 (rows) and x = 0..31."""
    u = np.arange(1, FREQUENCIES + 1)[:, None]
    x = np.arange(SIDE)[None, :]
    return np.rint(_ONE * np.cos((2 * x + 1) * u * np.pi / (2 * SIDE))).astype(np.int64)


class PerceptualHasher:
    """Hashes pictures. Not for several threads at once: each has its own."""

    def __init__(self) -> None:
        from pannier.images.kernels import likeness

        self._bits = likeness.perceptual_bits
        self._cosines = _cosines()
        self._small = np.empty((SIDE, SIDE), np.int64)
        self._sums = np.empty(0, np.uint32)

    def __call__(self, pixels: Pixels) -> int:
        """The hash of upright gray pixels, uint8 (h, w)."""
        if self._sums.size < pixels.shape[1]:
            self._sums = np.empty(pixels.shape[1], np.uint32)
        return int(self._bits(np.ascontiguousarray(pixels), self._cosines, self._sums, self._small))

    @property
    def was_even(self) -> bool:
        """Whether the last picture's means were all alike: only then can its pixels be."""
        return bool(self._small.min() == self._small.max())
