"""How alike two miniatures are: aligned, and compared wave by wave."""

from __future__ import annotations

from functools import cache
from typing import Any

import numpy as np

from pannier.images.miniature import SIDE

# widths of Gaussians: pixels are aligned by what lies between coarse and low, compared by what lies between fine and low
_COARSE, _FINE, _LOW = 1.0, 0.8, 4.0
_LEAST_COARSE, _LEAST_FINE, _LEAST_CONTRAST, _MARGIN = 0.5, 0.45, 0.2, 2
# waves that are compared, in cycles a side; those weaker than this part of the mean count less
_CYCLES, _SOFT = (2, 18), 0.3


def likeness(one: Any, other: Any, window: Any) -> float:
    """How alike two miniatures, float32, are once `one` is looked at through a window that is about right: -1 to 1.

    What is not alike while it is aligned is given up early: -1.
    """
    from pannier.images.kernels import likeness as kernels

    ours, theirs = (_between(_halved(each), _COARSE / 2) for each in (one, other))
    if kernels.aligned(ours, theirs, window, 4) < _LEAST_COARSE:
        return -1.0
    if kernels.aligned(_between(one, _COARSE), _between(other, _COARSE), window, 6) < _LEAST_FINE:
        return -1.0
    there = np.empty_like(one)
    kernels.looked_through(one, window, there)
    return _agreement(_evened(there), _evened(other))


def _halved(pixels: Any) -> Any:
    from pannier.images.kernels import likeness as kernels

    small = np.empty((SIDE // 2, SIDE // 2), np.float32)
    kernels.halved(pixels, small)
    return small


def _evened(pixels: Any) -> Any:
    """What lies between fine and low, in evened contrast, so that no strong edge outweighs all else."""
    import cv2

    detail = _between(pixels, _FINE)
    contrast = np.sqrt(cv2.GaussianBlur(detail * detail, (0, 0), _LOW))
    return detail / (contrast + np.float32(_LEAST_CONTRAST) * detail.std() + np.float32(1e-6))


@cache
def _compared() -> tuple[Any, Any]:
    """The weights of pixels, which fall off to the edges, and the frequencies that are compared."""
    side = SIDE - 2 * _MARGIN
    fall, frequency = np.hanning(side), np.fft.fftfreq(side, 1 / side)
    cycles = np.hypot(frequency[:, None], frequency[None, :])
    return np.outer(fall, fall), (cycles >= _CYCLES[0]) & (cycles <= _CYCLES[1])


def _agreement(one: Any, other: Any) -> float:
    """How far the waves of two aligned squares agree, each counting nearly alike, however strong it is: -1 to 1.

    So a regular weave, which is a few strong waves, is not like all others of its kind (phase correlation: Kuglin and
    Hines, "The Phase Correlation Image Alignment Method", 1975).
    """
    fall, is_compared = _compared()
    inner = slice(_MARGIN, SIDE - _MARGIN)
    ours, theirs = (np.fft.fft2(each[inner, inner] * fall)[is_compared] for each in (one, other))
    evened = [each / (np.abs(each) + _SOFT * np.sqrt(np.mean(np.abs(each) ** 2)) + 1e-12) for each in (ours, theirs)]
    both = np.sum(evened[0] * np.conj(evened[1])).real
    return float(both / (np.linalg.norm(evened[0]) * np.linalg.norm(evened[1]) + 1e-12))


def _between(pixels: Any, fine: float) -> Any:
    """What is coarser than `fine` and finer than `_LOW`: neither noise nor slopes of light."""
    import cv2

    return cv2.GaussianBlur(pixels, (0, 0), fine) - cv2.GaussianBlur(pixels, (0, 0), _LOW)
