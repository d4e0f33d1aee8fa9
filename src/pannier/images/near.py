"""Near doubles: pictures whose perceptual hashes differ in few bits, also when one was turned or mirrored.

Multi-index hashing (Norouzi, Punjani and Fleet, "Fast Search in Hamming Space with Multi-Index Hashing", 2012): the 64
bits are parted into bands about as wide as there are bits in the number of pictures, so that a bucket holds a few; of two
hashes that differ in `distance` bits at least one band differs in no more than its share of them.
"""

from __future__ import annotations

import math
from itertools import combinations
from typing import Any

import numpy as np

from pannier.errors import UsageError
from pannier.hashing import Hashes
from pannier.images.perceptual import FREQUENCIES

# what resizing and compressing again change by; unlike pictures differ in some 32 bits of 64
USUAL_DISTANCE = 6
LARGEST_DISTANCE = 16
_MOST_BANDS, _WIDEST_BITS = 16, 24

Links = np.ndarray[Any, np.dtype[np.int64]]


def checked_distance(distance: int) -> int:
    """A number of differing bits that still tells likeness. Raises UsageError."""
    if isinstance(distance, bool) or not isinstance(distance, int) or not 0 <= distance <= LARGEST_DISTANCE:
        raise UsageError(
            f"near = {distance!r}: the bits that hashes of like pictures may differ in, 0 to {LARGEST_DISTANCE}"
        )
    return distance


def near_links(hashes: Hashes, distance: int, asked: int | None = None) -> Links:
    """Links (i, j), (n, 2) int64, i < j, between pictures whose hashes differ in at most `distance` bits.

    Only as many as it takes to connect what is alike, never more than there are pictures. `asked`: only links of which one
    end is among the first so many. Turned and mirrored pictures count as alike.
    """
    values, numbers = np.unique(hashes, return_inverse=True)
    first = np.full(len(values), len(hashes), np.int64)
    np.minimum.at(first, numbers, np.arange(len(hashes)))
    equal = np.stack([first[numbers], np.arange(len(hashes))], axis=1)
    equal = equal[equal[:, 0] < (len(hashes) if asked is None else asked)]
    links = first[_links(values, first < (len(hashes) if asked is None else asked), distance)]
    return np.sort(np.concatenate([equal[equal[:, 0] < equal[:, 1]], links]), axis=1)


def turned(hashes: Hashes) -> list[Hashes]:
    """The hashes that the pictures have when they are turned or mirrored: 8 arrays, the first as they are.

    Mirroring changes the sign of the odd frequencies, and their bits with it, since the median lies near 0; transposing
    exchanges rows and columns. So a bit or two may be off.
    """
    across, down = _odd_bits(0), _odd_bits(1)
    swapped = _transposed(hashes)
    return [each ^ mask for each in (hashes, swapped) for mask in (np.uint64(0), across, down, across ^ down)]


def _odd_bits(axis: int) -> np.uint64:
    """The bits whose frequency is odd across (axis 0) or down (axis 1)."""
    frequency = np.indices((FREQUENCIES, FREQUENCIES))[1 - axis].ravel() + 1
    return np.uint64(sum(1 << (63 - i) for i in np.flatnonzero(frequency % 2 == 1).tolist()))


def _transposed(hashes: Hashes) -> Hashes:
    bits = np.unpackbits(hashes.astype(">u8").view(np.uint8).reshape(-1, 8), axis=1)
    swapped = bits.reshape(-1, FREQUENCIES, FREQUENCIES).transpose(0, 2, 1).reshape(-1, 64)
    return np.packbits(swapped, axis=1).view(">u8").ravel().astype(np.uint64)


def _links(hashes: Hashes, is_asked: Any, distance: int) -> Links:
    """Links between hashes of which none is there twice, by number."""
    from pannier.images.kernels.likeness import link_in_band

    asked = np.flatnonzero(is_asked)
    edges = np.linspace(0, 64, _bands(len(hashes), distance) + 1).astype(int)
    variants = turned(hashes[asked])
    parents = np.arange(len(hashes))
    parts = []
    for shift, stop in zip(edges[:-1].tolist(), edges[1:].tolist(), strict=True):
        width = stop - shift
        bands = (hashes >> np.uint64(shift)) & np.uint64((1 << width) - 1)
        order = np.argsort(bands, kind="stable")
        starts = np.searchsorted(bands[order], np.arange((1 << width) + 1, dtype=np.uint64))
        masks = _masks(width, distance // (len(edges) - 1))
        in_order, room = hashes[order], np.empty((len(hashes), 2), np.int64)
        for queries in variants:
            linked = link_in_band(in_order, order, queries, asked, shift, width, starts, masks, distance, parents, room)
            parts.append(room[:linked].copy())
    return np.concatenate(parts)


def _bands(count: int, distance: int) -> int:
    """The number of bands that costs least: buckets to look at, and hashes in them."""

    def cost(bands: int) -> float:
        width = 64 // bands
        buckets = sum(math.comb(width, k) for k in range(distance // bands + 1))
        return bands * buckets * (1 + count / 2**width)

    return min(range(-(-64 // _WIDEST_BITS), _MOST_BANDS + 1), key=cost)


def _masks(width: int, most: int) -> Hashes:
    """All numbers of `width` bits of which at most `most` are set."""
    chosen = [bits for count in range(most + 1) for bits in combinations(range(width), count)]
    return np.array([sum(1 << bit for bit in bits) for bits in chosen], np.uint64)
