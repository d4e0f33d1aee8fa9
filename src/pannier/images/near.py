"""Near doubles: one picture resized, saved anew, turned, mirrored, brightened, or cropped by up to a tenth a side.

In two stages. Hashes find candidates, generously: the signs of the low frequencies of a picture, in all eight turns, are
looked up from those of every other picture, through windows that cut nothing, or 1, 5.5 or 9.8 % off each side; signs of
small numbers may be either way, as in multi-probe hashing (Lv et al., "Multi-Probe LSH", 2007). Then pixels decide:
miniatures are aligned, and their waves agree or do not.
"""

from __future__ import annotations

import hashlib
import threading
from collections.abc import Callable, Collection
from concurrent.futures import ThreadPoolExecutor
from functools import partial
from typing import Any, NamedTuple

import numpy as np

from pannier.array_types import Flags
from pannier.choices import Progress
from pannier.columns import Digests, Rows
from pannier.errors import UsageError
from pannier.images.alike import likeness
from pannier.images.miniature import Miniatures
from pannier.images.outline import FREQUENCIES, others, outlines, places, turned, turns, window
from pannier.machine import usable_cores

# pictures of which the miniatures agree by 1 less so many steps are near doubles
USUAL_DISTANCE = 6
LARGEST_DISTANCE = 12
_STEP = 0.055
# signs that may be wrong, of numbers with so small squares: of so many, so many at once: of the whole picture, of a window;
# as a rule, and where the set is crowded
_WEAK, _USUAL, _CROWDED = 0.003, ((12, 12), (8, 4)), ((4, 4), (4, 1))
# signs that may be wrong among those that are in no code
_MOST_OFF = 13
_LEAST_OUTLINE = 0.92
# among more pictures, so many are looked at first: where chance alone gives more candidates that are none than so many, and
# one for so many pictures, as among small smooth pictures, the set is crowded: outlines must be as alike as it takes to get
# no more of them
_SAMPLED, _MOST_WRONG, _WRONG_AMONG = 256, 2000, 8
# among so few pictures those that are alike are found by comparing with each
_FEW = 4
# so many pictures are compared before what was linked is looked at: few at first, so that large sets are soon one
_FIRST, _MOST = 32, 1024

Links = np.ndarray[Any, np.dtype[np.int64]]
# two pictures' SHA-256, in hexadecimal
Pair = tuple[str, str]
# the miniatures of pictures by number
Fetch = Callable[[Rows], Miniatures]


class Near(NamedTuple):
    """Links between near doubles: `pairs` (n, 2) int64, the smaller number first, and how alike each pair is, to 1."""

    pairs: Links
    likeness: np.ndarray[Any, np.dtype[np.float64]]


class Candidate(NamedTuple):
    """Two pictures that may be near doubles, the way that leads from one to the other, how alike their outlines are."""

    row: int
    other: int
    way: int
    outline: float


Find = Callable[[Rows], list[Candidate]]


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
        from pannier.images.kernels import likeness as kernels

        count = len(digests)
        self._digests, self._unlike = digests, {frozenset(pair) for pair in unlike}
        self._kernels, self._fetch = kernels, fetch
        self._count, self._asked, self._least = count, asked, 1 - distance * _STEP
        self._turns, self._signs = turns()
        self._roots = np.arange(count)
        self._least_outline, self._flips = _LEAST_OUTLINE, _USUAL
        self._pairs: list[tuple[int, int]] = []
        self._likeness: list[float] = []
        self._scratch = threading.local()

    def run(self, progress: Progress | None) -> Near:
        is_even = self._take_in()
        everything = np.flatnonzero(~is_even)
        ours, theirs = everything[everything < self._asked], everything[everything >= self._asked]
        done = 0
        with ThreadPoolExecutor(usable_cores(), thread_name_prefix="pannier-near") as pool:
            among_all = partial(self._find, self._indexed(everything))
            among_ours = partial(self._find_each, ours) if len(ours) <= _FEW else partial(self._find, self._indexed(ours))
            for rows, find in ((ours, among_all), (theirs, among_ours)):
                self._allow_for_chance(rows, find, pool)
                at, step = 0, _FIRST
                while at < len(rows):
                    self._decide(self._candidates(rows[at : at + step], find, pool))
                    at, step = at + step, min(2 * step, _MOST)
                    if progress:
                        progress(done + min(at, len(rows)), len(everything))
                done += len(rows)
        return Near(np.sort(np.array(self._pairs, np.int64).reshape(-1, 2), axis=1), np.array(self._likeness))

    def _candidates(self, rows: Rows, find: Find, pool: ThreadPoolExecutor) -> list[Candidate]:
        runs = np.array_split(rows, -(-len(rows) // _FIRST))
        return [each for found in pool.map(find, runs) for each in found]

    def _allow_for_chance(self, rows: Rows, find: Find, pool: ThreadPoolExecutor) -> None:
        """Looks less far in a crowded set, so that the cost does not grow with the square of it."""
        self._least_outline, self._flips = _LEAST_OUTLINE, _USUAL
        if len(rows) <= _MOST_WRONG:
            return
        prefixes = self._digests[rows, :8].copy().view(np.uint64).ravel()  # the same pictures, whatever their order
        some = rows[np.argsort(prefixes, kind="stable")[:_SAMPLED]]
        wrong = sorted(self._decide(self._candidates(some, find, pool)), reverse=True)
        allowed = (_MOST_WRONG + len(rows) // _WRONG_AMONG) * len(some) // len(rows)
        if len(wrong) > allowed:
            self._least_outline, self._flips = wrong[allowed], _CROWDED

    def _take_in(self) -> Flags:
        """Outlines and codes of all; equal miniatures are linked at once. Which are of one shade, and like nothing else."""
        self._outlines = np.empty((self._count, FREQUENCIES**2), np.float32)
        self._codes, self._rests = np.empty((2, self._count, len(self._turns)), np.int64)
        is_even = np.zeros(self._count, bool)
        first: dict[bytes, int] = {}
        for at in range(0, self._count, _MOST):
            miniatures = self._fetch(np.arange(at, min(at + _MOST, self._count)))
            self._outlines[at : at + _MOST] = outlines(miniatures, whole=True)[:, 0]
            for row, each in enumerate(miniatures, at):
                for bits, codes in ((places(), self._codes), (others(), self._rests)):
                    self._kernels.codes_of(self._outlines[row], bits, self._turns, self._signs, codes[row])
                is_even[row] = each.min() == each.max()
                if not is_even[row]:
                    same = first.setdefault(hashlib.blake2b(each, digest_size=16).digest(), row)
                    if same < row and same < self._asked and not self._is_unlike(same, row):
                        self._link(same, row, 1.0)
        return is_even

    def _indexed(self, rows: Rows) -> tuple[Any, ...]:
        """Codes of some pictures in all turns, in their order, so that those of a code are found at once."""
        codes = self._codes[rows].ravel()
        order = np.argsort(codes, kind="stable")
        owners, rests = (rows[:, None] * 8 + np.arange(8)).ravel()[order], self._rests[rows].ravel()[order].astype(np.uint64)
        different, starts = np.unique(codes[order], return_index=True)
        words = np.zeros((1 << len(places())) // 64, np.uint64)
        np.bitwise_or.at(words, different >> 6, np.uint64(1) << (different & 63).astype(np.uint64))
        counts = np.bincount(different >> 6, minlength=len(words))
        before = (np.cumsum(counts) - counts).astype(np.uint32)
        found = (words, before, np.append(starts, len(codes)).astype(np.uint32), rests, owners)
        return places(), others(), self._turns, self._signs, self._outlines, *found

    def _find(self, index: tuple[Any, ...], rows: Rows) -> list[Candidate]:
        """Candidates for some pictures, the likeliest of each first."""
        if not hasattr(self._scratch, "best"):
            self._scratch.best = np.full(self._count, -1, np.float32)
            self._scratch.way, self._scratch.touched = np.empty((2, self._count), np.int64)
        best, way, touched = self._scratch.best, self._scratch.way, self._scratch.touched
        found: list[Candidate] = []
        most = (*self._flips, np.uint64(_MOST_OFF))
        how = (np.float32(_WEAK), most, np.float32(self._least_outline), best, way, touched)
        for row, each in zip(rows.tolist(), outlines(self._fetch(rows)), strict=True):
            near = touched[: self._kernels.find_candidates(each, index, self._roots, row, *how)]
            near = near[np.lexsort((near, -best[near]))]
            told = zip(near.tolist(), way[near].tolist(), best[near].tolist(), strict=True)
            found += [Candidate(row, *each) for each in told]
            best[near] = -1
        return found

    def _find_each(self, ours: Rows, rows: Rows) -> list[Candidate]:
        """The same for pictures that are looked for among few, by their outlines alone."""
        mine = (self._outlines[ours][:, self._turns] * self._signs).reshape(-1, FREQUENCIES**2)
        alike = outlines(self._fetch(rows)) @ mine.T
        alike = (
            alike.reshape(len(rows), -1, len(ours), len(self._turns)).transpose(0, 2, 1, 3).reshape(len(rows), len(ours), -1)
        )
        best = alike.max(2)
        pairs = zip(*np.nonzero(best > _LEAST_OUTLINE), strict=True)
        likely = sorted(pairs, key=lambda pair: (pair[0], -best[pair], pair[1]))
        return [
            Candidate(int(rows[row]), int(ours[at]), int(alike[row, at].argmax()), float(best[row, at]))
            for row, at in likely
        ]

    def _decide(self, candidates: list[Candidate]) -> list[float]:
        """Links candidates whose pixels are alike; how alike the outlines of the others are."""
        wrong = []
        for row, other, way, outline in candidates:
            if self._root(row) == self._root(other) or self._is_unlike(row, other):
                continue
            one, two = self._fetch(np.array([row, other])).astype(np.float32)
            alike = likeness(one, np.ascontiguousarray(turned(two, way % 8)), window(way // 8))
            if alike >= self._least:
                self._link(row, other, alike)
            else:
                wrong.append(outline)
        while (self._roots[self._roots] != self._roots).any():  # every picture knows its root, for those that look
            self._roots = self._roots[self._roots]
        return wrong

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
