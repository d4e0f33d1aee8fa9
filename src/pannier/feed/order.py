"""The order of an epoch: by hashes of (seed, epoch, key), the same on every machine (docs/format.md)."""

from __future__ import annotations

from typing import Any

import numpy as np

from pannier.hashing import Hashes, argsort_hashes, fold, fold_each

ORDER_BYTES_PER_RECORD = 36


def shuffled(key_hashes: Hashes, seed: int, epoch: int) -> np.ndarray[Any, np.dtype[np.int64]]:
    """Positions in order of the hash of (seed, epoch, key hash)."""
    return argsort_hashes(fold_each(fold(seed, epoch), key_hashes))
