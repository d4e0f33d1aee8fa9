"""Perceptual hashes, and links between those that are near."""

from __future__ import annotations

import numpy as np
from numba import njit

from pannier.images.kernels.compiling import CACHED, U32, U64


@njit(**CACHED)
def perceptual_bits(picture, cosines, sums, small):
    """The hash of gray pixels: 16 times their means in `small`, (side, side), a bit for each of cosines @ small @ cosines.T.

    The bits come from the highest; one is set where its number is above the 32nd smallest. `sums` is room for a row.
    """
    height, width = picture.shape
    side = small.shape[0]
    edges = np.empty((side, 2), np.int64)
    for j in range(side):
        edges[j, 0] = j * width // side
        edges[j, 1] = max(edges[j, 0] + 1, (j + 1) * width // side)
    for i in range(side):
        top = i * height // side
        bottom = max(top + 1, (i + 1) * height // side)
        for x in range(width):
            sums[x] = U32(picture[top, x])
        for y in range(top + 1, bottom):
            row = picture[y]
            for x in range(width):
                sums[x] = U32(sums[x] + U32(row[x]))
        for x in range(1, width):
            sums[x] = U32(sums[x] + sums[x - 1])
        for j in range(side):
            left, right = edges[j]
            before = sums[left - 1] if left > 0 else U32(0)
            count = U64((bottom - top) * (right - left))
            small[i, j] = (U64(U32(sums[right - 1] - before)) * U64(16) + (count >> U64(1))) // count
    frequencies = cosines.shape[0]
    half = np.empty((frequencies, side), np.int64)
    for u in range(frequencies):
        for x in range(side):
            total = 0
            for y in range(side):
                total += cosines[u, y] * small[y, x]
            half[u, x] = total
    spectrum = np.empty(frequencies * frequencies, np.int64)
    for u in range(frequencies):
        for v in range(frequencies):
            total = 0
            for x in range(side):
                total += half[u, x] * cosines[v, x]
            spectrum[u * frequencies + v] = total
    bits = U64(0)
    for i in range(spectrum.size):
        below = 0
        for j in range(spectrum.size):
            below += spectrum[j] < spectrum[i]
        bits = (bits << U64(1)) | U64(below >= spectrum.size // 2)
    return bits


@njit(**CACHED)
def root_of(parents, at):
    """The root of a tree of a union-find forest; halves the way there."""
    while parents[at] != at:
        parents[at] = parents[parents[at]]
        at = parents[at]
    return at


@njit(**CACHED)
def link_in_band(hashes, numbers, queries, asked, shift, width, starts, masks, distance, parents, links):
    """Links what differs in at most `distance` bits and is not linked yet: pairs of numbers into `links`, (n - 1, 2).

    `hashes` come in order of their `width` bits from `shift` on, the bucket's first at `starts[bits]`; `numbers` are theirs.
    `asked` are the numbers of `queries`, for which buckets at every one of `masks` from their own are looked at. `parents`
    is the union-find forest of all numbers. Returns how many links were added.
    """
    found = 0
    band = U64((1 << width) - 1)
    for q in range(queries.size):
        own = (queries[q] >> U64(shift)) & band
        for m in range(masks.size):
            bucket = own ^ masks[m]
            for at in range(starts[bucket], starts[bucket + U64(1)]):
                bits = queries[q] ^ hashes[at]
                bits -= (bits >> U64(1)) & U64(0x5555555555555555)
                bits = (bits & U64(0x3333333333333333)) + ((bits >> U64(2)) & U64(0x3333333333333333))
                bits = (bits + (bits >> U64(4))) & U64(0x0F0F0F0F0F0F0F0F)
                if (bits * U64(0x0101010101010101)) >> U64(56) <= U64(distance):
                    one, other = root_of(parents, asked[q]), root_of(parents, numbers[at])
                    if one != other:
                        parents[max(one, other)] = min(one, other)
                        links[found, 0], links[found, 1] = asked[q], numbers[at]
                        found += 1
    return found
