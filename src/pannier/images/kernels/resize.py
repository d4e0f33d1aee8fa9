"""The one kernel call that turns decoded pixels into a canvas or a prepared array, without the interpreter lock.

Separable antialiased resize by a filter as wide as the reduction (Heckbert, "Fundamentals of Texture Mapping and Image
Warping", 1989, section 3.5; the cubic with a = -0.5 is Keys, "Cubic Convolution Interpolation for Digital Image
Processing", 1981; the other is Lanczos' sinc over three lobes; Duchon, "Lanczos Filtering in One and Two Dimensions",
1979). Weights and intermediate are of 8 bits (the two with negative lobes: weights of 12): the vertical pass on the rows
as they lie, then the picture is turned by 8 x 8 byte transposes, so that the horizontal pass is a vertical one too and the
compiler makes vector code of both. docs/format.md describes the arithmetic to the bit; bench/resize.py measures it.
"""

from __future__ import annotations

import math

import numpy as np
from numba import njit

from pannier.array_types import Array
from pannier.images.kernels.compiling import CACHED, I32, INNER, U8, U16, U32, U64, compiled

# a reduction beyond this is brought below it by whole-number boxes first: 8-bit weights would get too coarse
LARGEST_RATIO = 16
# target rows that are worked on at once, so that the scratch memory does not grow with the target's height
STRIP = 256

NEAREST, BILINEAR, BICUBIC, LANCZOS = 0, 1, 2, 3
PAD, EDGE, MIRROR = 0, 1, 2


@compiled(**INNER)
def reached(center, support, source):
    """Which pixels of `source` lie within a filter's support: from, to before; one at the least."""
    low = max(int(math.floor(center - support + 0.5)), 0)
    high = min(int(math.floor(center + support + 0.5)), source)
    if high <= low:
        low = min(max(int(math.floor(center)), 0), source - 1)
        high = low + 1
    return low, high


@compiled(**INNER)
def move_inside(source, first, weights, taps):
    """Moves rows of weights that would run over the source's end."""
    for i in range(first.shape[0]):
        gap = first[i] + taps - source
        if gap > 0:
            for k in range(taps - 1, -1, -1):
                weights[i, k] = weights[i, k - gap] if k >= gap else 0
            first[i] -= gap


@compiled(**INNER)
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
        low, high = reached(center, support, source)
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


@compiled(**INNER)
def pad_taps(source, first, weights, taps):
    """Widens every row to a multiple of four taps (two for plain interpolation), moving rows that would run over the end.

    Returns the taps, or minus the taps where the source is too small for that.
    """
    wanted = 2 if taps <= 2 else (taps + 3) // 4 * 4
    if wanted > source or wanted > weights.shape[1]:
        return -taps if taps <= source else -source
    move_inside(source, first, weights, wanted)
    return wanted


@compiled(**INNER)
def weigh_rows(source, left, n, first, weights, taps, begin, end, sums, out):
    """out[y, x] = (sum over k of weights[y, k] * source[first[y] + k, left + x] + 128) >> 8, for y from begin to end."""
    half, shift = U16(128), U16(8)
    for y in range(begin, end):
        at = first[y]
        row = out[y - begin]
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


@compiled(**INNER)
def weights_of(kind, source, start, length, target, mirrored, first, weights):
    """As `axis_weights`, padded; for the filter "nearest" of the one pixel that a target's center lies in."""
    if kind == BILINEAR:
        taps = axis_weights(source, start, length, target, mirrored, first, weights)
    else:
        taps, scale = 1, length / target
        for i in range(target):
            at = target - 1 - i if mirrored else i
            first[at] = min(max(int(math.floor(start + (i + 0.5) * scale)), 0), source - 1)
            for k in range(1, weights.shape[1]):
                weights[at, k] = 0
            weights[at, 0] = 256
    return pad_taps(source, first, weights, taps)


@compiled(**INNER)
def lobed(kind, x):
    """The cubic (a = -0.5) over two pixels, or Lanczos over three, at a distance."""
    x = abs(x)
    if kind == BICUBIC:
        if x < 1.0:
            return (1.5 * x - 2.5) * x * x + 1.0
        if x < 2.0:
            return ((-0.5 * x + 2.5) * x - 4.0) * x + 2.0
        return 0.0
    if x < 1e-8:
        return 1.0
    if x < 3.0:
        t = math.pi * x
        return 3.0 * math.sin(t) * math.sin(t / 3.0) / (t * t)
    return 0.0


@compiled(**INNER)
def lobed_weights(kind, source, start, length, target, mirrored, first, weights):
    """As `axis_weights` for the filters with negative lobes: weights of 12 bits, each row sums to 4096."""
    scale = length / target
    stretch = max(scale, 1.0)
    support = kind * stretch
    widest = 1
    for i in range(target):
        at = target - 1 - i if mirrored else i
        row = weights[at]
        center = start + (i + 0.5) * scale
        low, high = reached(center, support, source)
        total = 0.0
        for k in range(low, high):
            total += lobed(kind, (k + 0.5 - center) / stretch)
        if abs(total) < 1e-9:
            total = 1.0
        rest, largest, most = 4096, -32768, 0
        for k in range(low, high):
            q = int(math.floor(lobed(kind, (k + 0.5 - center) / stretch) / total * 4096.0 + 0.5))
            row[k - low] = q
            rest -= q
            if q > largest:
                largest, most = q, k - low
        row[most] += rest
        for k in range(high - low, weights.shape[1]):
            row[k] = 0
        first[at] = low
        widest = max(widest, high - low)
    move_inside(source, first, weights, widest)
    return widest


@compiled(**INNER)
def weigh_rows_signed(source, left, n, first, weights, taps, begin, end, sums, out):
    """out[y, x] = (sum over k of weights[y, k] * source[first[y] + k, left + x] + 2048) >> 12, kept within 0..255."""
    for y in range(begin, end):
        row = out[y - begin]
        for x in range(n):
            sums[x] = I32(2048)
        for k in range(taps):
            w0 = I32(weights[y, k])
            if w0 != 0:
                r0 = source[first[y] + k, left : left + n]
                for x in range(n):
                    sums[x] = I32(sums[x] + w0 * I32(r0[x]))
        for x in range(n):
            row[x] = U8(min(max(sums[x] >> I32(12), I32(0)), I32(255)))


@compiled(**CACHED)
def bounced(at, length):
    """Where a place outside 0..length lies when the axis is mirrored at its two ends, as often as needed."""
    at = at % (2 * length)
    return at if at < length else 2 * length - 1 - at


@njit(nogil=True, inline="always")
def swap(a, b, shift, mask):
    x = ((a >> shift) ^ b) & mask
    return a ^ (x << shift), b ^ x


@compiled(**INNER)
def transpose_bytes(a, begin, width, b, tiles):
    """Byte transpose in tiles of 8 x 8 (Warren, "Hacker's Delight", section 7-3): a is (8 I, J), b (8 J, I), in words.

    Of `a` so many words of each row, from `begin` on. `tiles` is room for 8 J words: the exchange runs over a row of tiles
    at once there, so that it becomes vector code.
    """
    m4, m2, m1 = U64(0x00000000FFFFFFFF), U64(0x0000FFFF0000FFFF), U64(0x00FF00FF00FF00FF)
    s4, s2, s1 = U64(32), U64(16), U64(8)
    end = begin + width
    t0, t1, t2, t3, t4, t5, t6, t7 = tiles[0], tiles[1], tiles[2], tiles[3], tiles[4], tiles[5], tiles[6], tiles[7]
    for i in range(a.shape[0] >> 3):
        k = 8 * i
        a0, a1, a2, a3 = a[k, begin:end], a[k + 1, begin:end], a[k + 2, begin:end], a[k + 3, begin:end]
        a4, a5, a6, a7 = a[k + 4, begin:end], a[k + 5, begin:end], a[k + 6, begin:end], a[k + 7, begin:end]
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


@compiled(**INNER)
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


def plane_bytes(rows: int, columns: int) -> int:
    """Bytes of a plane padded to tiles of 8 x 8, rounded up so that the next one starts on 64."""
    return (((rows + 7) // 8 * 8) * ((columns + 7) // 8 * 8) + 63) // 64 * 64


_plane_bytes = compiled(**INNER)(plane_bytes)


@compiled(**INNER)
def plane_of(scratch, at, rows, columns):
    """A part of scratch memory as rows; `at` in the numbers that it is made of."""
    return scratch[at : at + rows * columns].reshape(rows, columns)


@compiled(**INNER)
def whole_words(number):
    return (number + 7) // 8 * 8


@compiled(**INNER)
def whole_lines(number):
    """Bytes, rounded up so that what comes next starts on 64."""
    return (number + 63) // 64 * 64


def scratch_of(byte_count: int, is_lobed: bool) -> tuple[Array, Array, Array, Array]:
    """New scratch memory, as bytes and as numbers of 16, 32 and 64 bits: compiled code need not see one as the other."""
    words = np.empty(-(-byte_count // 8), U64)
    return words.view(U8), words.view(np.int16 if is_lobed else U16), words.view(I32), words


def scratch_bytes(
    height: int, width: int, channels: int, target_height: int, target_width: int, kind: int = BILINEAR
) -> int:
    """Upper bound of the scratch memory that one call needs for a picture of that size, in bytes."""
    boxed = 0
    reach = max(kind, 1)
    if kind != NEAREST and (height > LARGEST_RATIO * target_height or width > LARGEST_RATIO * target_width):
        boxed = 4 * width * channels + 64 + plane_bytes(height, width * channels)  # at the most: boxes may be narrow
    # of what is left, no more columns and rows are used than the largest ratio takes
    if kind != NEAREST:
        height = min(height, LARGEST_RATIO * target_height + 4 * LARGEST_RATIO * reach)
        width = min(width, LARGEST_RATIO * target_width + 4 * LARGEST_RATIO * reach)
    # a stretch of the source may be all of it; a row has at most 2 * reach * ratio + 2 weights of two bytes
    taps_y = 4 * (reach * (height // target_height + 2) + 2) if kind != NEAREST else 8
    taps_x = 4 * (reach * (width // target_width + 2) + 2) if kind != NEAREST else 8
    tables = target_height * (4 + 2 * taps_y) + target_width * (4 + 2 * taps_x) + 256
    most_rows = (min(STRIP, target_height) + 7) // 8 * 8
    sums = (2 if reach == 1 else 4) * channels * max(width, most_rows) + 64
    one = max(plane_bytes(most_rows, channels * width), plane_bytes(channels * (target_width + 7), most_rows))
    two = max(plane_bytes(channels * width + 7, most_rows), plane_bytes(most_rows, channels * (target_width + 7)))
    tiles = 8 * (channels * max(width, most_rows) + 64)
    planes = one + two + tiles
    return boxed + tables + sums + planes + 1024


@compiled(**CACHED)
def fill_edges(out, target, window, border, pad, scale, offset):
    """What the picture leaves free of a window: the pad color's value, the nearest pixel's or that of the mirror image.

    For a mirror image the window holds what is mirrored.
    """
    height, width, above, before = target[0], target[1], target[2] - window[0], target[3] - window[1]
    columns = out.shape[2]
    top, bottom = max(0, above), min(out.shape[1], above + height)
    left = min(max(0, before), columns)
    right = max(left, min(columns, before + width))
    has_picture = border != PAD and bottom > top and right > left
    for c in range(out.shape[0]):
        plane = out[c]
        value = np.float32(pad[c]) * scale[c] + offset[c]
        for y in range(top, bottom):
            row = plane[y]
            for side in range(2):
                first, last = (0, left) if side == 0 else (right, columns)
                for x in range(first, last):
                    row[x] = row[lies_at(x, border, before, width, left, right)] if has_picture else value
        for y in range(out.shape[1]):
            if y < top or y >= bottom:
                row = plane[y]
                if has_picture:
                    like = plane[lies_at(y, border, above, height, top, bottom)]
                    for x in range(columns):
                        row[x] = like[x]
                else:
                    for x in range(columns):
                        row[x] = value


@compiled(**INNER)
def lies_at(at, border, begin, length, low, high):
    """Which place of an axis stands in for one outside the picture, which lies at begin..begin + length."""
    if border == MIRROR:
        at = begin + bounced(at - begin, length)
    return min(max(at, low), high - 1)


@compiled(**INNER)
def lay_down(source, rows, columns, scale, offset, out, c, top, left):
    """Rows of bytes as values into a plane of `out`, from `top` and `left` on: float32(v) * scale + offset."""
    factor, shift = scale[c], offset[c]
    is_plain = factor == 1.0 and shift == 0.0
    for row in range(rows):
        pixels, values = source[row], out[c, top + row, left : left + columns]
        if is_plain:
            for x in range(columns):
                values[x] = pixels[x]
        else:
            for x in range(columns):
                values[x] = np.float32(pixels[x]) * factor + shift


@compiled(**INNER)
def keep(source, rows, columns, kept, c, top, left):
    """The same rows as they are."""
    for row in range(rows):
        pixels, values = source[row], kept[c, top + row, left : left + columns]
        for x in range(columns):
            values[x] = pixels[x]


def _compiled(lobed):
    """The kernel for filters with negative lobes, or for those without: each compiled only where it is used."""

    @compiled(**CACHED)
    def prepare(picture, channels, box, target, flips, kind, scale, offset, window, scratch, out, kept):
        """`picture` uint8 (h, channels * w) -> `out` (channels, H, W), float32 or uint8. For `box`, `target` see Placement.

        A value is float32(v) * scale + offset, two roundings. `out` is the part of the canvas that `window` says (top, left,
        height, width); only that is computed. `kept`: uint8 of the same shape, for the pixels themselves, or of none.
        True where the picture leaves some of it free, for `fill_edges`.
        The picture passes through in strips of rows, small enough for the processor's cache. `scratch`: see `scratch_of`.
        """
        octets, sixteen, thirty_two, words = scratch
        height, width = picture.shape[0], picture.shape[1] // channels
        top, left, length_y, length_x = box
        target_height, target_width, above, before = target
        down_by, right_by = above - window[0], before - window[1]
        # rows and columns of the target that lie in the window
        y_from, y_to = max(0, -down_by), min(target_height, window[2] - down_by)
        x_from, x_to = max(0, -right_by), min(target_width, window[3] - right_by)
        if y_from >= y_to or x_from >= x_to:
            return True
        at = 0
        down = max(1, int(math.ceil(length_y / target_height / LARGEST_RATIO)))
        across = max(1, int(math.ceil(length_x / target_width / LARGEST_RATIO)))
        if kind != NEAREST and (down > 1 or across > 1):
            sums = thirty_two[at // 4 :]
            at += whole_lines(4 * width * channels)
            height, width = -(-height // down), -(-width // across)
            boxed = plane_of(octets, at, height, width * channels)
            box_reduce(picture, channels, across, down, sums, boxed)
            picture = boxed
            at += _plane_bytes(height, width * channels)
            top, length_y = top / down, length_y / down
            left, length_x = left / across, length_x / across

        reach = max(kind, 1)
        room_y, room_x = 4, 4
        if kind != NEAREST:
            room_y = (int(math.ceil(max(length_y / target_height, 1.0) * reach)) * 2 + 5) // 4 * 4
            room_x = (int(math.ceil(max(length_x / target_width, 1.0) * reach)) * 2 + 5) // 4 * 4
        first_y = thirty_two[at // 4 : at // 4 + target_height]
        at += whole_lines(4 * target_height)
        first_x = thirty_two[at // 4 : at // 4 + target_width]
        at += whole_lines(4 * target_width)
        weights_y = plane_of(sixteen, at // 2, target_height, room_y)
        at += whole_lines(2 * target_height * room_y)
        weights_x = plane_of(sixteen, at // 2, target_width, room_x)
        at += whole_lines(2 * target_width * room_x)
        upside_down, mirrored = flips & 2 != 0, flips & 1 != 0
        if lobed:
            used_y = lobed_weights(kind, height, top, length_y, target_height, upside_down, first_y, weights_y)
            used_x = lobed_weights(kind, width, left, length_x, target_width, mirrored, first_x, weights_x)
        else:
            used_y = weights_of(kind, height, top, length_y, target_height, upside_down, first_y, weights_y)
            used_x = weights_of(kind, width, left, length_x, target_width, mirrored, first_x, weights_x)
        tall_part, wide_part = y_to - y_from, x_to - x_from

        # only the columns that the horizontal pass will look at
        begin, end = width, 0
        for i in range(x_from, x_to):
            begin = min(begin, first_x[i])
            end = max(end, first_x[i] + abs(used_x))
        n = min(end, width) - begin
        for i in range(x_from, x_to):
            first_x[i] -= begin

        most_rows = whole_words(min(STRIP, tall_part))
        if lobed:
            sums = thirty_two[at // 4 :]
            at += whole_lines(4 * channels * max(n, most_rows))
        else:
            sums = sixteen[at // 2 :]
            at += whole_lines(2 * channels * max(n, most_rows))
        apart = whole_words(wide_part)
        tiles = plane_of(words, at // 8, 8, whole_words(max(channels * n, most_rows)) // 8)
        at += 8 * tiles.size
        # two places that take turns: rows as they lie and, turned, narrow ones; turned rows and, turned back, the result
        one = at
        two = one + max(_plane_bytes(most_rows, channels * n), _plane_bytes(channels * apart, most_rows))
        for y in range(0, tall_part, STRIP):
            rows = min(STRIP, tall_part - y)
            tall, woven = whole_words(rows), whole_words(channels * n)
            # down: rows of the picture, woven of channels, which are turned as a whole
            source, weighed, left_by, size = picture, plane_of(octets, one, tall, woven), channels * begin, channels * n
            first, weights, used, from_row, to_row = first_y, weights_y, used_y, y_from + y, y_from + y + rows
            to_turn, parts, length = plane_of(words, one // 8, tall, woven // 8), 1, woven // 8
            turned = plane_of(words, two // 8, woven, tall // 8)
            for step in range(2):  # one call of each callee, which would be compiled into each
                if step == 1:  # across: a row holds all channels of a column, red, green, blue; each is turned by itself
                    source, weighed = (
                        plane_of(octets, two, n, channels * tall),
                        plane_of(octets, one, apart, channels * tall),
                    )
                    left_by, size = 0, channels * tall
                    first, weights, used, from_row, to_row = first_x, weights_x, used_x, x_from, x_to
                    to_turn, parts, length = plane_of(words, one // 8, apart, channels * tall // 8), channels, tall // 8
                    turned = plane_of(words, two // 8, tall, apart // 8)
                if lobed:
                    weigh_rows_signed(source, left_by, size, first, weights, used, from_row, to_row, sums, weighed)
                else:
                    weigh_rows(source, left_by, size, first, weights, used, from_row, to_row, sums, weighed)
                for c in range(parts):
                    transpose_bytes(to_turn, c * length, length, turned, tiles)
                    if step == 1:
                        back, top_at, left_at = plane_of(octets, two, tall, apart), down_by + y_from + y, right_by + x_from
                        lay_down(back, rows, wide_part, scale, offset, out, c, top_at, left_at)
                        if kept.size:
                            keep(back, rows, wide_part, kept, c, top_at, left_at)
        return tall_part < window[2] or wide_part < window[3]

    return prepare


prepare = _compiled(False)
prepare_lobed = _compiled(True)
