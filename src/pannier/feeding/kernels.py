"""The walk through all records that planning makes, and the order of an epoch, place by place."""

from __future__ import annotations

import numpy as np

from pannier.hashing import FIRST, GOLDEN, SECOND
from pannier.images.kernels.compiling import CACHED, INNER, U64, compiled

# sides up to this many pixels are told apart; with longer ones, which are rare, all records are told one by one
SIDE_BITS = 22
# in place of how many kinds there are
TOO_MANY, TOO_LONG = -1, -2


@compiled(**INNER, inline="always")
def _key_of(row, is_rendered, form, mode, turn, progressive, height, width, forms, modes):
    """What a record's kind is known by, and what is left of sides that are too long for that."""
    tall, wide = np.int64(height[row]), np.int64(width[row])
    key = (np.int64(is_rendered) * 2 + np.int64(progressive[row])) * 16 + np.int64(turn[row])
    key = (key * forms + np.int64(form[row])) * modes + np.int64(mode[row])
    return (((key << SIDE_BITS) | tall) << SIDE_BITS) | wide, (tall | wide) >> SIDE_BITS


@compiled(**INNER, inline="always")
def _has_bit(words, at):
    return (words[U64(at) >> U64(6)] >> (U64(at) & U64(63))) & U64(1) == U64(1)


# Both walks: rows are those listed; or those that have a bit in `words`; or all; from `begin` to `end`, where `place` rows
# were before. positions: where each row stands in the columns, and rendered: by place whether there is a canvas of it;
# where they are empty they say nothing. What is found by unsigned numbers, and summed up in registers while records are
# alike, takes half as long.


@compiled(**CACHED)
def tell_apart(
    rows, words, begin, end, place, positions, rendered,
    form, mode, turn, progressive, height, width, byte_count, forms, modes,
    table, keys, firsts, counts, largest, sums,
):  # fmt: skip
    """How many kinds there are. The length of `table` is a power of two."""
    are_listed, are_flagged, are_elsewhere, are_rendered = (
        len(rows) > 0,
        len(words) > 0,
        len(positions) > 0,
        len(rendered) > 0,
    )
    mask, found, kind, last = U64(len(table) - 1), np.int64(0), np.int64(0), np.int64(-1)
    count, most, sum_of_all = np.int64(0), np.int64(0), np.int64(0)
    for at in range(begin, end):
        if are_flagged and not _has_bit(words, at):
            continue
        own = rows[U64(at)] if are_listed else at
        row = U64(positions[U64(own)] if are_elsewhere else own)
        is_rendered = are_rendered and rendered[U64(place)]
        key, is_long = _key_of(row, is_rendered, form, mode, turn, progressive, height, width, forms, modes)
        if is_long:
            return TOO_LONG
        if key != last:
            if count:
                counts[kind] += count
                sums[kind] += sum_of_all
                largest[kind] = max(largest[kind], most)
                count, most, sum_of_all = np.int64(0), np.int64(0), np.int64(0)
            last, mixed = key, U64(key) * U64(0x9E3779B97F4A7C15)
            slot = (mixed ^ (mixed >> U64(29))) & mask
            while table[slot] >= 0 and keys[table[slot]] != key:  # open addressing
                slot = (slot + U64(1)) & mask
            kind = np.int64(table[slot])
            if kind < 0:
                if found == len(keys):
                    return TOO_MANY
                kind = found
                table[slot], keys[kind], firsts[kind] = kind, key, own
                found += 1
        size = np.int64(byte_count[row])
        count += 1
        sum_of_all += size
        most = max(most, size)
        place += 1
    if count:
        counts[kind] += count
        sums[kind] += sum_of_all
        largest[kind] = max(largest[kind], most)
    return found


@compiled(**CACHED)
def mark(
    rows, words, begin, end, place, positions, rendered,
    form, mode, turn, progressive, height, width, forms, modes,
    keys, wanted, marks,
):  # fmt: skip
    """By place whether a row is of the kinds that are wanted, whose keys ascend.

    They are found by halves here: Numba's search would have SciPy's linear algebra loaded with it.
    """
    are_listed, are_flagged, are_elsewhere, are_rendered = (
        len(rows) > 0,
        len(words) > 0,
        len(positions) > 0,
        len(rendered) > 0,
    )
    last, is_wanted = np.int64(-1), False
    for at in range(begin, end):
        if are_flagged and not _has_bit(words, at):
            continue
        own = rows[U64(at)] if are_listed else at
        row = U64(positions[U64(own)] if are_elsewhere else own)
        is_rendered = are_rendered and rendered[U64(place)]
        key, _ = _key_of(row, is_rendered, form, mode, turn, progressive, height, width, forms, modes)
        if key != last:
            first, beyond = np.int64(0), np.int64(len(keys))
            while beyond - first > 1:
                middle = (first + beyond) >> 1
                first, beyond = (first, middle) if keys[U64(middle)] > key else (middle, beyond)
            last, is_wanted = key, wanted[U64(first)]
        marks[U64(place)] = is_wanted
        place += 1


@compiled(**INNER)
def _fold(key, word):
    """`fold_each` of one word."""
    value = (key ^ word) + U64(GOLDEN)
    value = (value ^ (value >> U64(30))) * U64(FIRST)
    value = (value ^ (value >> U64(27))) * U64(SECOND)
    return value ^ (value >> U64(31))


@compiled(**CACHED)
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
