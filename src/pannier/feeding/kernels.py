"""The one walk through a million records that planning makes, and the order of an epoch, place by place."""

from __future__ import annotations

import numpy as np
from numba import njit

from pannier.hashing import FIRST, GOLDEN, SECOND
from pannier.images.kernels.compiling import CACHED, INNER, U64

# sides up to this many pixels are told apart; with longer ones, which are rare, all records are told one by one
SIDE_BITS = 22
# in place of how many kinds there are
TOO_MANY, TOO_LONG = -1, -2


@njit(**CACHED)
def tell_apart(
    rows, form, mode, turn, progressive, height, width, byte_count,
    forms, modes, rendered, has_rendered,
    table, kinds, keys, firsts, counts, largest, sums,
):  # fmt: skip
    """How many kinds there are. `table` finds them by hash (open addressing); its length is a power of two."""
    mask, found = np.uint64(len(table) - 1), 0
    for i in range(len(rows)):
        row = rows[i]
        tall, wide = np.int64(height[row]), np.int64(width[row])
        if tall >> SIDE_BITS or wide >> SIDE_BITS:
            return TOO_LONG
        key = np.int64(1) if has_rendered and rendered[i] else np.int64(0)
        key = (key * 2 + np.int64(progressive[row])) * 16 + np.int64(turn[row])
        key = (key * forms + np.int64(form[row])) * modes + np.int64(mode[row])
        key = (((key << SIDE_BITS) | tall) << SIDE_BITS) | wide
        mixed = np.uint64(key) * np.uint64(0x9E3779B97F4A7C15)
        place = (mixed ^ (mixed >> np.uint64(29))) & mask
        kind = table[place]
        while kind >= 0 and keys[kind] != key:
            place = (place + np.uint64(1)) & mask
            kind = table[place]
        if kind < 0:
            if found == len(keys):
                return TOO_MANY
            kind = found
            table[place], keys[kind], firsts[kind] = kind, key, i
            found += 1
        size = np.int64(byte_count[row])
        kinds[i] = kind
        counts[kind] += 1
        sums[kind] += size
        largest[kind] = max(largest[kind], size)
    return found


@njit(**INNER)
def _fold(key, word):
    """`fold_each` of one word."""
    value = (key ^ word) + U64(GOLDEN)
    value = (value ^ (value >> U64(30))) * U64(FIRST)
    value = (value ^ (value >> U64(27))) * U64(SECOND)
    return value ^ (value >> U64(31))


@njit(**CACHED)
def walk(places, count, bits, keys):
    """What stands at each place: a network of so many bits, again where that is beyond the count."""
    found = np.empty(len(places), np.int64)
    wide = U64(bits - bits // 2)
    for i in range(len(places)):
        value = U64(places[i])
        while True:
            first, second = U64(bits) - wide, wide
            left, right = value >> second, value & ((U64(1) << second) - U64(1))
            for key in keys:
                left, right = right, left ^ (_fold(key, right) >> (U64(64) - first))
                first, second = second, first
            value = (left << second) | right
            if value < U64(count):
                break
        found[i] = value
    return found
