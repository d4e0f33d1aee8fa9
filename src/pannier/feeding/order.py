"""The order of an epoch, computed place by place: a keyed permutation, so that nothing is sorted or held (docs/format.md).

For more than a few, a Feistel network over the fewest bits that hold the count, split as evenly as they can be; a value
beyond the count walks on until it is inside (Black and Rogaway, "Ciphers with Arbitrary Finite Domains", 2002).
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, Protocol

import numpy as np

from pannier.array_types import Numbers
from pannier.feeding.kernels import walk
from pannier.hashing import argsort_hashes, fold, fold_each, share

ROUNDS = 6
# so few are sorted by hashes: of few bits the network makes no fair shuffle
MOST_SORTED = 256


class Order(Protocol):
    """What stands where. `length`: places a pass."""

    @property
    def length(self) -> int: ...

    def at(self, number: int, places: Numbers) -> tuple[Numbers, Numbers]:
        """Of some places of a pass: which records, by number, and the numbers with which their random steps are drawn.

        No record has one such number twice, in whatever passes.
        """


@dataclass(frozen=True)
class Fixed:
    """Always the same order, every record so many times in a row (`variations`)."""

    records: Numbers
    variations: int = 1

    @property
    def length(self) -> int:
        return len(self.records) * self.variations

    def at(self, number: int, places: Numbers) -> tuple[Numbers, Numbers]:
        records, times = np.divmod(places, self.variations)
        return self.records[records], number * self.variations + times


@dataclass(frozen=True)
class Shuffled:
    """Every record so many times a pass (`variations`), in an order of its own each pass."""

    count: int
    seed: int
    variations: int = 1

    @property
    def length(self) -> int:
        return self.count * self.variations

    def at(self, number: int, places: Numbers) -> tuple[Numbers, Numbers]:
        times, records = np.divmod(shuffled(places, self.length, self.seed, number), max(1, self.count))
        return records, number * self.variations + times


@dataclass(frozen=True)
class Windowed:
    """Every record once a pass: neighbors in the manifest stay together in windows of so many (`window`).

    Windows come in an order of their own, as do the records in each. Where windows begin is drawn for each pass, and what is
    left of them comes last, so that those are others each time.
    """

    length: int
    seed: int
    window: int

    def at(self, number: int, places: Numbers) -> tuple[Numbers, Numbers]:
        whole = self.length // self.window
        windows, within = np.divmod(places, self.window)
        is_whole = windows < whole
        windows[is_whole] = shuffled(windows[is_whole], whole, fold(self.seed, 0), number)
        for each in np.unique(windows).tolist():
            here, size = windows == each, min(self.window, self.length - each * self.window)
            within[here] = shuffled(within[here], size, fold(self.seed, each + 1), number)
        begin = fold(self.seed, number, ROUNDS) % max(1, self.length)
        return (windows * self.window + within + begin) % max(1, self.length), np.full(len(places), number, np.int64)


class Balanced:
    """Every group equally often: the places of all passes, one after another, are cut into blocks of as many as there are
    groups, and each block has each group once, in an order drawn for it. A block may go on in the next pass.

    The records of a group take turns: one comes again when all have come, in another order. Passes go on where the one
    before ended, so that a record of a large group that does not come in one pass comes in a later one.
    """

    def __init__(self, groups: Numbers, length: int, seed: int) -> None:
        """groups: of each record, by number; -1 for those that are in none and do not come. length: places a pass."""
        self.length, self._seed = length, seed
        present, counts = np.unique(groups[groups >= 0], return_counts=True)
        self._counts = counts.astype(np.int64)
        self._starts = np.concatenate([[0], np.cumsum(counts)])[: len(present)]
        self._members = np.argsort(groups, kind="stable")[np.count_nonzero(groups < 0) :]

    def at(self, number: int, places: Numbers) -> tuple[Numbers, Numbers]:
        turns, slots = np.divmod(number * self.length + places, len(self._counts))
        groups = np.empty(len(places), np.int64)
        for turn in np.unique(turns).tolist():
            here = turns == turn
            groups[here] = shuffled(slots[here], len(self._counts), fold(self._seed, 0), turn)
        records, rounds = np.empty(len(places), np.int64), turns // self._counts[groups]
        for group, which in {*zip(groups.tolist(), rounds.tolist(), strict=True)}:
            here = (groups == group) & (rounds == which)
            count, start = int(self._counts[group]), self._starts[group]
            records[here] = self._members[start + shuffled(turns[here] % count, count, fold(self._seed, group + 1), which)]
        return records, rounds


class Weighted:
    """Records as often as their weights say, as evenly as that can be (systematic sampling): of n places a pass, one of
    weight w comes n * w / (sum of weights) times, rounded up or down, and over the passes as often as that."""

    def __init__(self, weights: np.ndarray[Any, np.dtype[np.float64]], length: int, seed: int) -> None:
        """weights: of each record, by number, 0 or more and not all 0. length: places a pass."""
        self.length, self._seed = length, seed
        self._ends = np.cumsum(weights) * (length / weights.sum())
        self._last = int(np.flatnonzero(weights)[-1])

    def at(self, number: int, places: Numbers) -> tuple[Numbers, Numbers]:
        points = shuffled(places, self.length, self._seed, number)
        found = np.searchsorted(self._ends, points + share(fold(self._seed, number)), side="right")
        return np.minimum(found, self._last), number * self.length + points


def shuffled(
    places: np.ndarray[Any, np.dtype[np.int64]], count: int, seed: int, epoch: int
) -> np.ndarray[Any, np.dtype[np.int64]]:
    """Which of 0 to count - 1 stands at each of some places."""
    if count <= MOST_SORTED:
        return argsort_hashes(fold_each(fold(seed, epoch), np.arange(count, dtype=np.uint64)))[places]
    keys = np.array([fold(seed, epoch, number) for number in range(ROUNDS)], np.uint64)
    found: Numbers = walk(np.ascontiguousarray(places, np.int64), count, (count - 1).bit_length(), keys)
    return found
