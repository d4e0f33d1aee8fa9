"""The one kernel call that turns decoded pixels into a prepared array, without the interpreter lock.

Separable antialiased bilinear resize (a triangle filter as wide as the reduction; Heckbert, "Fundamentals of Texture
Mapping and Image Warping", 1989, section 3.5) with 8-bit weights that sum to 256 and an 8-bit intermediate: the vertical
pass on the rows as they lie, then the picture is turned by 8 x 8 byte transposes, so that the horizontal pass is a
vertical one too and the compiler makes vector code of both. docs/format.md describes the arithmetic to the bit;
bench/resize.py measures it.
"""

from __future__ import annotations

import logging
import math

import numpy as np
from numba import njit

U8, U16, U32, U64 = np.uint8, np.uint16, np.uint32, np.uint64


def _can_keep_compiled() -> bool:
    """Numba keeps compiled kernels beside this file or in the user's cache folder; where neither is writable it raises."""
    try:
        njit(cache=True)(_can_keep_compiled)
    except RuntimeError:
        note = (
            "no folder for compiled kernels is writable, so they are compiled anew (some 15 s); set NUMBA_CACHE_DIR to one"
        )
        logging.getLogger("pannier").warning(note)
        return False
    return True


CACHED = {"nogil": True, "cache": _can_keep_compiled()}

# a reduction beyond this is brought below it by whole-number boxes first: 8-bit weights would get too coarse
LARGEST_RATIO = 16
# target rows that are worked on at once, so that the scratch memory does not grow with the target's height
STRIP = 256


@njit(**CACHED)
def axis_weights(source, start, length, target, mirrored, first, weights):
    """Fills `first` (target) and `weights` (target, taps) for the stretch [start, start + length) of `source` pixels.

    Returns the number of taps used. Each row of weights sums to 256; the rounding rest goes to the first largest weight.
    """
    scale = length / target
    support = max(scale, 1.0)
    slope = 1.0 / support
    widest = 1
    for i in range(target):
        center = start + (i + 0.5) * scale
        low = max(int(math.floor(center - support + 0.5)), 0)
        high = min(int(math.floor(center + support + 0.5)), source)
        if high <= low:
            low = min(max(int(math.floor(center)), 0), source - 1)
            high = low + 1
        total = 0.0
        for k in range(low, high):
            total += max(0.0, 1.0 - abs(k + 0.5 - center) * slope)
        unit = 256.0 / total if total > 0.0 else 0.0
        row = weights[target - 1 - i if mirrored else i]
        rest, largest, at = 256, 0, 0
        begin = -1
        count = 0
        for k in range(low, high):
            q = int(math.floor(max(0.0, 1.0 - abs(k + 0.5 - center) * slope) * unit + 0.5))
            if begin < 0:
                if q == 0 and k < high - 1:
                    continue
                begin = k
            row[k - begin] = q
            if q > 0:
                count = k - begin + 1
            if q > largest:
                largest, at = q, k - begin
            rest -= q
        row[at] += rest
        count = max(count, at + 1)
        for k in range(count, weights.shape[1]):
            row[k] = 0
        first[target - 1 - i if mirrored else i] = begin
        widest = max(widest, count)
    return widest


@njit(**CACHED)
def pad_taps(source, first, weights, taps):
    """Widens every row to a multiple of four taps (two for plain interpolation), moving rows that would run over the end.

    Returns the taps, or minus the taps where the source is too small for that.
    """
    wanted = 2 if taps <= 2 else (taps + 3) // 4 * 4
    if wanted > source or wanted > weights.shape[1]:
        return -taps if taps <= source else -source
    for i in range(first.shape[0]):
        gap = first[i] + wanted - source
        if gap > 0:
            for k in range(wanted - 1, -1, -1):
                weights[i, k] = weights[i, k - gap] if k >= gap else 0
            first[i] -= gap
    return wanted


@njit(**CACHED)
def weigh_rows(source, left, n, first, weights, taps, sums, out):
    """out[y, x] = (sum over k of weights[y, k] * source[first[y] + k, left + x] + 128) >> 8."""
    half, shift = U16(128), U16(8)
    for y in range(first.shape[0]):
        at = first[y]
        row = out[y]
        if taps == 2:
            r0 = source[at, left : left + n]
            r1 = source[at + 1, left : left + n]
            w0, w1 = weights[y, 0], weights[y, 1]
            for x in range(n):
                row[x] = U8(U16(U16(w0 * U16(r0[x])) + U16(w1 * U16(r1[x])) + half) >> shift)
        elif taps == 4:
            r0 = source[at, left : left + n]
            r1 = source[at + 1, left : left + n]
            r2 = source[at + 2, left : left + n]
            r3 = source[at + 3, left : left + n]
            w0, w1, w2, w3 = weights[y, 0], weights[y, 1], weights[y, 2], weights[y, 3]
            for x in range(n):
                row[x] = U8(
                    U16(U16(w0 * U16(r0[x])) + U16(w1 * U16(r1[x])) + U16(w2 * U16(r2[x])) + U16(w3 * U16(r3[x])) + half)
                    >> shift
                )
        elif taps > 0:
            for x in range(n):
                sums[x] = half
            for k in range(0, taps, 4):
                r0 = source[at + k, left : left + n]
                r1 = source[at + k + 1, left : left + n]
                r2 = source[at + k + 2, left : left + n]
                r3 = source[at + k + 3, left : left + n]
                w0, w1, w2, w3 = weights[y, k], weights[y, k + 1], weights[y, k + 2], weights[y, k + 3]
                for x in range(n):
                    four = U16(U16(w0 * U16(r0[x])) + U16(w1 * U16(r1[x])) + U16(w2 * U16(r2[x])) + U16(w3 * U16(r3[x])))
                    sums[x] = U16(sums[x] + four)
            for x in range(n):
                row[x] = U8(sums[x] >> shift)
        else:
            for x in range(n):
                sums[x] = half
            for k in range(-taps):
                w0 = weights[y, k]
                if w0 > 0:
                    r0 = source[at + k, left : left + n]
                    for x in range(n):
                        sums[x] = U16(sums[x] + U16(w0 * U16(r0[x])))
            for x in range(n):
                row[x] = U8(sums[x] >> shift)


@njit(nogil=True, inline="always")
def swap(a, b, shift, mask):
    x = ((a >> shift) ^ b) & mask
    return a ^ (x << shift), b ^ x


@njit(**CACHED)
def transpose_bytes(a, b, tiles):
    """Byte transpose in tiles of 8 x 8 (Warren, "Hacker's Delight", section 7-3): a is (8 I, J), b (8 J, I), in words.

    `tiles` is room for 8 J words: the exchange runs over a row of tiles at once there, so that it becomes vector code.
    """
    m4, m2, m1 = U64(0x00000000FFFFFFFF), U64(0x0000FFFF0000FFFF), U64(0x00FF00FF00FF00FF)
    s4, s2, s1 = U64(32), U64(16), U64(8)
    width = a.shape[1]
    t0, t1, t2, t3 = tiles[:width], tiles[width : 2 * width], tiles[2 * width : 3 * width], tiles[3 * width : 4 * width]
    rest = tiles[4 * width :]
    t4, t5, t6, t7 = rest[:width], rest[width : 2 * width], rest[2 * width : 3 * width], rest[3 * width : 4 * width]
    for i in range(a.shape[0] >> 3):
        a0, a1, a2, a3 = a[8 * i], a[8 * i + 1], a[8 * i + 2], a[8 * i + 3]
        a4, a5, a6, a7 = a[8 * i + 4], a[8 * i + 5], a[8 * i + 6], a[8 * i + 7]
        for j in range(width):
            r0, r4 = swap(a0[j], a4[j], s4, m4)
            r1, r5 = swap(a1[j], a5[j], s4, m4)
            r2, r6 = swap(a2[j], a6[j], s4, m4)
            r3, r7 = swap(a3[j], a7[j], s4, m4)
            r0, r2 = swap(r0, r2, s2, m2)
            r1, r3 = swap(r1, r3, s2, m2)
            r4, r6 = swap(r4, r6, s2, m2)
            r5, r7 = swap(r5, r7, s2, m2)
            t0[j], t1[j] = swap(r0, r1, s1, m1)
            t2[j], t3[j] = swap(r2, r3, s1, m1)
            t4[j], t5[j] = swap(r4, r5, s1, m1)
            t6[j], t7[j] = swap(r6, r7, s1, m1)
        for j in range(width):
            q = 8 * j
            b[q, i], b[q + 1, i], b[q + 2, i], b[q + 3, i] = t0[j], t1[j], t2[j], t3[j]
            b[q + 4, i], b[q + 5, i], b[q + 6, i], b[q + 7, i] = t4[j], t5[j], t6[j], t7[j]


@njit(**CACHED)
def box_reduce(source, channels, across, down, sums, out):
    """Averages whole boxes of `down` rows and `across` pixels, rounded half up; those at the far edges over what is there.

    `sums` is room for a row of uint32.
    """
    height, columns = source.shape
    width = columns // channels
    for y in range(out.shape[0]):
        y0, y1 = y * down, min((y + 1) * down, height)
        for i in range(columns):
            sums[i] = U32(source[y0, i])
        for j in range(y0 + 1, y1):
            row = source[j]
            for i in range(columns):
                sums[i] = U32(sums[i] + U32(row[i]))
        for x in range(out.shape[1] // channels):
            x0, x1 = x * across, min((x + 1) * across, width)
            count = U32((y1 - y0) * (x1 - x0))
            for c in range(channels):
                total = U32(count >> U32(1))
                for i in range(x0, x1):
                    total = U32(total + sums[i * channels + c])
                out[y, x * channels + c] = U8(total // count)


@njit(**CACHED)
def plane_bytes(rows, columns):
    """Bytes of a plane padded to tiles of 8 x 8, rounded up so that the next one starts on 64."""
    return (((rows + 7) // 8 * 8) * ((columns + 7) // 8 * 8) + 63) // 64 * 64


@njit(**CACHED)
def carve(scratch, at, rows, columns):
    rows, columns = (rows + 7) // 8 * 8, (columns + 7) // 8 * 8
    return scratch[at : at + rows * columns].reshape(rows, columns)


@njit(**CACHED)
def scratch_bytes(height, width, channels, target_height, target_width):
    """Upper bound of the scratch memory that one call needs for a picture of that size, in bytes."""
    boxed = 0
    if height > LARGEST_RATIO * target_height or width > LARGEST_RATIO * target_width:
        boxed = 4 * width * channels + 64 + plane_bytes(height, width * channels)  # at the most: boxes may be narrow
    # of what is left, no more columns and rows are used than the largest ratio takes
    height = min(height, LARGEST_RATIO * target_height + 4 * LARGEST_RATIO)
    width = min(width, LARGEST_RATIO * target_width + 4 * LARGEST_RATIO)
    # a stretch of the source may be all of it; a row has at most 2 * ratio + 2 weights of two bytes
    taps_y = 4 * (height // target_height + 4)
    taps_x = 4 * (width // target_width + 4)
    tables = target_height * (4 + 2 * taps_y) + target_width * (4 + 2 * taps_x) + 256
    most_rows = (min(STRIP, target_height) + 7) // 8 * 8
    sums = 2 * channels * max(width, most_rows) + 64
    one = max(plane_bytes(most_rows, channels * width), plane_bytes(channels * (target_width + 7), most_rows))
    two = max(plane_bytes(channels * width + 7, most_rows), plane_bytes(most_rows, channels * (target_width + 7)))
    tiles = 8 * (channels * max(width, most_rows) + 64)
    planes = one + two + tiles
    return boxed + tables + sums + planes + 1024


@njit(**CACHED)
def prepare(picture, channels, box, target, flips, pad, scale, offset, scratch, out):
    """`picture` uint8 (h, channels * w) -> `out` (channels, H, W), float32 or uint8. See `box` and `target` in Placement.

    A value is float32(v) * scale + offset, two roundings.
    The picture passes through in strips of rows, small enough for the processor's cache.
    """
    height, width = picture.shape[0], picture.shape[1] // channels
    top, left, length_y, length_x = box
    target_height, target_width, above, before = target
    at = 0
    down = max(1, int(math.ceil(length_y / target_height / LARGEST_RATIO)))
    across = max(1, int(math.ceil(length_x / target_width / LARGEST_RATIO)))
    if down > 1 or across > 1:
        row = scratch[at : at + 4 * width * channels].view(np.uint32)
        at += (4 * width * channels + 63) // 64 * 64
        height, width = -(-height // down), -(-width // across)
        boxed = scratch[at : at + height * width * channels].reshape(height, width * channels)
        at += plane_bytes(height, width * channels)
        box_reduce(picture, channels, across, down, row, boxed)
        picture = boxed
        top, length_y = top / down, length_y / down
        left, length_x = left / across, length_x / across

    taps_y = (int(math.ceil(max(length_y / target_height, 1.0))) * 2 + 2 + 3) // 4 * 4
    taps_x = (int(math.ceil(max(length_x / target_width, 1.0))) * 2 + 2 + 3) // 4 * 4
    first_y = scratch[at : at + 4 * target_height].view(np.int32)
    at += (4 * target_height + 63) // 64 * 64
    first_x = scratch[at : at + 4 * target_width].view(np.int32)
    at += (4 * target_width + 63) // 64 * 64
    weights_y = scratch[at : at + 2 * target_height * taps_y].view(np.uint16).reshape(target_height, taps_y)
    at += (2 * target_height * taps_y + 63) // 64 * 64
    weights_x = scratch[at : at + 2 * target_width * taps_x].view(np.uint16).reshape(target_width, taps_x)
    at += (2 * target_width * taps_x + 63) // 64 * 64
    used_y = axis_weights(height, top, length_y, target_height, flips & 2 != 0, first_y, weights_y)
    used_x = axis_weights(width, left, length_x, target_width, flips & 1 != 0, first_x, weights_x)
    used_y = pad_taps(height, first_y, weights_y, used_y)
    used_x = pad_taps(width, first_x, weights_x, used_x)

    # only the columns that the horizontal pass will look at
    begin, end = width, 0
    for i in range(target_width):
        begin = min(begin, first_x[i])
        end = max(end, first_x[i] + abs(used_x))
    n = min(end, width) - begin
    for i in range(target_width):
        first_x[i] -= begin

    most_rows = (min(STRIP, target_height) + 7) // 8 * 8
    sums = scratch[at : at + 2 * channels * max(n, most_rows)].view(np.uint16)
    at += (2 * channels * max(n, most_rows) + 63) // 64 * 64
    apart = (target_width + 7) // 8 * 8
    tiles = scratch[at : at + 8 * ((max(channels * n, most_rows) + 7) // 8 * 8)].view(U64)
    at += 8 * ((max(channels * n, most_rows) + 7) // 8 * 8)
    # two places that take turns: rows as they lie and, turned, narrow ones; turned rows and, turned back, the result
    one = at
    two = one + max(plane_bytes(most_rows, channels * n), plane_bytes(channels * apart, most_rows))
    for y in range(0, target_height, STRIP):
        rows = min(STRIP, target_height - y)
        tall = (rows + 7) // 8 * 8
        woven = carve(scratch, one, rows, channels * n)
        first, weights = first_y[y : y + rows], weights_y[y : y + rows]
        weigh_rows(picture, channels * begin, channels * n, first, weights, used_y, sums, woven)
        turned = carve(scratch, two, channels * n, rows)  # a row for each channel of each column: red, green, blue, red ...
        transpose_bytes(woven.view(U64), turned.view(U64), tiles)
        columns = scratch[two : two + channels * n * tall].reshape(n, channels * tall)  # so a column's rows lie in a row
        narrow = scratch[one : one + channels * apart * tall].reshape(apart, channels * tall)
        weigh_rows(columns, 0, channels * tall, first_x, weights_x, used_x, sums, narrow)
        for c in range(channels):
            back = scratch[two : two + tall * apart].reshape(tall, apart)
            transpose_bytes(narrow[:, c * tall : (c + 1) * tall].view(U64), back.view(U64), tiles)
            s, b = scale[c], offset[c]
            for row in range(rows):
                source = back[row]
                values = out[c, above + y + row, before : before + target_width]
                for x in range(target_width):
                    values[x] = np.float32(source[x]) * s + b
    if target_height < out.shape[1] or target_width < out.shape[2]:
        for c in range(channels):
            fill_edges(out[c], above, before, target_height, target_width, pad[c], scale[c], offset[c])


@njit(**CACHED)
def fill_edges(out, above, before, height, width, pad, scale, offset):
    """What the picture leaves free of its canvas gets the pad color's value."""
    value = np.float32(pad) * scale + offset
    for y in range(out.shape[0]):
        row = out[y]
        if y < above or y >= above + height:
            row[:] = value
        else:
            row[:before] = value
            row[before + width :] = value


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
