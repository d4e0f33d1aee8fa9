"""From the view's uint8 pixels to a prepared array: light, noise, values. All in whole numbers until the value itself."""

from __future__ import annotations

import numpy as np

from pannier.images.kernels.compiling import CACHED, I32, INNER, U8, U64, compiled

BITS = 12


@compiled(**CACHED)
def light(view, matrices, tables, has_table, out):
    """Pointwise steps, stage by stage: colors times a matrix, then a table. `view` -> `out`, uint8 (channels, pixels), two.

    `matrices` int32 (stages, channels, channels + 1): 12 bits behind the point; a value is (sum + 2048) >> 12, kept within
    0..255. `tables` uint8 (stages, 256), used where `has_table` says so.
    """
    channels = view.shape[0]
    for stage in range(matrices.shape[0]):
        m = matrices[stage]
        source = view if stage == 0 else out
        if channels == 3:
            mix(source[0], source[1], source[2], m, out[0], out[1], out[2])
        else:
            scaled(source[0], m[0, 0], m[0, 1], out[0])
        if has_table[stage]:
            for c in range(channels):
                plane = out[c]
                for i in range(plane.shape[0]):
                    plane[i] = tables[stage, plane[i]]


@compiled(**INNER)
def scaled(source, factor, offset, out):
    plus = I32(offset + 2048)
    factor = I32(factor)
    for x in range(out.shape[0]):
        out[x] = U8(min(max((factor * I32(source[x]) + plus) >> I32(12), I32(0)), I32(255)))


@compiled(**INNER)
def mix(red, green, blue, m, out_red, out_green, out_blue):
    if m[0, 1] == 0 and m[0, 2] == 0 and m[1, 0] == 0 and m[1, 2] == 0 and m[2, 0] == 0 and m[2, 1] == 0:
        scaled(red, m[0, 0], m[0, 3], out_red)
        scaled(green, m[1, 1], m[1, 3], out_green)
        scaled(blue, m[2, 2], m[2, 3], out_blue)
        return
    half = I32(2048)
    a, b, c, d = I32(m[0, 0]), I32(m[0, 1]), I32(m[0, 2]), I32(m[0, 3] + half)
    e, f, g, h = I32(m[1, 0]), I32(m[1, 1]), I32(m[1, 2]), I32(m[1, 3] + half)
    i, j, k, n = I32(m[2, 0]), I32(m[2, 1]), I32(m[2, 2]), I32(m[2, 3] + half)
    low, high, bits = I32(0), I32(255), I32(12)
    for x in range(red.shape[0]):
        r, g_, b_ = I32(red[x]), I32(green[x]), I32(blue[x])
        out_red[x] = U8(min(max((a * r + b * g_ + c * b_ + d) >> bits, low), high))
        out_green[x] = U8(min(max((e * r + f * g_ + g * b_ + h) >> bits, low), high))
        out_blue[x] = U8(min(max((i * r + j * g_ + k * b_ + n) >> bits, low), high))


@compiled(**CACHED)
def to_line(view, mirrored, scale, offset, out):
    """`out` = float32(pixel) * scale + offset, two roundings; float32 or uint8. `mirrored`: 1 left-right, 2 top-bottom."""
    channels, height, width = view.shape
    for c in range(channels):
        s, b = scale[c], offset[c]
        for y in range(height):
            source = view[c, height - 1 - y if mirrored & 2 else y]
            values = out[c, y]
            if s == 1.0 and b == 0.0:
                for x in range(width):
                    values[x] = source[width - 1 - x if mirrored & 1 else x]
            elif mirrored & 1:
                for x in range(width):
                    values[x] = np.float32(source[width - 1 - x]) * s + b
            else:
                for x in range(width):
                    values[x] = np.float32(source[x]) * s + b


@compiled(**CACHED)
def to_table(view, mirrored, table, out):
    """`out` = table[channel, pixel], whatever its type."""
    channels, height, width = view.shape
    for c in range(channels):
        row = table[c]
        for y in range(height):
            source = view[c, height - 1 - y if mirrored & 2 else y]
            values = out[c, y]
            for x in range(width):
                values[x] = row[source[width - 1 - x if mirrored & 1 else x]]


@compiled(**CACHED)
def sums(view, totals):
    """The sum of pixels and of their squares by channel, into `totals` int64 (channels, 2)."""
    channels, height, width = view.shape
    for c in range(channels):
        total, squares = np.int64(0), np.int64(0)
        for y in range(height):
            row = view[c, y]
            line, line_squares = np.int64(0), np.int64(0)
            for x in range(width):
                v = np.int64(row[x])
                line += v
                line_squares += v * v
            total += line
            squares += line_squares
        totals[c, 0], totals[c, 1] = total, squares


@compiled(**CACHED)
def count_values(images, counts):
    """Adds how often each value 0..255 is there to `counts` int64 (channels, 256); `images` uint8 (n, channels, H, W)."""
    apart = np.zeros((4, 256), np.int64)
    for n in range(images.shape[0]):
        for c in range(images.shape[1]):
            apart[:] = 0
            flat = images[n, c].reshape(images.shape[2] * images.shape[3])
            whole = flat.size // 4 * 4
            for i in range(0, whole, 4):  # four counts side by side: equal neighbors need not wait for one another
                apart[0, flat[i]] += 1
                apart[1, flat[i + 1]] += 1
                apart[2, flat[i + 2]] += 1
                apart[3, flat[i + 3]] += 1
            for i in range(whole, flat.size):
                apart[0, flat[i]] += 1
            for v in range(256):
                counts[c, v] += apart[0, v] + apart[1, v] + apart[2, v] + apart[3, v]


@compiled(**CACHED)
def add_noise(flat, seed, normal, amount):
    """Adds to every pixel of `flat`, uint8 (channels * H * W), a normal number of deviation `amount` / 256.

    Pixels 4 n to 4 n + 3 of all in a row take the four parts, of 16 bits each, lowest first, of SplitMix64's n-th number
    from `seed`: of each the lowest 12 bits, looked up in `normal` int32 (4096), which has 16 bits behind the point.
    """
    state = seed
    bits = U64(0)
    for i in range(flat.size):
        if i % 4 == 0:
            state = U64(state + U64(0x9E3779B97F4A7C15))
            z = state
            z = U64((z ^ (z >> U64(30))) * U64(0xBF58476D1CE4E5B9))
            z = U64((z ^ (z >> U64(27))) * U64(0x94D049BB133111EB))
            bits = z ^ (z >> U64(31))
        drawn = normal[bits & U64(4095)]
        bits = bits >> U64(16)
        flat[i] = U8(min(max(np.int64(flat[i]) + ((drawn * amount + (1 << 23)) >> 24), 0), 255))


@compiled(**CACHED)
def gray_by_weights(picture, weights, out):
    """(w0 R + w1 G + w2 B + 32768) >> 16 of uint8 (h, w, 3), with weights of 16 bits."""
    a, b, c = weights[0], weights[1], weights[2]
    for y in range(picture.shape[0]):
        row, values = picture[y], out[y]
        for x in range(picture.shape[1]):
            values[x] = U8((a * np.int64(row[x, 0]) + b * np.int64(row[x, 1]) + c * np.int64(row[x, 2]) + 32768) >> 16)
