"""Tone: light and dark of one picture evened out, before it is fitted; uint8 in, uint8 out, all on luma.

Histogram equalization (Gonzalez and Woods, "Digital Image Processing", section 3.3) and autocontrast are tables made
here; contrast-limited adaptive equalization (Zuiderveld, "Contrast Limited Adaptive Histogram Equalization", 1994) is
OpenCV's. Colors go to YCrCb and back by OpenCV (BT.601, whole numbers).
"""

from __future__ import annotations

import os
import sys
from typing import Any

import numpy as np

from pannier.array_types import Array
from pannier.images.treatment import Treatment

ToneTable = np.ndarray[Any, np.dtype[np.uint8]]

# borders are looked for in bands of so much, so that what a thread holds for it is small beside its buffers
BAND_BYTES = 1 << 15


def has_tone(treatment: Treatment) -> bool:
    return treatment.tone != "none" or treatment.tone_gamma != 1.0


def gamma_table(gamma: float) -> ToneTable:
    """255 (v / 255) ** (1 / gamma), rounded: above 1 is lighter."""
    return np.rint(255 * (np.arange(256) / 255) ** (1 / gamma)).astype(np.uint8)


def equalizing_table(counts: Array) -> ToneTable:
    """Each value goes to its share of the pixels up to it, from the lowest value (0) to the highest (255)."""
    below = np.cumsum(counts)
    first = int(counts[np.flatnonzero(counts)[0]])
    spread = int(below[-1]) - first
    if not spread:
        return np.arange(256, dtype=np.uint8)
    return np.clip(np.rint((below - first) * 255 / spread), 0, 255).astype(np.uint8)


def contrast_table(counts: Array, cut: float) -> ToneTable:
    """Stretches what is left to 0..255 after a share `cut` of the pixels is left out at each end."""
    below = np.cumsum(counts)
    low = int(np.searchsorted(below, cut * below[-1], side="right"))
    high = int(np.searchsorted(below, (1 - cut) * below[-1], side="left"))
    if high <= low:
        return np.arange(256, dtype=np.uint8)
    return np.clip(np.rint((np.arange(256) - low) * 255 / (high - low)), 0, 255).astype(np.uint8)


def warm_up_tone(treatment: Treatment) -> None:
    """OpenCV starts threads of its own at the first large picture: what they hold is a library's, as kernels are."""
    if has_tone(treatment):
        shape = (512, 512, 3) if treatment.color == "rgb" else (512, 512)
        Tone(treatment)(np.zeros(shape, np.uint8))


def use_no_threads_of_opencv() -> None:
    """For processes of our own alone: workers are the threads that a plan has, and no others take memory beside them.

    Loads nothing: most feeds need no OpenCV, and where it comes later it reads the environment.
    """
    os.environ["OPENCV_FOR_THREADS_NUM"] = "1"
    if "cv2" in sys.modules:  # an own step's module has it
        sys.modules["cv2"].setNumThreads(1)


class Tone:
    """Evens out pictures as a treatment says. Not for several threads at once: it keeps its room."""

    def __init__(self, treatment: Treatment) -> None:
        import cv2

        self._cv2 = cv2
        self._tone, self._cut = treatment.tone, treatment.autocontrast_cut
        self._gamma = gamma_table(treatment.tone_gamma) if treatment.tone_gamma != 1.0 else None
        down, across = treatment.clahe_tiles
        self._clahe = cv2.createCLAHE(treatment.clahe_limit, (across, down)) if treatment.tone == "clahe" else None
        self._room = np.empty(0, np.uint8)

    def __call__(self, pixels: Array) -> Array:
        """uint8 (h, w, 3) or (h, w) -> the same, in room of its own that the next call uses again."""
        cv2, (height, width) = self._cv2, pixels.shape[:2]
        size = height * width
        if self._room.size < pixels.size + 2 * size:
            self._room = np.empty(0, np.uint8)  # the smaller one goes before the larger one comes: the plan has one alone
            self._room = np.empty(pixels.size + 2 * size, np.uint8)
        out = self._room[: pixels.size].reshape(pixels.shape)
        if self._tone == "none":
            return self._with_gamma(pixels, out)
        luma = self._room[pixels.size : pixels.size + size].reshape(height, width)
        evened = self._room[pixels.size + size : pixels.size + 2 * size].reshape(height, width)
        if pixels.ndim == 3:
            cv2.cvtColor(pixels, cv2.COLOR_RGB2YCrCb, dst=out)
            cv2.extractChannel(out, 0, dst=luma)
        else:
            luma = pixels
        if self._clahe is not None:
            self._clahe.apply(luma, evened)
        else:
            counts = _counts(luma)
            table = equalizing_table(counts) if self._tone == "equalize" else contrast_table(counts, self._cut)
            cv2.LUT(luma, table, dst=evened)
        if pixels.ndim == 2:
            return self._with_gamma(evened, out)
        cv2.insertChannel(evened, out, 0)
        cv2.cvtColor(out, cv2.COLOR_YCrCb2RGB, dst=out)
        return self._with_gamma(out, out)

    def _with_gamma(self, pixels: Array, out: Array) -> Array:
        if self._gamma is None:
            return pixels
        self._cv2.LUT(pixels, self._gamma, dst=out)
        return out


def _counts(luma: Array) -> Array:
    """How often each value is there: OpenCV's own counting starts threads whose stacks no plan has."""
    from pannier.images.kernels.pixels import count_values

    counts = np.zeros((1, 256), np.int64)
    count_values(np.ascontiguousarray(luma).reshape(1, 1, *luma.shape), counts)
    return counts[0]


def trimmed(pixels: Array, tolerance: int) -> Array:
    """A view without the uniform borders: rows and columns at the edges whose pixels are all near the first pixel's color.

    Near: within `tolerance` in every channel. A picture that is uniform as a whole stays as it is.
    """
    first = pixels[0, 0].astype(np.int32)
    low, high = (np.clip(first + by, 0, 255).astype(np.uint8) for by in (-tolerance, tolerance))
    rows, columns = pixels.shape[:2]
    band = max(1, BAND_BYTES // max(1, pixels[0].size))
    has_row, has_value = np.zeros(rows, bool), np.zeros(pixels[0].shape, bool)
    for top in range(0, rows, band):
        some = pixels[top : top + band]
        differs = some < low
        differs |= some > high
        has_row[top : top + band] = differs.reshape(len(some), -1).any(axis=1)
        has_value |= differs.any(axis=0)
    has_column = has_value.reshape(columns, -1).any(axis=1)
    if not has_row.any():
        return pixels
    (top, bottom), (left, right) = ((found[0], found[-1] + 1) for found in map(np.flatnonzero, (has_row, has_column)))
    return pixels[top:bottom, left:right]
