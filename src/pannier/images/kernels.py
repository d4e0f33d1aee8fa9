"""The one kernel call that turns decoded pixels into a prepared array, without the interpreter lock.

Separable antialiased bilinear resize (a triangle filter as wide as the reduction; Heckbert, "Fundamentals of Texture
Mapping and Image Warping", 1989, section 3.5) with 8-bit weights that sum to 256 and an 8-bit intermediate: the vertical pass on
the rows as they lie, then the picture is turned by 8 x 8 byte transposes, so that the horizontal pass is a vertical one too
and the compiler makes vector code of both. docs/format.md describes the arithmetic to the bit; bench/resize.py measures it.
"""

from __future__ import annotations

import math

import numpy as np
from numba import njit

U8, U16, U64 = np.uint8, np.uint16, np.uint64
CACHED = {"nogil": True, "cache": True}

# a reduction beyond this is brought below it by whole-number boxes first: 8-bit weights would get too coarse
LARGEST_RATIO = 16


@njit(**CACHED)
def axis_weights(source, start, length, target, mirrored, first, weights):
    """Fills `first` (target) and `weights` (target, taps) for the stretch [start, start + length) of `source` pixels.

    Returns the number of taps used. Each row of weights sums to 256; the rounding rest goes to the first largest weight.
    """
    scale = length / target
    support = max(scale, 1.0)
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
            total += max(0.0, 1.0 - abs((k + 0.5 - center) / support))
        row = weights[target - 1 - i if mirrored else i]
        rest, largest, at = 256, 0, 0
        begin = -1
        count = 0
        for k in range(low, high):
            w = max(0.0, 1.0 - abs((k + 0.5 - center) / support))
            q = int(math.floor(w / total * 256.0 + 0.5)) if total > 0.0 else (256 if k == low else 0)
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
    """out[y, x] = (sum of weights[y, k] * source[first[y] + k, left + x] + 128) >> 8."""
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
def transpose_bytes(a, b):
    """Byte transpose in tiles of 8 x 8 (Warren, "Hacker's Delight", section 7-3): a is (8 I, J), b (8 J, I), in words."""
    m4, m2, m1 = U64(0x00000000FFFFFFFF), U64(0x0000FFFF0000FFFF), U64(0x00FF00FF00FF00FF)
    s4, s2, s1 = U64(32), U64(16), U64(8)
    for i in range(a.shape[0] >> 3):
        k = 8 * i
        for j in range(a.shape[1]):
            r0, r1, r2, r3 = a[k, j], a[k + 1, j], a[k + 2, j], a[k + 3, j]
            r4, r5, r6, r7 = a[k + 4, j], a[k + 5, j], a[k + 6, j], a[k + 7, j]
            r0, r4 = swap(r0, r4, s4, m4)
            r1, r5 = swap(r1, r5, s4, m4)
            r2, r6 = swap(r2, r6, s4, m4)
            r3, r7 = swap(r3, r7, s4, m4)
            r0, r2 = swap(r0, r2, s2, m2)
            r1, r3 = swap(r1, r3, s2, m2)
            r4, r6 = swap(r4, r6, s2, m2)
            r5, r7 = swap(r5, r7, s2, m2)
            r0, r1 = swap(r0, r1, s1, m1)
            r2, r3 = swap(r2, r3, s1, m1)
            r4, r5 = swap(r4, r5, s1, m1)
            r6, r7 = swap(r6, r7, s1, m1)
            q = 8 * j
            b[q, i], b[q + 1, i], b[q + 2, i], b[q + 3, i] = r0, r1, r2, r3
            b[q + 4, i], b[q + 5, i], b[q + 6, i], b[q + 7, i] = r4, r5, r6, r7


@njit(**CACHED)
def part_channels(a, n, out):
    """(h, 3 n) interleaved -> (3 h, n) planes."""
    h = a.shape[0]
    for y in range(h):
        row = a[y]
        red, green, blue = out[y], out[h + y], out[2 * h + y]
        for x in range(n):
            red[x] = row[3 * x]
            green[x] = row[3 * x + 1]
            blue[x] = row[3 * x + 2]


@njit(**CACHED)
def box_reduce(source, channels, across, down, out):
    """Averages whole boxes of `down` rows and `across` pixels, rounded; those at the far edges over what is there."""
    height = source.shape[0]
    width = source.shape[1] // channels
    for y in range(out.shape[0]):
        y1 = min((y + 1) * down, height)
        for x in range(out.shape[1] // channels):
            x1 = min((x + 1) * across, width)
            count = (y1 - y * down) * (x1 - x * across)
            for c in range(channels):
                total = 0
                for j in range(y * down, y1):
                    for i in range(x * across, x1):
                        total += source[j, i * channels + c]
                out[y, x * channels + c] = (total + (count >> 1)) // count


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
    """Upper bound of the scratch memory that `resize` needs for a picture of that size, in bytes."""
    down = max(1, -(-height // (LARGEST_RATIO * target_height)))
    across = max(1, -(-width // (LARGEST_RATIO * target_width)))
    boxed = 0
    if down > 1 or across > 1:
        height, width = -(-height // down), -(-width // across)
        boxed = plane_bytes(height, width * channels)
    # a stretch of the source may be all of it; a row has at most 2 * ratio + 2 weights of two bytes
    taps_y = 4 * (height // target_height + 4)
    taps_x = 4 * (width // target_width + 4)
    tables = target_height * (4 + 2 * taps_y) + target_width * (4 + 2 * taps_x) + 256
    lines = channels * target_height
    sums = 2 * max(channels * width, lines) + 64
    planes = plane_bytes(target_height, channels * width)
    planes += plane_bytes(lines, width) + plane_bytes(width, lines)
    planes += plane_bytes(target_width, lines) + plane_bytes(lines, target_width)
    return boxed + tables + sums + planes + 1024


@njit(**CACHED)
def resize(picture, channels, top, left, length_y, length_x, target_height, target_width, flip_y, flip_x, scratch):
    """Resizes the box (top, left, length_y, length_x), in pixels, of `picture` (h, channels * w).

    Returns the planes (channels * target_height rows, padded), lying in `scratch`.
    """
    height, width = picture.shape[0], picture.shape[1] // channels
    at = 0
    down = max(1, int(math.ceil(length_y / target_height / LARGEST_RATIO)))
    across = max(1, int(math.ceil(length_x / target_width / LARGEST_RATIO)))
    if down > 1 or across > 1:
        height, width = -(-height // down), -(-width // across)
        boxed = scratch[at : at + height * width * channels].reshape(height, width * channels)
        at += plane_bytes(height, width * channels)
        box_reduce(picture, channels, across, down, boxed)
        picture = boxed
        top, length_y = top / down, length_y / down
        left, length_x = left / across, length_x / across

    taps_y = int(math.ceil(max(length_y / target_height, 1.0))) * 2 + 2
    taps_x = int(math.ceil(max(length_x / target_width, 1.0))) * 2 + 2
    taps_y, taps_x = (taps_y + 3) // 4 * 4, (taps_x + 3) // 4 * 4
    first_y = scratch[at : at + 4 * target_height].view(np.int32)
    at += (4 * target_height + 63) // 64 * 64
    first_x = scratch[at : at + 4 * target_width].view(np.int32)
    at += (4 * target_width + 63) // 64 * 64
    weights_y = scratch[at : at + 2 * target_height * taps_y].view(np.uint16).reshape(target_height, taps_y)
    at += (2 * target_height * taps_y + 63) // 64 * 64
    weights_x = scratch[at : at + 2 * target_width * taps_x].view(np.uint16).reshape(target_width, taps_x)
    at += (2 * target_width * taps_x + 63) // 64 * 64
    used_y = axis_weights(height, top, length_y, target_height, flip_y, first_y, weights_y)
    used_x = axis_weights(width, left, length_x, target_width, flip_x, first_x, weights_x)
    used_y = pad_taps(height, first_y, weights_y, used_y)
    used_x = pad_taps(width, first_x, weights_x, used_x)

    # only the columns that the horizontal pass will look at
    begin, end = width, 0
    for i in range(target_width):
        begin = min(begin, first_x[i])
        end = max(end, first_x[i] + abs(used_x))
    end = min(end, width)
    for i in range(target_width):
        first_x[i] -= begin
    n = end - begin

    lines = channels * target_height
    sums = scratch[at : at + 2 * max(channels * n, lines)].view(np.uint16)
    at += (2 * max(channels * n, lines) + 63) // 64 * 64
    planes = carve(scratch, at, lines, n)
    at += plane_bytes(lines, n)
    if channels == 1:
        weigh_rows(picture, begin, n, first_y, weights_y, used_y, sums, planes)
    else:
        woven = carve(scratch, at, target_height, channels * n)
        weigh_rows(picture, channels * begin, channels * n, first_y, weights_y, used_y, sums, woven)
        part_channels(woven[:target_height], n, planes)
        at += plane_bytes(target_height, channels * n)
    turned = carve(scratch, at, n, lines)
    transpose_bytes(planes.view(U64), turned.view(U64))
    at += plane_bytes(n, lines)
    narrow = carve(scratch, at, target_width, lines)
    at += plane_bytes(target_width, lines)
    weigh_rows(turned, 0, lines, first_x, weights_x, used_x, sums, narrow)
    back = carve(scratch, at, lines, target_width)
    transpose_bytes(narrow.view(U64), back.view(U64))
    return back


@njit(**CACHED)
def to_float_planes(planes, height, width, top, left, pad, scale, offset, out):
    """uint8 planes -> float32 (c, H, W): float32(v) * scale + offset, two roundings; `pad` around the inner picture."""
    channels = out.shape[0]
    for c in range(channels):
        s, b = scale[c], offset[c]
        edge = np.float32(pad[c]) * s + b
        for y in range(out.shape[1]):
            row = out[c, y]
            if y < top or y >= top + height:
                row[:] = edge
                continue
            row[:left] = edge
            row[left + width :] = edge
            inner = row[left : left + width]
            source = planes[c * height + y - top]
            for x in range(width):
                inner[x] = np.float32(source[x]) * s + b


@njit(**CACHED)
def to_byte_planes(planes, height, width, top, left, pad, out):
    for c in range(out.shape[0]):
        for y in range(out.shape[1]):
            row = out[c, y]
            if y < top or y >= top + height:
                row[:] = pad[c]
                continue
            row[:left] = pad[c]
            row[left + width :] = pad[c]
            row[left : left + width] = planes[c * height + y - top, :width]


@njit(**CACHED)
def prepare_float(picture, channels, box, target, flips, pad, scale, offset, scratch, out):
    """`picture` uint8 (h, channels * w) -> `out` float32 (channels, H, W). See `box` and `target` in Placement."""
    planes = resize(
        picture, channels, box[0], box[1], box[2], box[3], target[0], target[1], flips & 2 != 0, flips & 1 != 0, scratch
    )
    to_float_planes(planes, target[0], target[1], target[2], target[3], pad, scale, offset, out)


@njit(**CACHED)
def prepare_bytes(picture, channels, box, target, flips, pad, scratch, out):
    """The same to uint8, for raw values."""
    planes = resize(
        picture, channels, box[0], box[1], box[2], box[3], target[0], target[1], flips & 2 != 0, flips & 1 != 0, scratch
    )
    to_byte_planes(planes, target[0], target[1], target[2], target[3], pad, out)
