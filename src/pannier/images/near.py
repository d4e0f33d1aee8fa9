"""Near doubles: one picture resized, saved anew, turned, mirrored, brightened, or cropped by up to a tenth a side.

In two stages. Hashes find candidates, generously: the signs of the low frequencies of a picture, in all eight turns, are
looked up from those of every other picture through windows that cut 0, 5 or 10 % off each side; signs of small numbers may
be either way, as in multi-probe hashing (Lv et al., "Multi-Probe LSH", 2007). Windows are tapered, so that fine threads cut
at an edge do not show in low frequencies. Then pixels decide: miniatures are aligned, and the waves between fine and coarse
in them agree or do not.
"""

from __future__ import annotations

import hashlib
import threading
from collections.abc import Callable, Collection
from concurrent.futures import ThreadPoolExecutor
from functools import cache, partial
from typing import Any, NamedTuple

import numpy as np

from pannier.array_types import Flags
from pannier.choices import Progress
from pannier.columns import Digests, Rows
from pannier.errors import UsageError
from pannier.images.miniature import SIDE, Miniatures
from pannier.machine import usable_cores

# pictures of which the miniatures agree by 1 less so many steps are near doubles
USUAL_DISTANCE = 6
LARGEST_DISTANCE = 12
_STEP = 0.055
_CUTS = (0.0, 0.05, 0.1)
_FREQUENCIES = 8
_TAPER = 0.15
# frequencies below the one, whose sum is at most the other, give a code's bits, 25 of them
_BELOW, _LAST_SUM = 6, 6
# signs that may be wrong: of numbers with so small squares, so many of the whole picture and of a window
_WEAK, _MOST_WEAK = 0.003, (12, 9)
# signs that may be wrong among those that are in no code
_MOST_OFF = 13
_LEAST_OUTLINE = 0.92
# so many pictures are compared before what was linked is looked at: few at first, so that large sets are soon one
_FIRST, _MOST = 32, 1024
# widths of Gaussians: pixels are aligned by what lies between coarse and low, compared by what lies between fine and low
_COARSE, _FINE, _LOW = 1.0, 0.8, 4.0
_LEAST_COARSE, _LEAST_FINE, _LEAST_CONTRAST, _MARGIN = 0.5, 0.45, 0.2, 2
# waves that are compared, in cycles a side; those weaker than this part of the mean count less
_CYCLES, _SOFT = (2, 18), 0.3

Links = np.ndarray[Any, np.dtype[np.int64]]
# two pictures' SHA-256, in hexadecimal
Pair = tuple[str, str]
# the miniatures of pictures by number
Fetch = Callable[[Rows], Miniatures]


class Near(NamedTuple):
    """Links between near doubles: `pairs` (n, 2) int64, the smaller number first, and how alike each pair is, to 1."""

    pairs: Links
    likeness: np.ndarray[Any, np.dtype[np.float64]]


def checked_distance(distance: int) -> int:
    """A number that still tells likeness. Raises UsageError."""
    if isinstance(distance, bool) or not isinstance(distance, int) or not 0 <= distance <= LARGEST_DISTANCE:
        raise UsageError(
            f"near = {distance!r}: how unlike near doubles may be, 0 to {LARGEST_DISTANCE}; {USUAL_DISTANCE} as a rule"
        )
    return distance


def near_links(
    fetch: Fetch,
    digests: Digests,
    distance: int,
    unlike: Collection[Pair] = (),
    *,
    asked: int | None = None,
    progress: Progress | None = None,
) -> Near:
    """Links between pictures that are near doubles within `distance`, by their numbers: rows of `digests`, all different.

    Only as many as it takes to connect what is alike, never more than there are pictures. unlike: pairs of SHA-256 that are
    not linked, whatever they look like. asked: only links of which one end is among the first so many. Some 500 bytes of
    memory a picture. progress: called with pictures compared and all.
    """
    asked = len(digests) if asked is None else asked
    if len(digests) < 2 or not asked:
        return Near(np.empty((0, 2), np.int64), np.empty(0))
    return _Linking(fetch, digests, distance, unlike, asked).run(progress)


class _Linking:
    """One search for near doubles."""

    def __init__(self, fetch: Fetch, digests: Digests, distance: int, unlike: Collection[Pair], asked: int) -> None:
        from pannier.images.kernels import likeness

        count = len(digests)
        self._digests, self._unlike = digests, {frozenset(pair) for pair in unlike}
        self._kernels, self._fetch = likeness, fetch
        self._count, self._asked, self._least = count, asked, 1 - distance * _STEP
        self._turns, self._signs = _turns()
        self._roots = np.arange(count)
        self._pairs: list[tuple[int, int]] = []
        self._likeness: list[float] = []
        self._scratch = threading.local()

    def run(self, progress: Progress | None) -> Near:
        is_even = self._take_in()
        everything, whole = np.flatnonzero(~is_even), self._indexed(np.flatnonzero(~is_even))
        ours, others = everything[everything < self._asked], everything[everything >= self._asked]
        done = 0
        with ThreadPoolExecutor(usable_cores(), thread_name_prefix="pannier-near") as pool:
            for rows, index in ((ours, whole), (others, self._indexed(ours) if len(others) else whole)):
                at, step = 0, _FIRST
                while at < len(rows):
                    runs = np.array_split(rows[at : at + step], -(-step // _FIRST))
                    candidates = [each for found in pool.map(partial(self._find, index), runs) for each in found]
                    self._decide(candidates)
                    at, step = at + step, min(2 * step, _MOST)
                    if progress:
                        progress(done + min(at, len(rows)), len(everything))
                done += len(rows)
        return Near(np.sort(np.array(self._pairs, np.int64).reshape(-1, 2), axis=1), np.array(self._likeness))

    def _take_in(self) -> Flags:
        """Outlines and codes of all; equal miniatures are linked at once. Which are of one shade, and like nothing else."""
        self._outlines = np.empty((self._count, _FREQUENCIES**2), np.float32)
        self._codes, self._rests = np.empty((2, self._count, len(self._turns)), np.int64)
        is_even = np.zeros(self._count, bool)
        first: dict[bytes, int] = {}
        for at in range(0, self._count, _MOST):
            miniatures = self._fetch(np.arange(at, min(at + _MOST, self._count)))
            self._outlines[at : at + _MOST] = self._through(miniatures, _windows()[:1])[:, 0]
            for row, each in enumerate(miniatures, at):
                for places, codes in ((_places(), self._codes), (_others(), self._rests)):
                    self._kernels.codes_of(self._outlines[row], places, self._turns, self._signs, codes[row])
                is_even[row] = each.min() == each.max()
                if not is_even[row]:
                    same = first.setdefault(hashlib.blake2b(each, digest_size=16).digest(), row)
                    if same < row and same < self._asked and not self._is_unlike(same, row):
                        self._link(same, row, 1.0)
        return is_even

    def _through(self, miniatures: Miniatures, windows: Any) -> Any:
        """Outlines through every pair of windows, (pictures, pairs, frequencies ** 2): weighted frequencies, of length 1."""
        small = np.empty((len(miniatures), SIDE // 2, SIDE // 2), np.float32)
        for each, half in zip(miniatures, small, strict=True):
            self._kernels.halved(each, half)
        count = len(windows)
        waves = windows.reshape(count * _FREQUENCIES, -1)
        by_axis = (waves @ small @ waves.T).reshape(-1, count, _FREQUENCIES, count, _FREQUENCIES)
        outlines = by_axis.transpose(0, 1, 3, 2, 4).reshape(len(small), count**2, _FREQUENCIES**2) * _weights()
        return outlines / (np.linalg.norm(outlines, axis=-1, keepdims=True) + np.float32(1e-12))

    def _indexed(self, rows: Rows) -> tuple[Any, ...]:
        """Codes of some pictures in all turns, in their order, so that those of a code are found at once."""
        codes = self._codes[rows].ravel()
        order = np.argsort(codes, kind="stable")
        codes, owners = codes[order], (rows[:, None] * 8 + np.arange(8)).ravel()[order]
        bits = len(_places())
        filled = np.zeros((1 << bits) // 8, np.uint8)
        np.bitwise_or.at(filled, codes >> 3, np.uint8(1) << (codes & 7).astype(np.uint8))
        shift = max(0, bits - max(8, len(codes).bit_length()))
        starts = np.searchsorted(codes >> shift, np.arange((1 << (bits - shift)) + 1))
        rests = self._rests[rows].ravel()[order].astype(np.uint64)
        told = (self._outlines, codes.astype(np.uint32), rests, owners, filled, starts, np.uint32(shift))
        return _places(), _others(), self._turns, self._signs, *told

    def _find(self, index: tuple[Any, ...], rows: Rows) -> list[tuple[int, int, int]]:
        """Candidates for some pictures: (picture, other, way), the likeliest of each first."""
        if not hasattr(self._scratch, "best"):
            self._scratch.best = np.full(self._count, -1, np.float32)
            self._scratch.way, self._scratch.touched = np.empty((2, self._count), np.int64)
        best, way, touched = self._scratch.best, self._scratch.way, self._scratch.touched
        found: list[tuple[int, int, int]] = []
        how = (np.float32(_WEAK), _MOST_WEAK, np.uint64(_MOST_OFF), np.float32(_LEAST_OUTLINE), best, way, touched)
        for row, outlines in zip(rows.tolist(), self._through(self._fetch(rows), _windows()), strict=True):
            others = touched[: self._kernels.find_candidates(outlines, index, self._roots, row, *how)]
            others = others[np.lexsort((others, -best[others]))]
            found += [(row, other, turned) for other, turned in zip(others.tolist(), way[others].tolist(), strict=True)]
            best[others] = -1
        return found

    def _decide(self, candidates: list[tuple[int, int, int]]) -> None:
        """Links candidates whose pixels are alike."""
        cuts = _cuts()
        for row, other, way in candidates:
            if self._root(row) == self._root(other) or self._is_unlike(row, other):
                continue
            one, turned = self._fetch(np.array([row, other])).astype(np.float32)
            down, across = divmod(way // 8, len(cuts))
            window = np.array([cuts[across][0], cuts[down][0], cuts[across][1], cuts[down][1]])
            likeness = self._likeness_of(one, np.ascontiguousarray(_turned(turned, way % 8)), window)
            if likeness >= self._least:
                self._link(row, other, likeness)
        self._roots = np.array([self._root(row) for row in range(self._count)]) if candidates else self._roots

    def _likeness_of(self, one: Any, other: Any, window: Any) -> float:
        """How alike two miniatures are once aligned; `window` is about right."""
        ours, theirs = (_between(self._halved(each), _COARSE / 2) for each in (one, other))
        if self._kernels.aligned(ours, theirs, window, 4) < _LEAST_COARSE:
            return -1.0
        if self._kernels.aligned(_between(one, _COARSE), _between(other, _COARSE), window, 6) < _LEAST_FINE:
            return -1.0
        there = np.empty_like(one)
        self._kernels.looked_through(one, window, there)
        return _agreement(_evened(there), _evened(other))

    def _halved(self, pixels: Any) -> Any:
        small = np.empty((SIDE // 2, SIDE // 2), np.float32)
        self._kernels.halved(pixels, small)
        return small

    def _link(self, one: int, other: int, likeness: float) -> None:
        self._pairs.append((one, other))
        self._likeness.append(likeness)
        one, other = self._root(one), self._root(other)
        self._roots[max(one, other)] = min(one, other)

    def _is_unlike(self, one: int, other: int) -> bool:
        return bool(self._unlike) and frozenset(self._digests[row].tobytes().hex() for row in (one, other)) in self._unlike

    def _root(self, row: int) -> int:
        roots = self._roots
        while roots[row] != row:
            roots[row] = roots[roots[row]]
            row = roots[row]
        return int(row)


@cache
def _cuts() -> list[tuple[float, float]]:
    """What a window cuts off an axis, before and after."""
    return [(before, after) for before in _CUTS for after in _CUTS]


@cache
def _windows() -> Any:
    """By window pixels' weights in each frequency, float32 (windows, frequencies, side): tapered, blind to the mean."""
    side = SIDE // 2
    middle = (np.arange(side) + 0.5) / side
    frequency = np.arange(_FREQUENCIES)[:, None]
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
    frequency = np.arange(_FREQUENCIES)
    return np.hypot(frequency[:, None], frequency[None, :]).ravel().astype(np.float32)


@cache
def _places() -> Rows:
    """The frequencies whose signs are a code's bits, low ones first: so codes of alike pictures lie close together."""
    down, across = np.indices((_FREQUENCIES, _FREQUENCIES))
    is_in = (down + across > 0) & (down + across <= _LAST_SUM) & (np.maximum(down, across) < _BELOW)
    places = np.flatnonzero(is_in.ravel())
    return places[np.argsort((down + across).ravel()[places], kind="stable")]


@cache
def _others() -> Rows:
    """The frequencies whose signs are in no code, but for the mean."""
    return np.setdiff1d(np.arange(1, _FREQUENCIES**2), _places())


def _turned(array: Any, turn: int) -> Any:
    """Pixels or frequencies' places in one of the eight turns: transposed, mirrored across, mirrored down."""
    array = array.T if turn & 4 else array
    array = array[:, ::-1] if turn & 2 else array
    return array[::-1] if turn & 1 else array


@cache
def _turns() -> tuple[Any, Any]:
    """By turn of a picture where its frequencies come from, and their signs: odd ones change when it is mirrored."""
    places = np.arange(_FREQUENCIES**2).reshape(_FREQUENCIES, _FREQUENCIES)
    down, across = np.indices(places.shape) % 2
    turns = np.array([(places.T if turn & 4 else places).ravel() for turn in range(8)])
    odd = [across * (turn >> 1 & 1) + down * (turn & 1) for turn in range(8)]
    return turns, np.array([(1 - 2 * (each % 2)).ravel() for each in odd], np.float32)


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
