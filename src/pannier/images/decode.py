"""Bytes to pixels: one path for every format and color mode, as docs/format.md freezes them."""

from __future__ import annotations

import math
import re
from collections.abc import Callable
from functools import cache, partial
from typing import Any, Literal, NamedTuple

import numpy as np

from pannier.errors import PictureError
from pannier.images import webp
from pannier.images.facts import PHOTOMETRIC_TAG, Facts, open_with_pillow

Color = Literal["rgb", "gray"]
Pixels = np.ndarray[Any, np.dtype[np.uint8]]
Background = tuple[int, int, int]

# below this side a reduced decoding is not asked for: libjpeg's eighths could round to the same size there
SMALLEST_REDUCED_SIDE = 64

WHITE = (255, 255, 255)

# pixels that are computed on at once in numbers of more than 8 bits
BAND_PIXELS = 1 << 12


class Native(NamedTuple):
    """How pixels come out of a decoder that writes into our buffer: channels, bytes each; `made`: as they are wanted."""

    channels: int
    item_bytes: int
    made: bool = False

    def bytes_per_pixel(self, color: Color) -> int:
        """In our buffer: as they come, and beside them as they are wanted."""
        return self.channels * self.item_bytes + (0 if self.made else 1 if color == "gray" else 3)


@cache
def native_of(format: str, mode: str, color: Color = "rgb") -> Native | None:
    """None where the decoder of that format and mode allocates the pixels itself."""
    wanted = 1 if color == "gray" else 3
    if format == "jpeg" and mode in ("ycbcr", "gray"):
        return Native(wanted, 1, True)
    if format not in ("png", "webp"):
        return None
    base = mode.removesuffix("+alpha")
    channels = (1 if base in ("bilevel", "gray", "gray16") else 3) + (mode != base)
    return Native(channels, 2 if "16" in base else 1, base != "rgb16" and base != "gray16" and channels == wanted)


def is_reducible(facts: Facts) -> bool:
    """Whether fewer pixels can be decoded than a file has."""
    return facts.format == "jpeg" and native_of(*facts[:2]) is not None


def buffer_bytes(facts: Facts, color: Color, pixels: int) -> int:
    """Bytes of the buffer that `decode` takes for so many pixels; 0 where the decoder allocates them itself."""
    native = native_of(*facts[:2], color)
    return 0 if native is None else pixels * native.bytes_per_pixel(color)


def decode(
    data: bytes | memoryview,
    facts: Facts,
    color: Color = "rgb",
    *,
    background: Background = WHITE,
    reduction: int = 1,
    buffer: memoryview | None = None,
) -> Pixels:
    """The pixels as they lie in the file (not turned): uint8, (h, w, 3) for "rgb", (h, w) for "gray".

    `reduction` (1, 2, 4, 8) decodes a JPEG to ceil(h / reduction) x ceil(w / reduction); other formats ignore it.
    `buffer` of `buffer_bytes` receives the pixels. Raises PictureError where the bytes are broken.
    """
    if is_reducible(facts):
        return decode_jpeg(data, jpeg_decoder(facts, color, reduction), facts, buffer)
    native = native_of(*facts[:2], color)
    try:
        if native is not None:
            return _decode_native(data, facts, native, color, background, buffer)
        is_deep = "16" in facts.mode and facts.format != "ppm"
        pixels = (_decode_deep if is_deep else _decode_with_pillow)(data, facts)
    except (PictureError, MemoryError):
        raise
    except Exception as error:  # decoders raise what the damaged bytes happen to provoke
        raise PictureError(_reason(error, data, facts)) from error
    pixels = lay_over(pixels, background)
    return to_gray(pixels) if color == "gray" else to_rgb(pixels)


def upright(pixels: Pixels, turn: int) -> Pixels:
    """A view of the pixels turned as EXIF orientation `turn` (1 to 8) says."""
    if turn >= 5:
        pixels = pixels.swapaxes(0, 1)
    if turn in (3, 4, 7, 8):
        pixels = pixels[::-1]
    if turn in (2, 3, 6, 7):
        pixels = pixels[:, ::-1]
    return pixels


def to_gray(pixels: Pixels) -> Pixels:
    """ITU-R BT.601 luma in integers: (19595 R + 38470 G + 7471 B + 32768) >> 16."""
    if pixels.ndim == 2:
        return pixels

    def luma(band: Any) -> Any:
        wide = band.astype(np.uint32)
        weighed = wide[..., 0] * np.uint32(19595) + wide[..., 1] * np.uint32(38470) + wide[..., 2] * np.uint32(7471)
        return (weighed + np.uint32(32768)) >> np.uint32(16)

    return _in_bands(pixels, luma, pixels.shape[:2])


def to_rgb(pixels: Pixels) -> Pixels:
    return np.repeat(pixels[..., None], 3, axis=2) if pixels.ndim == 2 else pixels


JpegDecoder = Callable[..., Pixels]


def jpeg_decoder(facts: Facts, color: Color, reduction: int = 1) -> JpegDecoder:
    """What decodes every JPEG of equal facts: made once for many pictures, since making it costs as much as using it."""
    import simplejpeg

    wanted: dict[str, Any] = {"colorspace": "GRAY" if color == "gray" else "RGB"}
    if reduction > 1:
        height, width = facts.coded_size
        wanted |= {"min_height": -(-height // reduction), "min_width": -(-width // reduction)}
    return partial(simplejpeg.decode_jpeg, **wanted)


def decode_jpeg(data: bytes | memoryview, decoder: JpegDecoder, facts: Facts, buffer: memoryview | None = None) -> Pixels:
    """As `decode`, with the decoder made before."""
    try:
        pixels = decoder(data, buffer=buffer)
    except MemoryError:
        raise
    except Exception as error:
        if "extraneous bytes" not in str(error):  # harmless rubbish between two parts of the file; all else is damage
            raise PictureError(_reason(error, data, facts)) from error
        try:
            pixels = decoder(data, buffer=buffer, strict=False)
        except ValueError as worse:
            raise PictureError(_reason(worse, data, facts)) from worse
    return pixels[..., 0] if pixels.shape[2] == 1 else pixels


def _decode_native(
    data: bytes | memoryview, facts: Facts, native: Native, color: Color, background: Background, buffer: memoryview | None
) -> Pixels:
    """PNG and WebP, decoded into the first part of the buffer, and made what is wanted in its second."""
    import imagecodecs

    height, width = facts.coded_size
    size = buffer_bytes(facts, color, height * width)
    room = np.empty(size, np.uint8) if buffer is None else np.frombuffer(buffer, np.uint8)
    end = height * width * native.channels * native.item_bytes
    shape = (height, width, native.channels) if native.channels > 1 else (height, width)
    pixels: Any = room[:end].view(np.uint16 if native.item_bytes == 2 else np.uint8).reshape(shape)
    encoded: Any = data
    if facts.format == "png":
        imagecodecs.png_decode(encoded, out=pixels)
    elif webp.is_animated(data):
        _first_frame_into(data, pixels)
    else:
        imagecodecs.webp_decode(encoded, hasalpha=native.channels == 4, out=pixels)
    if native.made:
        return pixels
    wanted = (height, width) if color == "gray" else (height, width, 3)
    made = room[end : end + math.prod(wanted)].reshape(wanted)
    return _in_bands(pixels, partial(_made, color=color, background=background), wanted, made)


def _first_frame_into(data: bytes | memoryview, pixels: Any) -> None:
    """Where it does not reach, an animated picture is transparent at first, or black."""
    import imagecodecs

    still = webp.first_still(data)
    if still.top + still.height > pixels.shape[0] or still.left + still.width > pixels.shape[1]:
        raise PictureError("its first frame is larger than the picture")
    frame = np.empty((still.height, still.width, pixels.shape[2]), np.uint8)
    imagecodecs.webp_decode(still.data, hasalpha=pixels.shape[2] == 4, out=frame)
    pixels[:] = 0
    pixels[still.top : still.top + still.height, still.left : still.left + still.width] = frame


def _made(pixels: np.ndarray[Any, Any], color: Color, background: Background) -> Pixels:
    """8 or 16 bits, gray or not, with alpha or not, as they are wanted."""
    if pixels.dtype == np.uint16:
        pixels = _from_16_bits(pixels)
    if pixels.ndim == 3 and pixels.shape[2] == 2:
        pixels = pixels[..., [0, 0, 0, 1]]
    pixels = lay_over(pixels, background)
    return to_gray(pixels) if color == "gray" else to_rgb(pixels)


def _decode_with_pillow(data: bytes | memoryview, facts: Facts) -> Pixels:
    with open_with_pillow(data, facts.format) as image:
        image.load()
        if facts.mode == "gray16":
            return _from_16_bits(np.asarray(image))
        if facts.format == "png" and facts.mode in ("gray+alpha", "bilevel+alpha") and "transparency" in image.info:
            return _with_one_transparent(np.asarray(image.convert("L")), image.info["transparency"], data[24])
        if facts.mode.endswith("+alpha"):
            return np.asarray(image.convert("RGBA"))
        if image.mode in ("1", "L"):
            return np.asarray(image.convert("L"))
        if image.mode == "CMYK":
            return from_cmyk(np.asarray(image))
        return np.asarray(image.convert("RGB"))


def _decode_deep(data: bytes | memoryview, facts: Facts) -> Pixels:
    """16 bits a channel, which Pillow would cut to 8: through OpenCV, blue first; a fourth sample may mean nothing."""
    import cv2

    if facts.format == "png":
        _check_chunks(data)
    flags = cv2.IMREAD_UNCHANGED | cv2.IMREAD_IGNORE_ORIENTATION
    pixels = cv2.imdecode(np.frombuffer(data, np.uint8), flags)
    if pixels is None or pixels.dtype != np.uint16:
        raise PictureError("its pixels cannot be read")
    if facts.format == "png" and data[25] in (0, 2):
        return _deep_png(pixels, data, facts)
    if pixels.ndim == 3:
        order = [2, 1, 0, 3][: pixels.shape[2] if facts.mode.endswith("+alpha") else 3]
        pixels = pixels[..., order]
    if facts.format == "tiff" and facts.mode == "gray16":
        with open_with_pillow(data, "tiff") as image:
            pixels = np.uint16(65535) - pixels if image.tag_v2.get(PHOTOMETRIC_TAG) == 0 else pixels
    return _from_16_bits(pixels)


def _check_chunks(data: bytes | memoryview) -> None:
    """Raises PictureError where a PNG's chunk says to be longer than the file: OpenCV takes the memory before it looks."""
    at = 8
    while at + 8 <= len(data) and data[at + 4 : at + 8] != b"IEND":
        at += 12 + int.from_bytes(data[at : at + 4], "big")
        if at > len(data):
            raise PictureError("cut short")


def _with_one_transparent(gray: Pixels, value: int, bits: int) -> Pixels:
    """Gray pixels of a PNG, of which one value, told as its file holds it, means transparent: (h, w, 4)."""
    alpha = np.where(gray == value * 255 // ((1 << bits) - 1), np.uint8(0), np.uint8(255))
    return np.dstack([gray, gray, gray, alpha])


def _deep_png(pixels: np.ndarray[Any, Any], data: bytes | memoryview, facts: Facts) -> Pixels:
    """16 bits a channel without an alpha channel, blue first; one value may mean transparent."""
    pixels = pixels if pixels.ndim == 2 else pixels[..., [2, 1, 0]]
    rounded = _from_16_bits(pixels)
    if not facts.mode.endswith("+alpha"):
        return rounded
    with open_with_pillow(data, "png") as image:
        meant = np.array(image.info["transparency"], np.uint16)
    alpha = np.where(pixels == meant if pixels.ndim == 2 else (pixels == meant).all(axis=2), np.uint8(0), np.uint8(255))
    return np.dstack([*([rounded] * 3 if rounded.ndim == 2 else [rounded]), alpha])


def _from_16_bits(pixels: np.ndarray[Any, Any]) -> Pixels:
    """round(v / 257), so that 0 stays 0 and 65535 becomes 255."""

    def rounded(band: Any) -> Any:
        return (np.clip(band, 0, 65535).astype(np.uint32) + np.uint32(128)) // np.uint32(257)

    return _in_bands(pixels, rounded, pixels.shape)


def from_cmyk(pixels: Pixels) -> Pixels:
    """Each of R, G, B is (255 - ink) * (255 - black) / 255, rounded; embedded profiles play no part."""

    def lit(band: Any) -> Any:
        light = np.uint32(255) - band.astype(np.uint32)
        return (light[..., :3] * light[..., 3:] + np.uint32(127)) // np.uint32(255)

    return _in_bands(pixels, lit, (*pixels.shape[:2], 3))


def lay_over(pixels: Pixels, background: Background) -> Pixels:
    """Transparency over a background: (v * a + b * (255 - a)) / 255, rounded."""
    if pixels.ndim == 2 or pixels.shape[2] != 4:
        return pixels

    def laid(band: Any) -> Any:
        alpha = band[..., 3:].astype(np.uint32)
        under = np.asarray(background, np.uint32) * (np.uint32(255) - alpha)
        return (band[..., :3] * alpha + under + np.uint32(127)) // np.uint32(255)

    return _in_bands(pixels, laid, (*pixels.shape[:2], 3))


def _in_bands(pixels: Any, work: Callable[[Any], Any], shape: tuple[int, ...], out: Pixels | None = None) -> Pixels:
    """`work` done on bands of rows, so that its wide numbers take little memory whatever the picture's size."""
    out = np.empty(shape, np.uint8) if out is None else out
    rows = max(1, BAND_PIXELS // max(1, shape[1]))
    for top in range(0, shape[0], rows):
        out[top : top + rows] = work(pixels[top : top + rows])
    return out


def _reason(error: BaseException, data: bytes | memoryview, facts: Facts) -> str:
    lacks_end = facts.format == "jpeg" and b"\xff\xd9" not in bytes(data[-4096:])
    if lacks_end or re.search(r"premature end|truncated|stream too small|not enough|unexpected end|eof", str(error).lower()):
        return "cut short"
    return "its pixels cannot be read"
