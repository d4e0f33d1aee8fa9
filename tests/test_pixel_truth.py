"""Pixels against truth: files made to the byte, whose pixels follow from the standards; what is not proved is refused."""

from __future__ import annotations

import struct
from collections.abc import Iterator
from typing import Any

import numpy as np
import pytest

from pannier.errors import PictureError
from pannier.images.prepare import pixels_of
from tests.bare_files import bmp, packed_rows, png, pnm
from tests.conftest import draw, encoded
from tests.tiffs import tiff

SIZE = (6, 7)
RANDOM = np.random.default_rng(20)
GRAY = RANDOM.integers(0, 256, SIZE).astype(np.uint8)
RGB = RANDOM.integers(0, 256, (*SIZE, 3)).astype(np.uint8)
ALPHA = RANDOM.integers(0, 256, (*SIZE, 1)).astype(np.uint8)
CMYK = np.concatenate([RGB, ALPHA], axis=2)

Truth = np.ndarray[Any, Any]


def woven(gray: Any) -> Truth:
    return np.repeat(np.asarray(gray, np.int64)[..., None], 3, axis=2)


def over_white(colors: Any, alpha: Any) -> Truth:
    alpha = np.asarray(alpha, np.int64)
    return (np.asarray(colors, np.int64) * alpha + 255 * (255 - alpha) + 127) // 255


def joined(*samples: Any) -> np.ndarray[Any, Any]:
    return np.concatenate([each if each.ndim == 3 else each[..., None] for each in samples], axis=2)


def scaled(values: Any, most: int) -> Truth:
    return np.rint(np.asarray(values, np.float64) * 255 / most).astype(np.int64)


def tiffs() -> Iterator[tuple[str, bytes, Truth, int]]:
    for order in "<>":
        for photometric, truth in ((1, GRAY), (0, 255 - GRAY)):
            yield f"gray {photometric} {order}", tiff(GRAY, photometric, order=order), woven(truth), 0
        yield f"rgb {order}", tiff(RGB, 2, order=order), RGB, 0
    for planes in (False, True):
        ink = (255 - CMYK[..., :3].astype(np.int64)) * (255 - CMYK[..., 3:].astype(np.int64))
        yield f"cmyk {planes}", tiff(CMYK, 5, planes=planes), (ink + 127) // 255, 0
        yield f"rgb {planes}", tiff(RGB, 2, planes=planes), RGB, 0
        yield f"rgb, alpha {planes}", tiff(joined(RGB, ALPHA), 2, planes=planes, t338=2), over_white(RGB, ALPHA), 0
        yield f"rgb, of nothing said {planes}", tiff(joined(RGB, ALPHA), 2, planes=planes), RGB, 0
    multiplied = (RGB.astype(np.int64) * ALPHA // 255).astype(np.uint8)
    yield "rgb, multiplied", tiff(joined(multiplied, ALPHA), 2, t338=1), multiplied.astype(np.int64) + 255 - ALPHA, 1
    yield "rgb, meaning nothing", tiff(joined(RGB, ALPHA), 2, t338=0), RGB, 0
    yield "gray, alpha", tiff(joined(GRAY, ALPHA), 1, t338=2), woven(over_white(GRAY, ALPHA[..., 0])), 0
    light, blue, red = (RGB[..., i].astype(np.float64) for i in range(3))
    colors = (light + 1.402 * (red - 128), light - 0.344136 * (blue - 128) - 0.714136 * (red - 128))
    truth = np.clip(np.rint(np.dstack([*colors, light + 1.772 * (blue - 128)])), 0, 255)
    yield "ycbcr, uncompressed", tiff(RGB, 6, t530=(1, 1)), truth, 1
    for bits in (1, 2, 4, 8):
        values, most = RANDOM.integers(0, 1 << bits, SIZE), (1 << bits) - 1
        for photometric, shown in ((1, values), (0, most - values)):
            yield f"gray of {bits} bits, {photometric}", tiff(values, photometric, bits=bits), woven(scaled(shown, most)), 0
        colors = RANDOM.integers(0, 1 << 16, (3, most + 1))
        truth = np.moveaxis(colors[:, values] // 256, 0, -1)
        yield f"palette of {bits} bits", tiff(values, 3, bits=bits, t320=tuple(colors.ravel().tolist())), truth, 0


def pngs() -> Iterator[tuple[str, bytes, Truth, int]]:
    for bits in (1, 2, 4, 8, 16):
        values = RANDOM.integers(0, 1 << bits, SIZE)
        truth = (values + 128) // 257 if bits == 16 else scaled(values, (1 << bits) - 1)
        rows = packed_rows(values, bits, before=b"\0")
        yield f"gray of {bits} bits", png(SIZE, bits, 0, rows), woven(truth), 0
        for one in {int(values[2, 3]), int(values.max())}:
            made = png(SIZE, bits, 0, rows, tRNS=struct.pack(">H", one))
            yield f"gray of {bits} bits, {one} transparent", made, woven(np.where(values == one, 255, truth)), 0
    for bits in (1, 2, 4, 8):
        values, colors = RANDOM.integers(0, 1 << bits, SIZE), RANDOM.integers(0, 256, (1 << bits, 3)).astype(np.uint8)
        alpha = RANDOM.integers(0, 256, 1 << bits).astype(np.uint8)
        rows, table = packed_rows(values, bits, before=b"\0"), {"PLTE": colors.tobytes()}
        yield f"palette of {bits} bits", png(SIZE, bits, 3, rows, **table), colors[values], 0
        for count in (1, 1 << bits):
            some = np.append(alpha[:count], np.full((1 << bits) - count, 255, np.uint8))
            made = png(SIZE, bits, 3, rows, **table, tRNS=alpha[:count].tobytes())
            yield f"palette of {bits} bits, {count} lucid", made, over_white(colors[values], some[values][..., None]), 0
    for bits, kind in ((8, ">u1"), (16, ">u2")):
        for count, number in ((3, 2), (4, 6), (2, 4)):
            samples = RANDOM.integers(0, 1 << bits, (*SIZE, count)).astype(kind)
            seen = samples.astype(np.int64) if bits == 8 else (samples.astype(np.int64) + 128) // 257
            rows = [b"\0" + row.tobytes() for row in samples]
            truth = seen if count == 3 else over_white(seen[..., :-1], seen[..., -1:])
            yield f"{count} of {bits} bits", png(SIZE, bits, number, rows), np.broadcast_to(truth, (*SIZE, 3)), 0
            if count == 3:
                one = samples[1, 2]
                made = png(SIZE, bits, number, rows, tRNS=struct.pack(">HHH", *map(int, one)))
                yield f"one of {bits} bits transparent", made, np.where((samples == one).all(2)[..., None], 255, seen), 0


def others() -> Iterator[tuple[str, bytes, Truth, int]]:
    for most in (1, 7, 100, 255, 256, 1000, 65535):
        for shape in (SIZE, (*SIZE, 3)):
            values = RANDOM.integers(0, most + 1, shape)
            truth = scaled(values, most) if len(shape) == 3 else woven(scaled(values, most))
            for plain in (False, True):
                yield f"pnm {most} {shape} {plain}", pnm(values, most, plain=plain), truth, 0
    yield "bmp of 24 bits", bmp(SIZE, 24, _rows(RGB[..., ::-1])), RGB, 0
    yield "bmp of 32 bits, one meaning nothing", bmp(SIZE, 32, _rows(CMYK)), CMYK[..., 2::-1], 0
    masks = struct.pack("<IIII", 0xFF0000, 0xFF00, 0xFF, 0xFF000000)
    yield "bmp with alpha", bmp(SIZE, 32, _rows(CMYK), masks=masks), over_white(CMYK[..., 2::-1], CMYK[..., 3:]), 0
    for name, widths, more in (("555", (5, 5, 5), b""), ("565", (5, 6, 5), struct.pack("<III", 0xF800, 0x7E0, 0x1F))):
        parts = [RANDOM.integers(0, 1 << width, SIZE) for width in widths]
        words = (parts[0] << (widths[1] + 5) | parts[1] << 5 | parts[2]).astype("<u2")
        truth = np.dstack([scaled(part, (1 << width) - 1) for part, width in zip(parts, widths, strict=True)])
        yield f"bmp of 16 bits, {name}", bmp(SIZE, 16, _rows(words), masks=more), truth, 1
    for bits in (1, 4, 8):
        values, colors = RANDOM.integers(0, 1 << bits, SIZE), RANDOM.integers(0, 256, (1 << bits, 4)).astype(np.uint8)
        rows = packed_rows(values, bits, 4)
        yield f"bmp of {bits} bits", bmp(SIZE, bits, rows, palette=colors.tobytes()), colors[values][..., 2::-1], 0


def _rows(samples: Any) -> list[bytes]:
    return [row.tobytes() + bytes(-len(row.tobytes()) % 4) for row in samples]


@pytest.mark.parametrize("made", [tiffs, pngs, others])
def test_pixels_are_those_that_the_standards_give(made: Any) -> None:
    count = 0
    for name, data, truth, tolerance in made():
        pixels = pixels_of(data)
        assert pixels.shape == truth.shape, name
        assert np.abs(pixels.astype(np.int64) - truth).max() <= tolerance, name
        count += 1
    assert count >= 20


REFUSED: dict[str, tuple[bytes, str]] = {
    "signed samples": (tiff(GRAY, 1, t339=2), "no plain whole numbers"),
    "fractions": (tiff(GRAY, 1, t339=3), "not read|header"),
    "other inks": (tiff(CMYK, 5, t332=2), "other inks"),
    "coarser colors": (tiff(RGB, 6, t530=(2, 2)), "coarser colors"),
    "coarser colors by default": (tiff(RGB, 6), "coarser colors"),
    "of what it does not say": (tiff(GRAY, 1, t262=None), "does not say what its samples mean"),
    "CIELab": (tiff(RGB, 8), "LAB"),
    "a mask": (tiff(GRAY, 4), "header"),
    "gray, multiplied": (tiff(joined(GRAY, ALPHA), 1, t338=1), "color mode La"),
    "ink and more": (tiff(joined(CMYK, ALPHA), 5, t338=2), "header"),
    "of five samples": (tiff(joined(RGB, ALPHA, ALPHA), 2), "header"),
    "planes, multiplied": (tiff(joined(RGB, ALPHA), 2, planes=True, t338=1), "cannot be read"),
    "12 bits": (tiff(RANDOM.integers(0, 4096, SIZE), 1, bits=12), "12 bits"),
    "32 bits": (tiff(GRAY.astype(np.uint32), 1), "32 bits"),
    "a strip of no bytes": (tiff(RGB, 2, t279=0), "leaves parts of its picture out"),
    "a strip that is nowhere": (tiff(RGB, 2, t273=0), "leaves parts of its picture out"),
    "a strip that is short": (tiff(RGB, 2, t279=60), "cut short"),
    "a file that is short": (tiff(RGB, 2)[:-20], "cut short"),
}


@pytest.mark.parametrize("name", REFUSED)
def test_what_no_decoder_is_proved_to_read_right_is_refused(name: str) -> None:
    data, says = REFUSED[name]
    with pytest.raises(PictureError, match=says):
        pixels_of(data)


def test_a_header_that_ends_anywhere_is_said() -> None:
    whole = encoded(draw(1), "jpeg")
    adobe = b"\xff\xd8\xff\xee\x00\x0eAdobe" + bytes(7) + whole[2:]
    for data in (adobe, adobe.replace(b"\xff\xee\x00\x0e", b"\xff\xee\xff\xff")):
        for length in range(1, 400):
            with pytest.raises(PictureError):
                pixels_of(data[:length])


@pytest.mark.parametrize("turn", range(10))
def test_a_tiff_comes_out_upright(turn: int) -> None:
    truth = RGB.swapaxes(0, 1) if 5 <= turn <= 8 else RGB
    truth = truth[::-1] if turn in (3, 4, 7, 8) else truth
    truth = truth[:, ::-1] if turn in (2, 3, 6, 7) else truth
    assert np.array_equal(pixels_of(tiff(RGB, 2, t274=turn)), truth)
