"""The order of an epoch, computed place by place: a keyed permutation, so that nothing is sorted or held (docs/format.md).

For more than a few, a Feistel network over the fewest bits that hold the count, split as evenly as they can be; a value
beyond the count walks on until it is inside (Black and Rogaway, "Ciphers with Arbitrary Finite Domains", 2002).
"""

from __future__ import annotations

from typing import Any

import numpy as np

from pannier.hashing import argsort_hashes, fold, fold_each

ROUNDS = 6
# so few are sorted by hashes: of few bits the network makes no fair shuffle
MOST_SORTED = 256


def shuffled(
    places: np.ndarray[Any, np.dtype[np.int64]], count: int, seed: int, epoch: int
) -> np.ndarray[Any, np.dtype[np.int64]]:
    """Which of 0 to count - 1 stands at each of some places."""
    if count <= MOST_SORTED:
        return argsort_hashes(fold_each(fold(seed, epoch), np.arange(count, dtype=np.uint64)))[places]
    bits = (count - 1).bit_length()
    keys = [fold(seed, epoch, number) for number in range(ROUNDS)]
    found = places.astype(np.uint64)
    walking = np.arange(len(found))
    while len(walking):
        values = _rounds(found[walking], bits, keys)
        found[walking] = values
        walking = walking[values >= count]
    return found.astype(np.int64)


def _rounds(
    values: np.ndarray[Any, np.dtype[np.uint64]], bits: int, keys: list[int]
) -> np.ndarray[Any, np.dtype[np.uint64]]:
    """The network once: a permutation of so many bits."""
    first, second = bits // 2, bits - bits // 2
    left, right = values >> np.uint64(second), values & np.uint64((1 << second) - 1)
    for key in keys:
        left, right = right, left ^ (fold_each(key, right) >> np.uint64(64 - first))
        first, second = second, first
    return (left << np.uint64(second)) | right
