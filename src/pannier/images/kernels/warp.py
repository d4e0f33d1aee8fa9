"""One warp for all random geometry: from a canvas to the view, antialiased where it makes smaller.

A pixel of the view is a weighted mean of the canvas around the place where its center lies: bilinear, or, where more than
1.5 canvas pixels go to one of the view, the mean of the bilinear canvas over a box of sqrt(2 ratio^2 - 4) pixels, so that
together with the canvas' own filter it is as wide as one resize would have made it (variances add up; Heckbert 1989,
section 3.5). Places are rounded to 1/256 of a pixel for bilinear weights, to 1/32 for the others. docs/format.md has the
arithmetic to the bit.
"""

from __future__ import annotations

import math

import numpy as np
from numba import njit

from pannier.images.kernels.compiling import CACHED, I32, INNER, U8, U32, U64, compiled
from pannier.images.kernels.resize import MIRROR, PAD, bounced

# canvas pixels to one of the view up to which the bilinear weights stay
BILINEAR_RATIO = 1.5
FRACTIONS = 32
MOST_TAPS = 32


@compiled(**INNER)
def taps_of(ratio):
    """Width of the box, and how many canvas pixels are taken in on one axis: an even number."""
    if ratio <= BILINEAR_RATIO:
        return 0.0, 2
    width = math.sqrt(2.0 * (ratio * ratio - 2.0))
    return width, min(MOST_TAPS, 2 * int(math.ceil(1.0 + width / 2)))


@compiled(**INNER)
def below(t):
    """How much of the triangle of half width 1 lies below t."""
    if t <= -1.0:
        return 0.0
    if t >= 1.0:
        return 1.0
    return 0.5 * (1.0 + t) * (1.0 + t) if t < 0.0 else 1.0 - 0.5 * (1.0 - t) * (1.0 - t)


@compiled(**INNER)
def share_of(x, half):
    """The weight of a pixel at a distance: the triangle, averaged over a box of that half width."""
    return max(0.0, 1.0 - abs(x)) if half == 0.0 else below(x + half) - below(x - half)


@compiled(**INNER)
def box_table(width, taps, weights):
    """Weights (FRACTIONS, taps) of 8 bits for places at (f + 1/2) / FRACTIONS beyond a pixel's center; rows sum to 256."""
    half = width / 2
    for f in range(FRACTIONS):
        at = (f + 0.5) / FRACTIONS
        total = 0.0
        for k in range(taps):
            x = k - (taps // 2 - 1) - at
            total += share_of(x, half)
        rest, largest, most = 256, -1, 0
        for k in range(taps):
            x = k - (taps // 2 - 1) - at
            q = int(math.floor(share_of(x, half) / total * 256.0 + 0.5))
            weights[f, k] = q
            rest -= q
            if q > largest:
                largest, most = q, k
        weights[f, most] += rest


@compiled(**INNER)
def outside(at, length, border):
    """Which canvas pixel of an axis stands in for one outside it; -1 for the pad color."""
    if 0 <= at < length:
        return at
    if border == PAD:
        return -1
    if border == MIRROR:
        return bounced(at, length)
    return min(max(at, 0), length - 1)


@compiled(**CACHED)
def warp(planes, stride, origin, size, matrix, ratios, border, pad, rows, columns, packed, corners, out):
    """`planes` uint8 (channels, h * w), the part at `origin` of a canvas of `size`, -> `out` uint8 (channels, H, W).

    Rows of the part are `stride` pixels wide.

    `matrix` (9 numbers) takes a view's place (x, y, 1), in pixels, to the canvas' (u, v, w), whose place is u/w, v/w.
    `ratios` (down, across) are canvas pixels to one of the view. `rows` and `columns` are room for W int32 each, `packed`
    for h w words of 32 bits, `corners` for (4, W) of them.
    """
    width_y, taps_y = taps_of(ratios[0])
    width_x, taps_x = taps_of(ratios[1])
    if taps_y == 2 and taps_x == 2:
        bilinear(planes, stride, origin, size, matrix, border, pad, rows, columns, packed, corners, out)
        return
    weights_y, weights_x = np.empty((FRACTIONS, taps_y), np.int32), np.empty((FRACTIONS, taps_x), np.int32)
    box_table(width_y, taps_y, weights_y)
    box_table(width_x, taps_x, weights_x)
    channels, height, width = out.shape
    for y in range(height):
        places(matrix, y, float(FRACTIONS), 0.0, rows, columns)
        for x in range(width):
            top = rows[x] // FRACTIONS - (taps_y // 2 - 1)
            left = columns[x] // FRACTIONS - (taps_x // 2 - 1)
            down, across = weights_y[rows[x] % FRACTIONS], weights_x[columns[x] % FRACTIONS]
            is_inside = top >= 0 and left >= 0 and top + taps_y <= size[0] and left + taps_x <= size[1]
            if is_inside:
                at = U64((top - origin[0]) * stride + left - origin[1])
                for c in range(channels):
                    out[c, y, x] = weighed(planes[c], at, U64(stride), down, across)
                continue
            for c in range(channels):
                total = 0
                for j in range(taps_y):
                    line = 0
                    v = outside(top + j, size[0], border)
                    for i in range(taps_x):
                        line += across[i] * taken(planes[c], stride, v, outside(left + i, size[1], border), origin, pad[c])
                    total += down[j] * line
                out[c, y, x] = U8((total + 32768) >> 16)


@compiled(**INNER)
def weighed(plane, at, stride, down, across):
    """The mean of a rectangle of a plane that begins at `at`, by weights down and across: (sum + 2 ** 15) >> 16."""
    one = U64(1)
    total = I32(32768)
    for j in range(down.shape[0]):
        line, k = I32(0), at
        for i in range(across.shape[0]):
            line += across[i] * I32(plane[k])
            k += one
        total += down[j] * line
        at += stride
    return U8(total >> I32(16))


@compiled(**INNER)
def places(matrix, y, steps, nudge, rows, columns):
    """Where the centers of a row of the view lie among the canvas' centers, in `steps` of a pixel, rounded down.

    With a nudge of 0.5, as for bilinear weights, to the nearest.
    """
    a, b, c, d, e, f, g, h, i = matrix
    at_y = y + 0.5
    u, v, w = b * at_y + c, e * at_y + f, h * at_y + i
    if g == 0.0 and h == 0.0:
        for x in range(rows.shape[0]):
            at_x = x + 0.5
            columns[x] = I32(np.floor((a * at_x + u - 0.5) * steps + nudge))
            rows[x] = I32(np.floor((d * at_x + v - 0.5) * steps + nudge))
    else:
        for x in range(rows.shape[0]):
            at_x = x + 0.5
            near = 1.0 / (g * at_x + w)
            columns[x] = I32(np.floor(((a * at_x + u) * near - 0.5) * steps + nudge))
            rows[x] = I32(np.floor(((d * at_x + v) * near - 0.5) * steps + nudge))


@compiled(**INNER)
def bilinear(planes, stride, origin, size, matrix, border, pad, rows, columns, packed, corners, out):
    """`warp` for two pixels on each axis: weights of 8 bits, (sum + 2 ** 15) >> 16."""
    channels, height, width = out.shape
    count = planes.shape[1]
    bottom, right = size[0] - 1, size[1] - 1
    if channels == 3:
        pack(planes[0], planes[1], planes[2], packed[:count])
    for y in range(height):
        places(matrix, y, 256.0, 0.5, rows, columns)
        # a row that lies inside as a whole, as with enough margin all do, needs no questions for each pixel; its places lie
        # on a line, so its ends are the furthest
        low_y, high_y = min(rows[0], rows[width - 1]), max(rows[0], rows[width - 1])
        low_x, high_x = min(columns[0], columns[width - 1]), max(columns[0], columns[width - 1])
        if low_y >= 0 and low_x >= 0 and (high_y >> 8) < bottom and (high_x >> 8) < right:
            if channels == 3:
                blend_three(packed[:count], stride, origin, rows, columns, corners, out[0, y], out[1, y], out[2, y])
            else:
                blend_one(planes[0], stride, origin, rows, columns, out[0, y])
            continue
        for x in range(width):
            fy, fx = rows[x] & 255, columns[x] & 255
            y0, x0 = outside(rows[x] >> 8, size[0], border), outside(columns[x] >> 8, size[1], border)
            y1, x1 = outside((rows[x] >> 8) + 1, size[0], border), outside((columns[x] >> 8) + 1, size[1], border)
            for c in range(channels):
                p00 = taken(planes[c], stride, y0, x0, origin, pad[c])
                p01 = taken(planes[c], stride, y0, x1, origin, pad[c])
                p10 = taken(planes[c], stride, y1, x0, origin, pad[c])
                p11 = taken(planes[c], stride, y1, x1, origin, pad[c])
                upper, lower = (256 - fx) * p00 + fx * p01, (256 - fx) * p10 + fx * p11
                out[c, y, x] = U8(((256 - fy) * upper + fy * lower + 32768) >> 16)


@compiled(**INNER)
def pack(red, green, blue, packed):
    """Three planes into words, so that one load fetches a pixel (bench/prepare.py: two thirds of the warp's time go)."""
    for i in range(packed.shape[0]):
        packed[i] = U32(red[i]) | (U32(green[i]) << U32(8)) | (U32(blue[i]) << U32(16))


@compiled(**INNER)
def blend_three(packed, stride, origin, rows, columns, corners, red, green, blue):
    """A row of three channels. First all loads, then all arithmetic: the compiler makes vector code of the second.

    `corners` is room for four rows of the pixels around each place.
    """
    top, left, step = I32(origin[0]), I32(origin[1]), I32(stride)
    to_right, below = packed[1:], packed[stride:]
    beyond = below[1:]
    first, second, third, fourth = corners[0], corners[1], corners[2], corners[3]
    for x in range(rows.shape[0]):
        at = U64(((rows[x] >> I32(8)) - top) * step + (columns[x] >> I32(8)) - left)
        first[x], second[x], third[x], fourth[x] = packed[at], to_right[at], below[at], beyond[at]
    eight, mask, whole = U32(8), U32(255), U32(256)
    for x in range(rows.shape[0]):
        fy, fx = U32(rows[x] & I32(255)), U32(columns[x] & I32(255))
        gy, gx = U32(whole - fy), U32(whole - fx)
        a, b, c, d = U32(gx * gy), U32(fx * gy), U32(gx * fy), U32(fx * fy)
        p, q, r, s = first[x], second[x], third[x], fourth[x]
        red[x] = blended(a, b, c, d, p & mask, q & mask, r & mask, s & mask)
        p, q, r, s = p >> eight, q >> eight, r >> eight, s >> eight
        green[x] = blended(a, b, c, d, p & mask, q & mask, r & mask, s & mask)
        blue[x] = blended(a, b, c, d, p >> eight, q >> eight, r >> eight, s >> eight)


@njit(nogil=True, inline="always")
def blended(a, b, c, d, p, q, r, s):
    """Kept to 32 bits, which the compiler's own rules would widen to 64."""
    upper = U32(U32(a * U32(p)) + U32(b * U32(q)))
    lower = U32(U32(c * U32(r)) + U32(d * U32(s)))
    return U8(U32(U32(upper + lower) + U32(32768)) >> U32(16))


@compiled(**INNER)
def blend_one(plane, stride, origin, rows, columns, out):
    lower = plane[stride:]
    top, left, step = I32(origin[0]), I32(origin[1]), I32(stride)
    one, half, bits, whole = U64(1), U32(32768), U32(16), U32(256)
    for x in range(rows.shape[0]):
        v, u = rows[x], columns[x]
        at = U64(((v >> I32(8)) - top) * step + (u >> I32(8)) - left)
        fy, fx = U32(v & I32(255)), U32(u & I32(255))
        gy, gx = whole - fy, whole - fx
        total = gx * gy * U32(plane[at]) + fx * gy * U32(plane[at + one])
        total += gx * fy * U32(lower[at]) + fx * fy * U32(lower[at + one])
        out[x] = U8(U32(total + half) >> bits)


@compiled(**INNER)
def taken(plane, stride, y, x, origin, pad):
    """One pixel of the canvas, or the pad color."""
    return I32(pad) if y < 0 or x < 0 else I32(plane[(y - origin[0]) * stride + x - origin[1]])
