"""Every format and color mode of the list, decoded upright and to the frozen formulas."""

from __future__ import annotations

import hashlib
import io
import struct
import zlib
from pathlib import Path
from typing import Any

import cv2
import numpy as np
import pytest
from PIL import Image

import pannier
from pannier.errors import PictureError
from pannier.images.decode import decode, upright
from pannier.images.facts import check_pixels, read_facts
from pannier.images.perceptual import PerceptualHasher
from pannier.images.prepare import pixels_of
from tests.conftest import draw, encoded
from tests.tiffs import tiff

PIXELS = draw(5, 37, 51)


def gray_of(rgb: np.ndarray) -> np.ndarray:
    wide = rgb.astype(np.int64)
    return ((wide[..., 0] * 19595 + wide[..., 1] * 38470 + wide[..., 2] * 7471 + 32768) >> 16).astype(np.uint8)


@pytest.mark.parametrize("kind", ["png", "bmp", "ppm", "tiff"])
def test_lossless_formats_give_the_very_pixels(kind: str) -> None:
    assert np.array_equal(pixels_of(encoded(PIXELS, kind)), PIXELS)


@pytest.mark.parametrize("options", [{}, {"progressive": True}, {"subsampling": 0}, {"quality": 30}])
def test_jpeg_pixels_are_those_of_opencv_and_pillow(options: dict[str, object]) -> None:
    data = encoded(PIXELS, "jpeg", **options)
    by_opencv = cv2.imdecode(np.frombuffer(data, np.uint8), cv2.IMREAD_COLOR_RGB)
    assert np.array_equal(pixels_of(data), by_opencv)
    assert np.array_equal(pixels_of(data), np.asarray(Image.open(io.BytesIO(data))))


@pytest.mark.parametrize("by", [2, 4, 8])
def test_reduced_jpeg_is_that_of_opencv(by: int) -> None:
    data = encoded(draw(1, 131, 203))
    flag = {2: cv2.IMREAD_REDUCED_COLOR_2, 4: cv2.IMREAD_REDUCED_COLOR_4, 8: cv2.IMREAD_REDUCED_COLOR_8}[by]
    by_opencv = cv2.cvtColor(cv2.imdecode(np.frombuffer(data, np.uint8), flag), cv2.COLOR_BGR2RGB)
    assert np.array_equal(decode(data, read_facts(data), reduction=by), by_opencv)


@pytest.mark.parametrize("kind", ["jpeg", "png", "webp", "tiff"])
@pytest.mark.parametrize("turn", range(1, 9))
def test_every_exif_turn_comes_out_upright(kind: str, turn: int) -> None:
    exif = Image.Exif()
    exif[274] = turn
    options = {"lossless": True} if kind == "webp" else {"quality": 100, "subsampling": 0} if kind == "jpeg" else {}
    data = encoded(PIXELS, kind, exif=exif, **options)
    got = pixels_of(data)
    assert read_facts(data).height == got.shape[0]
    assert read_facts(data).width == got.shape[1]
    back = {1: 1, 2: 2, 3: 3, 4: 4, 5: 5, 6: 8, 7: 7, 8: 6}[turn]
    assert np.abs(upright(got, back).astype(int) - PIXELS).max() <= (8 if kind == "jpeg" else 0)


def test_a_turn_in_a_broken_exif_block_is_none() -> None:
    """As other readers have it: a block whose header is not that of TIFF says nothing."""
    good = b"II*\0\x08\0\0\0\x01\0" + bytes([0x12, 1, 3, 0, 1, 0, 0, 0, 6, 0, 0, 0]) + bytes(4)
    for header, turn in (
        (good[:8], 6),
        (b"II+\0\x08\0\0\0", 1),
        (b"II\0*\x08\0\0\0", 1),
        (b"XX*\0\x08\0\0\0", 1),
        (b"II*\0\xff\0\0\0", 1),
    ):
        data = encoded(PIXELS, "jpeg", exif=b"Exif\0\0" + header + good[8:])
        assert read_facts(data).turn == turn, header


def test_gray_is_the_luma_plane_of_a_jpeg_and_bt601_of_others() -> None:
    jpeg, png = encoded(PIXELS), encoded(PIXELS, "png")
    luma = cv2.imdecode(np.frombuffer(jpeg, np.uint8), cv2.IMREAD_GRAYSCALE)
    assert np.array_equal(decode(jpeg, read_facts(jpeg), "gray"), luma)
    assert np.array_equal(decode(png, read_facts(png), "gray"), gray_of(PIXELS))


@pytest.mark.parametrize("ending", [".png", ".tiff"])
@pytest.mark.parametrize("channels", [1, 3])
def test_sixteen_bits_are_rounded_not_cut(ending: str, channels: int) -> None:
    deep = np.random.default_rng(1).integers(0, 65536, (20, 30, channels), dtype=np.uint16)
    data = cv2.imencode(ending, deep[..., ::-1] if channels == 3 else deep[..., 0])[1].tobytes()
    expected = np.rint(deep / 257).astype(np.uint8)
    assert read_facts(data).mode == ("rgb16" if channels == 3 else "gray16")
    assert np.array_equal(pixels_of(data), np.broadcast_to(expected, (20, 30, 3)))


DEEP = np.random.default_rng(2).integers(0, 65536, (20, 30, 4), dtype=np.uint16)


@pytest.mark.parametrize("order", ["<", ">"])
@pytest.mark.parametrize(
    ("samples", "photometric", "tags", "truth"),
    [
        (DEEP[..., 0], 1, {}, DEEP[..., :1]),
        (DEEP[..., 0], 0, {}, 65535 - DEEP[..., :1]),
        (DEEP[..., :3], 2, {}, DEEP[..., :3]),
        (DEEP[..., :3], 2, {"t274": 6}, np.rot90(DEEP[..., :3], -1)),
        (DEEP, 2, {}, DEEP[..., :3]),
        (DEEP, 2, {"t338": 0}, DEEP[..., :3]),
        (DEEP[..., :3], 2, {"planes": True}, None),
        (DEEP, 2, {"t338": 1}, None),
        (DEEP, 5, {}, None),
        (DEEP[..., 0], 1, {"t339": 2}, None),
        (DEEP[..., :2], 1, {}, None),
    ],
)
def test_tiff_files_of_16_bits_are_read_right_or_refused(
    order: str, samples: np.ndarray, photometric: int, tags: dict[str, Any], truth: np.ndarray | None
) -> None:
    data = tiff(samples, photometric, order=order, **tags)
    try:
        got = pixels_of(data)
    except PictureError as error:
        assert truth is None or (order, photometric) == (">", 0), error  # that one Pillow does not open
        return
    assert truth is not None
    assert np.array_equal(got, np.broadcast_to(np.rint(truth / 257).astype(np.uint8), (*truth.shape[:2], 3)))


@pytest.mark.parametrize("mode", ["RGBA", "LA", "P"])
def test_transparency_lies_over_the_background(mode: str) -> None:
    image = Image.fromarray(PIXELS)
    image.putalpha(Image.fromarray(np.tile(np.arange(51, dtype=np.uint8) * 5, (37, 1))))
    sink = io.BytesIO()
    image.convert(mode).save(sink, "png")
    rgba = np.asarray(Image.open(io.BytesIO(sink.getvalue())).convert("RGBA")).astype(np.int64)
    alpha, red = rgba[..., 3:], np.array([200, 30, 10])
    expected = (rgba[..., :3] * alpha + red * (255 - alpha) + 127) // 255
    data = sink.getvalue()
    assert np.array_equal(decode(data, read_facts(data), background=(200, 30, 10)), expected)


def test_cmyk_follows_its_formula() -> None:
    data = io.BytesIO()
    Image.fromarray(PIXELS).convert("CMYK").save(data, "jpeg", quality=95)
    ink = np.asarray(Image.open(data)).astype(np.int64)
    expected = ((255 - ink[..., :3]) * (255 - ink[..., 3:]) + 127) // 255
    assert np.array_equal(pixels_of(data.getvalue()), expected)


@pytest.mark.parametrize("kind", ["gif", "webp", "png"])
def test_the_first_frame_of_an_animation_counts(kind: str) -> None:
    options = {"lossless": True} if kind == "webp" else {}
    first, second = Image.fromarray(PIXELS), Image.fromarray(PIXELS[::-1])
    sink = io.BytesIO()
    first.save(sink, kind, save_all=True, append_images=[second], **options)
    alone = pixels_of(encoded(PIXELS, kind, **options))
    assert np.abs(pixels_of(sink.getvalue()).astype(int) - alone).mean() < 2


def huge_png(side: int) -> bytes:
    def chunk(kind: bytes, body: bytes) -> bytes:
        return struct.pack(">I", len(body)) + kind + body + struct.pack(">I", zlib.crc32(kind + body))

    header = struct.pack(">IIBBBBB", side, side, 8, 2, 0, 0, 0)
    return b"\x89PNG\r\n\x1a\n" + chunk(b"IHDR", header) + chunk(b"IDAT", zlib.compress(bytes(99))) + chunk(b"IEND", b"")


def test_a_decompression_bomb_is_refused_by_its_header() -> None:
    with pytest.raises(PictureError, match="30,000 x 30,000 is over 100 megapixels"):
        check_pixels(read_facts(huge_png(30_000)))
    with pytest.raises(PictureError, match="megapixels"):
        pannier.Treatment(8)(huge_png(30_000))


@pytest.mark.parametrize("kind", ["jpeg", "png", "webp", "gif", "bmp", "tiff"])
@pytest.mark.parametrize("share", [0.0, 0.02, 0.3, 0.9])
def test_what_is_cut_short_is_an_error_with_a_reason(kind: str, share: float) -> None:
    data = encoded(draw(2, 120, 160), kind)
    with pytest.raises(PictureError) as caught:
        pixels_of(data[: int(len(data) * share)])
    assert caught.value.reason


def test_perceptual_hash_survives_resizing_and_compressing() -> None:
    hasher = PerceptualHasher()
    picture = draw(3, 240, 320)
    smaller = np.asarray(Image.fromarray(picture).resize((200, 150), Image.Resampling.LANCZOS))
    first = hasher(gray_of(picture))
    assert (first ^ hasher(gray_of(smaller))).bit_count() <= 6
    assert (first ^ hasher(gray_of(pixels_of(encoded(picture, "jpeg", quality=40))))).bit_count() <= 6
    assert (first ^ hasher(gray_of(draw(4, 240, 320)))).bit_count() >= 16


def frozen_pictures() -> dict[str, bytes]:
    """Small pictures in lossless files, so that the digests below do not hang on an encoder."""
    y, x = np.mgrid[0:48, 0:64]
    pixels = np.stack([x * 4, y * 5, (x * y) % 256], axis=2).astype(np.uint8)
    rgba = np.dstack([pixels, (x * 4).astype(np.uint8)])
    jpeg = (Path(__file__).parent / "data" / "frozen.jpg").read_bytes()
    return {
        "rgb": encoded(pixels, "png"),
        "alpha": encoded(rgba, "png"),
        "gray": encoded(pixels[..., 0], "png"),
        "jpeg": jpeg,  # 160 x 220, so that it is decoded to a half and to a quarter
    }


# frozen in docs/format.md: what these treatments make of those pictures, for ever and on every machine
FROZEN = {
    ("rgb", "cover", "rgb"): "1c8b97de",
    ("rgb", "contain", "rgb"): "15ccde4d",
    ("rgb", "fill", "gray"): "40b1e1e7",
    ("alpha", "cover", "rgb"): "421d1136",
    ("gray", "contain", "gray"): "e74d68e2",
    ("jpeg", "cover", "rgb"): "734b52a2",
    ("jpeg", "contain", "gray"): "420accfc",
}


@pytest.mark.parametrize(("picture", "fit", "color"), list(FROZEN))
def test_pixels_are_frozen(picture: str, fit: str, color: str) -> None:
    treatment = pannier.Treatment((20, 33), fit=fit, color=color, values="signed", pad="#336699")
    array = treatment(frozen_pictures()[picture])
    assert hashlib.sha256(array.astype("<f4").tobytes()).hexdigest()[:8] == FROZEN[picture, fit, color]


def hash_by_the_book(gray: np.ndarray) -> int:
    """The perceptual hash as docs/format.md describes it, in NumPy."""
    edges = [[(i * n // 32, max(i * n // 32 + 1, (i + 1) * n // 32)) for i in range(32)] for n in gray.shape]
    boxes = [[gray[a:b, c:d].astype(int) for c, d in edges[1]] for a, b in edges[0]]
    means = np.array([[(16 * box.sum() + box.size // 2) // box.size for box in row] for row in boxes])
    u, x = np.arange(1, 9)[:, None], np.arange(32)[None, :]
    cosines = np.rint(2**14 * np.cos((2 * x + 1) * u * np.pi / 64)).astype(int)
    spectrum = (cosines @ means @ cosines.T).ravel()
    return int("".join("1" if (spectrum < each).sum() >= 32 else "0" for each in spectrum), 2)


@pytest.mark.parametrize("size", [(1, 1), (5, 200), (31, 33), (240, 320), (1000, 7)])
def test_perceptual_hash_is_that_of_the_format(size: tuple[int, int]) -> None:
    gray = draw(6, *size)[..., 1]
    faint = np.random.default_rng(1).integers(118, 122, size, dtype=np.uint8)  # where rounding of means would be seen
    for each in (gray, faint):
        assert PerceptualHasher()(each) == hash_by_the_book(each)


def test_perceptual_hash_is_frozen() -> None:
    assert f"{PerceptualHasher()(gray_of(pixels_of(frozen_pictures()['rgb']))):016x}" == "071f3c7870e1c3c7"
