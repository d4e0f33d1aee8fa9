"""Outlines: a picture's low frequencies, through windows that cut some off its sides, and in its eight turns.

Windows are tapered, so that fine threads cut at an edge do not show in low frequencies. Turning a picture exchanges its
frequencies across and down; mirroring it changes the signs of the odd ones.
"""

from __future__ import annotations

from functools import cache
from typing import Any

import numpy as np

from pannier.columns import Rows
from pannier.images.miniature import SIDE, Miniatures

FREQUENCIES = 8
# a window, but for that of all, cuts one of these off each side: what lies between is near enough to one of them
_CUTS = (0.01, 0.055, 0.098)
_TAPER = 0.15
# frequencies below the one, whose sum is at most the other, give a code's bits, 25 of them
_BELOW, _LAST_SUM = 6, 6


def outlines(miniatures: Miniatures, *, whole: bool = False) -> Any:
    """Outlines through every window, float32 (pictures, windows, FREQUENCIES ** 2): weighted frequencies, of length 1.

    The first window shows all of a picture; `whole`: through that alone.
    """
    from pannier.images.kernels import likeness

    small = np.empty((len(miniatures), SIDE // 2, SIDE // 2), np.float32)
    for each, half in zip(miniatures, small, strict=True):
        likeness.halved(each, half)
    windows = _windows()[:1] if whole else _windows()
    count = len(windows)
    waves = windows.reshape(count * FREQUENCIES, -1)
    by_axis = (waves @ small @ waves.T).reshape(-1, count, FREQUENCIES, count, FREQUENCIES)
    found = np.empty((len(small), 1 + (count - 1) ** 2, FREQUENCIES**2), np.float32)
    for frequencies, outline in zip(by_axis, found, strict=True):
        likeness.weighted(frequencies, _weights(), outline)
    return found


def window(number: int) -> Any:
    """What a window cuts off, as parts of the sides: (left, top, right, bottom)."""
    if not number:
        return np.zeros(4)
    down, across = (at + 1 for at in divmod(number - 1, len(_CUTS) ** 2))
    return np.array([_cuts()[across][0], _cuts()[down][0], _cuts()[across][1], _cuts()[down][1]])


@cache
def _cuts() -> list[tuple[float, float]]:
    """What is cut off an axis, before and after: nothing, for the window of all; then for the others."""
    return [(0.0, 0.0), *((before, after) for before in _CUTS for after in _CUTS)]


@cache
def _windows() -> Any:
    """By window pixels' weights in each frequency, float32 (windows, frequencies, side): tapered, blind to the mean."""
    side = SIDE // 2
    middle = (np.arange(side) + 0.5) / side
    frequency = np.arange(FREQUENCIES)[:, None]
    windows = []
    for before, after in _cuts():
        at = (middle - before) / (1 - before - after)
        is_in = np.clip((1 - after - middle) * side + 0.5, 0, 1) * np.clip((middle - before) * side + 0.5, 0, 1)
        taper = np.sin(np.pi / 2 * np.clip(np.minimum(at, 1 - at) / _TAPER, 0, 1)) ** 2 * is_in
        waves = np.cos(np.pi * frequency * at) * taper
        waves[1:] -= waves[1:].sum(1, keepdims=True) * taper / taper.sum()
        windows.append(waves / taper.sum())
    return np.array(windows, np.float32)


@cache
def _weights() -> Any:
    """By frequency, down and across: what evens pictures' spectra out; none for the mean."""
    frequency = np.arange(FREQUENCIES)
    return np.hypot(frequency[:, None], frequency[None, :]).astype(np.float32)


@cache
def places() -> Rows:
    """The frequencies whose signs are a code's bits, low ones first: so codes of alike pictures lie close together."""
    down, across = np.indices((FREQUENCIES, FREQUENCIES))
    is_in = (down + across > 0) & (down + across <= _LAST_SUM) & (np.maximum(down, across) < _BELOW)
    places = np.flatnonzero(is_in.ravel())
    return places[np.argsort((down + across).ravel()[places], kind="stable")]


@cache
def others() -> Rows:
    """The frequencies whose signs are in no code, but for the mean."""
    return np.setdiff1d(np.arange(1, FREQUENCIES**2), places())


def turned(array: Any, turn: int) -> Any:
    """Pixels or frequencies' places in one of the eight turns: transposed, mirrored across, mirrored down."""
    array = array.T if turn & 4 else array
    array = array[:, ::-1] if turn & 2 else array
    return array[::-1] if turn & 1 else array


@cache
def turns() -> tuple[Any, Any]:
    """By turn of a picture where its frequencies come from, and their signs: odd ones change when it is mirrored."""
    places = np.arange(FREQUENCIES**2).reshape(FREQUENCIES, FREQUENCIES)
    down, across = np.indices(places.shape) % 2
    turns = np.array([(places.T if turn & 4 else places).ravel() for turn in range(8)])
    odd = [across * (turn >> 1 & 1) + down * (turn & 1) for turn in range(8)]
    return turns, np.array([(1 - 2 * (each % 2)).ravel() for each in odd], np.float32)
