"""The 64-bit hashes behind order, draws and dealing: the same on every machine and for ever (docs/format.md).

`mix` is the finalizer of SplitMix64 (Steele, Lea and Flood, "Fast Splittable Pseudorandom Number Generators", 2014,
in Stafford's variant 13).
"""

from __future__ import annotations

import hashlib
from typing import Any

import numpy as np
from zlib_ng import zlib_ng

from pannier.errors import UsageError

Hashes = np.ndarray[Any, np.dtype[np.uint64]]

GOLDEN = 0x9E3779B97F4A7C15
FIRST, SECOND = 0xBF58476D1CE4E5B9, 0x94D049BB133111EB
_MASK = 0xFFFFFFFFFFFFFFFF


def text_hash(text: str) -> int:
    """The first 8 bytes of the SHA-256 of the text's UTF-8, read as a big-endian number."""
    return int.from_bytes(hashlib.sha256(text.encode()).digest()[:8], "big")


def mix(value: int) -> int:
    value = ((value ^ (value >> 30)) * FIRST) & _MASK
    value = ((value ^ (value >> 27)) * SECOND) & _MASK
    return value ^ (value >> 31)


def fold(*words: int) -> int:
    """One hash of several 64-bit words: state = mix((state ^ word) + golden), from 0, word by word."""
    state = 0
    for word in words:
        state = mix(((state ^ word) + GOLDEN) & _MASK)
    return state


def fold_each(state: int, words: Hashes) -> Hashes:
    """`fold` continued from `state` by one more word, for a whole array of them."""
    value = (np.uint64(state) ^ words) + np.uint64(GOLDEN)
    value ^= value >> np.uint64(30)
    value *= np.uint64(FIRST)
    value ^= value >> np.uint64(27)
    value *= np.uint64(SECOND)
    value ^= value >> np.uint64(31)
    return value


def share(value: int) -> float:
    """A hash as a number from 0 to below 1: its highest 53 bits."""
    return float((value >> 11) * 2.0**-53)


def fold_more(states: Hashes, word: int) -> Hashes:
    """`fold` continued from each of `states` by the same word."""
    return fold_each(word, states)  # (state ^ word) is the same either way


def crc32_of(content: bytes | memoryview, before: int = 0) -> int:
    """CRC-32 as in zlib and PNG; `before`: of what stands before it."""
    return zlib_ng.crc32(content, before)


def checked_seed(seed: int) -> int:
    """A seed that fits: a whole number from 0 to 2**64 - 1."""
    if isinstance(seed, bool) or not isinstance(seed, int) or not 0 <= seed <= _MASK:
        raise UsageError(f"seed = {seed!r}: must be a whole number from 0 to 2**64 - 1")
    return seed


def argsort_hashes(hashes: Hashes) -> np.ndarray[Any, np.dtype[np.int64]]:
    """Row numbers in order of their hashes; equal ones stay in order of rows."""
    order = np.argsort(hashes)
    in_order = hashes[order]
    if len(in_order) > 1 and np.any(in_order[1:] == in_order[:-1]):
        order = np.argsort(hashes, kind="stable")
    return order
