"""A 64-bit hash that stays near itself when a picture is resized or compressed again (docs/format.md).

The low frequencies of a discrete cosine transform against their median (Zauner, "Implementation and Benchmarking of
Perceptual Image Hash Functions", 2010), in integers throughout, so that it is the same on every machine.
"""

from __future__ import annotations

from functools import cache
from typing import Any

import numpy as np

from pannier.images.decode import Pixels
from pannier.images.prepare import Preparation

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
        from pannier.images.treatment import Treatment

        self._preparation = Preparation(Treatment(SIDE, fit="fill", color="gray", values="raw", dtype="uint8"))
        self._small = np.empty((1, SIDE, SIDE), np.uint8)

    def __call__(self, pixels: Pixels) -> int:
        """The hash of upright gray pixels, uint8 (h, w)."""
        self._preparation.pixels_into(pixels, self._small)
        cosines = _cosines()
        spectrum = (cosines @ self._small[0].astype(np.int64) @ cosines.T).ravel()
        middle = np.sort(spectrum)[FREQUENCIES * FREQUENCIES // 2 - 1]
        return int.from_bytes(np.packbits(spectrum > middle).tobytes(), "big")
