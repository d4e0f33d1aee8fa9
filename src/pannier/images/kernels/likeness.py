"""Perceptual hashes; outlines of pictures, candidates among them, and how alike two pictures are once aligned."""

from __future__ import annotations

import numpy as np

from pannier.images.kernels.compiling import CACHED, INNER, U32, U64, compiled


@compiled(**CACHED)
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


@compiled(**CACHED)
def root_of(parents, at):
    """The root of a tree of a union-find forest; halves the way there."""
    while parents[at] != at:
        parents[at] = parents[parents[at]]
        at = parents[at]
    return at


@compiled(**CACHED)
def area_means(picture, means):
    """Means of a picture's areas, uint8 (side, side); it has at least as many rows and columns.

    A pixel counts as far as it lies in an area.
    """
    (height, width), side = picture.shape, means.shape[0]
    sums = np.empty(width, np.float32)
    down, across = height / side, width / side
    scale = np.float32(1 / (down * across))
    for i in range(side):
        top, bottom = i * down, min((i + 1) * down, np.float64(height))
        first, last = int(top), int(bottom)
        share = np.float32(first + 1 - top)
        row = picture[first]
        for x in range(width):
            sums[x] = share * np.float32(row[x])
        for y in range(first + 1, last):
            row = picture[y]
            for x in range(width):
                sums[x] += np.float32(row[x])
        share = np.float32(bottom - last)
        if last > first and last < height and share > np.float32(1e-4):
            row = picture[last]
            for x in range(width):
                sums[x] += share * np.float32(row[x])
        for j in range(side):
            left, right = j * across, min((j + 1) * across, np.float64(width))
            begin, end = int(left), int(right)
            total = np.float32(begin + 1 - left) * sums[begin]
            for x in range(begin + 1, end):
                total += sums[x]
            if end > begin and end < width:
                total += np.float32(right - end) * sums[end]
            means[i, j] = np.uint8(total * scale + np.float32(0.5))


@compiled(**CACHED)
def halved(pixels, small):
    """Every other pixel of a smoothed square, float32: each is 1, 3, 3, 1 eighths of its neighbours, edges repeated."""
    side, last = small.shape[0], pixels.shape[0] - 1
    three, eighth = np.float32(3), np.float32(0.125)
    rows = np.empty((side, pixels.shape[1]), np.float32)
    for i in range(side):
        top, bottom = max(2 * i - 1, 0), min(2 * i + 2, last)
        for x in range(pixels.shape[1]):
            middle = np.float32(pixels[2 * i, x]) + np.float32(pixels[2 * i + 1, x])
            rows[i, x] = (np.float32(pixels[top, x]) + np.float32(pixels[bottom, x]) + three * middle) * eighth
    for i in range(side):
        for j in range(side):
            left, right = max(2 * j - 1, 0), min(2 * j + 2, last)
            middle = rows[i, 2 * j] + rows[i, 2 * j + 1]
            small[i, j] = (rows[i, left] + rows[i, right] + three * middle) * eighth


@compiled(**CACHED)
def weighted(frequencies, weights, outlines):
    """Outlines of length 1 from frequencies by (cut, down, cut, across): of the first cuts, then of all pairs of others."""
    cuts, count = frequencies.shape[0], frequencies.shape[1]
    for k in range(outlines.shape[0]):
        vertical = 0 if k == 0 else 1 + (k - 1) // (cuts - 1)
        horizontal = 0 if k == 0 else 1 + (k - 1) % (cuts - 1)
        total = np.float32(1e-24)
        for i in range(count):
            for j in range(count):
                value = frequencies[vertical, i, horizontal, j] * weights[i, j]
                outlines[k, i * count + j] = value
                total += value * value
        scale = np.float32(1) / np.sqrt(total)
        for i in range(count * count):
            outlines[k, i] *= scale


@compiled(**CACHED)
def codes_of(outline, places, turns, signs, codes):
    """The signs of an outline's bits at `places`, by turn, as numbers."""
    for t in range(codes.size):
        code = 0
        for b in range(places.size):
            at = places[b]
            code = (code << 1) | (outline[turns[t, at]] * signs[t, at] > 0)
        codes[t] = code


@compiled(**INNER)
def _count_bits(bits):
    bits -= (bits >> U64(1)) & U64(0x5555555555555555)
    bits = (bits & U64(0x3333333333333333)) + ((bits >> U64(2)) & U64(0x3333333333333333))
    return (((bits + (bits >> U64(4))) & U64(0x0F0F0F0F0F0F0F0F)) * U64(0x0101010101010101)) >> U64(56)


@compiled(**CACHED)
def find_candidates(outlines, index, roots, own, weak, most, least, best, way, touched):
    """Pictures that may be like one, from its outlines through all windows; how many are in `touched`.

    Signs may be the other way round of those numbers whose square is at most `weak`. `most`: of so many of the smallest, so
    many at once, each through the first window, the whole picture, and through others; and of so many of those numbers that
    are in no code. The index: a bit for each code that there is, in `words`; how many there are `before` each of these;
    where the rows of the first of all codes begin, and so on; by row the signs that are in no code, and picture * 8 + turn.
    `best`, -1 before, takes the likeness of outlines, above `least`; `way` the window and turn it was found by, window * 8 +
    turn. `own` is the picture's number; what has its root already is passed over.
    """
    places, others, turns, signs, theirs, words, before, starts, rests, owners = index
    found, bits, off = 0, places.size, most[2]
    order, squares = np.empty(bits, U32), np.empty(bits, np.float32)
    probes = np.empty(1 + (1 << max(most[0][0], most[1][0])), U32)
    flipped = np.zeros(probes.size, np.uint8)
    for k in range(outlines.shape[0]):
        row = outlines[k]
        code, count = 0, 0
        for b in range(bits):
            value = row[places[b]]
            code = (code << 1) | (value > 0)
            if value * value <= weak:
                at, count = count, count + 1
                while at > 0 and squares[at - 1] > value * value:
                    squares[at], order[at] = squares[at - 1], order[at - 1]
                    at -= 1
                squares[at], order[at] = value * value, U32(1) << U32(bits - 1 - b)
        rest = U64(0)
        for b in range(others.size):
            rest = (rest << U64(1)) | U64(row[others[b]] > 0)
        ways, hits = 1, np.int64(0)
        probes[0] = code
        most_weak, at_once = most[0] if k == 0 else most[1]
        for i in range(min(count, most_weak)):
            grown = ways
            for j in range(ways):  # without branches, which is what most of the time goes into
                probes[grown], flipped[grown] = probes[j] ^ order[i], flipped[j] + 1
                grown += flipped[j] < at_once
            ways = grown
        for j in range(ways):
            probe = probes[j]
            probes[hits] = probe
            hits += np.int64((words[probe >> U32(6)] >> U64(probe & U32(63))) & U64(1))
        for j in range(hits):
            probe = probes[j]
            lower = words[probe >> U32(6)] & ((U64(1) << U64(probe & U32(63))) - U64(1))
            which = np.int64(before[probe >> U32(6)]) + np.int64(_count_bits(lower))
            for at in range(starts[which], starts[which + 1]):
                if _count_bits(rests[at] ^ rest) > off:
                    continue
                other, turn = owners[at] >> 3, owners[at] & 7
                if roots[other] == roots[own]:
                    continue
                total = np.float32(0)
                for i in range(row.size):
                    total += row[i] * theirs[other, turns[turn, i]] * signs[turn, i]
                if total > least and total > best[other]:
                    if best[other] < 0:
                        touched[found] = other
                        found += 1
                    best[other] = total
                    way[other] = k * 8 + turn
    return found


@compiled(**CACHED)
def looked_through(pixels, window, out):
    """A square's window (left, top, right, bottom: parts cut off), in as many pixels, bilinear, edges repeated."""
    side = pixels.shape[0]
    lefts, rights = np.empty(side, np.int64), np.empty(side, np.float32)
    for j in range(side):
        x = (window[0] + (j + 0.5) / side * (1 - window[0] - window[2])) * side - 0.5
        x = min(max(x, 0.0), side - 1.0)
        lefts[j] = min(int(x), side - 2)
        rights[j] = x - lefts[j]
    row = np.empty(side, np.float32)
    for i in range(side):
        y = (window[1] + (i + 0.5) / side * (1 - window[1] - window[3])) * side - 0.5
        y = min(max(y, 0.0), side - 1.0)
        top = min(int(y), side - 2)
        down = np.float32(y - top)
        for x in range(side):
            row[x] = pixels[top, x] + down * (pixels[top + 1, x] - pixels[top, x])
        for j in range(side):
            out[i, j] = row[lefts[j]] + rights[j] * (row[lefts[j] + 1] - row[lefts[j]])


@compiled(**INNER | {"fastmath": {"reassoc", "contract"}})
def _dot(one, other):
    """Summed up in whatever order is fastest. NumPy's own would ask SciPy for it, which users need not have."""
    total = np.float32(0)
    for i in range(one.size):
        total += one[i] * other[i]
    return total


@compiled(**INNER)
def _correlation(one, other):
    ours, theirs = one.copy().ravel(), other.copy().ravel()
    ours -= ours.mean()
    theirs -= theirs.mean()
    return _dot(ours, theirs) / np.sqrt(_dot(ours, ours) * _dot(theirs, theirs) + np.float32(1e-9))


@compiled(**CACHED)
def aligned(one, other, window, steps):
    """Moves `window` so that `one` through it, brightened as it may be, is most like `other`; how they correlate then.

    Gauss-Newton on the window's four edges, a gain and an offset (Lucas and Kanade, "An Iterative Image Registration
    Technique with an Application to Stereo Vision", 1981).
    """
    side = one.shape[0]
    best, kept, largest = np.float32(-2), window.copy(), 1.0
    there = np.empty((side, side), np.float32)
    terms = np.zeros((6, side * side), np.float32)
    normal, right, solution, target = np.empty((6, 6)), np.empty(6), np.empty(6), other.copy().ravel()
    along = ((np.arange(side) + 0.5) / side).astype(np.float32)
    for step in range(steps + 1):
        looked_through(one, window, there)
        likeness = _correlation(there, other)
        if likeness > best:
            best = likeness
            kept[:] = window
        if step == steps or largest < 1e-3:
            break
        wide = np.float32(side / 2 / (1 - window[0] - window[2]))
        high = np.float32(side / 2 / (1 - window[1] - window[3]))
        for i in range(1, side - 1):
            for j in range(1, side - 1):
                at = i * side + j
                across = (there[i, j + 1] - there[i, j - 1]) * wide
                down = (there[i + 1, j] - there[i - 1, j]) * high
                terms[0, at] = across * (1 - along[j])
                terms[1, at] = down * (1 - along[i])
                terms[2, at] = -across * along[j]
                terms[3, at] = -down * along[i]
                terms[4, at] = there[i, j]
                terms[5, at] = 1
        for a in range(6):
            right[a] = _dot(terms[a], target)
            for b in range(a + 1):
                normal[a, b] = normal[b, a] = _dot(terms[a], terms[b])
        damping = 1e-3 * (normal[0, 0] + normal[1, 1] + normal[2, 2] + normal[3, 3]) + 1e-9
        for a in range(4):
            normal[a, a] += damping
        for a in range(6):  # symmetric and positive: eliminated without pivots
            for b in range(a + 1, 6):
                share = normal[b, a] / normal[a, a]
                right[b] -= share * right[a]
                for c in range(a, 6):
                    normal[b, c] -= share * normal[a, c]
        for a in range(5, -1, -1):
            for b in range(a + 1, 6):
                right[a] -= normal[a, b] * solution[b]
            solution[a] = right[a] / normal[a, a]
        largest = 0.0
        for a in range(4):
            move = solution[a] / solution[4] if abs(solution[4]) > 1e-3 else 0.0
            move = min(max(move, -0.03), 0.03)
            largest = max(largest, abs(move))
            window[a] = min(max(window[a] + move, -0.02), 0.14)
    window[:] = kept
    return best
