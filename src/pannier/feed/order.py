"""The order of an epoch and every random draw: hashes of (seed, epoch, key), the same on every machine (docs/format.md)."""

from __future__ import annotations

from typing import Any

import numpy as np

from pannier.hashing import Hashes, argsort_hashes, fold, fold_each, fold_more, text_hash
from pannier.images.prepare import FLIP_HORIZONTAL, FLIP_VERTICAL

ORDER_BYTES_PER_RECORD = 32

_FLIP_STEP = text_hash("flip")
_HALF = np.uint64(1 << 63)


def shuffled(key_hashes: Hashes, seed: int, epoch: int) -> np.ndarray[Any, np.dtype[np.int64]]:
    """Positions in order of the hash of (seed, epoch, key hash)."""
    return argsort_hashes(fold_each(fold(seed, epoch), key_hashes))


def draw(key_hashes: Hashes, seed: int, epoch: int, step: int, count: int) -> Hashes:
    """A 64-bit draw for each record: the hash of (seed, epoch, key hash, hash of the step's name, count)."""
    return fold_more(fold_more(fold_each(fold(seed, epoch), key_hashes), step), count)


def flips(key_hashes: Hashes, seed: int, epoch: int, flip: str) -> list[int]:
    """Which way each record is mirrored: bits FLIP_HORIZONTAL and FLIP_VERTICAL, each drawn at one half."""
    result = np.zeros(len(key_hashes), np.int64)
    if flip in ("horizontal", "both"):
        result |= np.where(draw(key_hashes, seed, epoch, _FLIP_STEP, 0) >= _HALF, FLIP_HORIZONTAL, 0)
    if flip in ("vertical", "both"):
        result |= np.where(draw(key_hashes, seed, epoch, _FLIP_STEP, 1) >= _HALF, FLIP_VERTICAL, 0)
    numbers: list[int] = result.tolist()
    return numbers
