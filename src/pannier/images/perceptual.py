"""A 64-bit hash that stays near itself when a picture is resized or compressed again (docs/format.md).

The low frequencies of a discrete cosine transform against their median (Zauner, "Implementation and Benchmarking of
Perceptual Image Hash Functions", 2010), in integers throughout, so that it is the same on every machine.
"""

from __future__ import annotations

from functools import cache
from typing import Any

import numpy as np

from pannier.images.decode import Pixels

SIDE = 32
FREQUENCIES = 8
_ONE = 1 << 14


@cache
def _cosines() -> np.ndarray[Any, np.dtype[np.int64]]:
    """round(2^14 * cos((2 x + 1) u pi / 64)) for u = 1..8 (rows) and x = 0..31."""
    u = np.arange(1, FREQUENCIES + 1)[:, None]
    x = np.arange(SIDE)[None, :]
    return np.rint(_ONE * np.cos((2 * x + 1) * u * np.pi / (2 * SIDE))).astype(np.int64)


class PerceptualHasher:
    """Hashes pictures. Not for several threads at once: each has its own."""

    def __init__(self) -> None:
        from pannier.images import kernels

        self._kernels = kernels
        self._small = np.empty((1, SIDE, SIDE), np.uint8)
        self._scratch = np.empty(0, np.uint8)
        self._nothing = np.zeros(1, np.uint8), np.ones(1, np.float32), np.zeros(1, np.float32)

    def __call__(self, pixels: Pixels) -> int:
        """The hash of upright gray pixels, uint8 (h, w)."""
        height, width = pixels.shape
        needed = self._kernels.scratch_bytes(height, width, 1, SIDE, SIDE)
        if self._scratch.size < needed:
            self._scratch = np.empty(needed, np.uint8)
        box, target = (0.0, 0.0, float(height), float(width)), (SIDE, SIDE, 0, 0)
        lies = np.ascontiguousarray(pixels)
        self._kernels.prepare(lies, 1, box, target, 0, *self._nothing, self._scratch, self._small)
        return int(self._kernels.spectrum_bits(self._small[0], _cosines()))
