"""Bytes to pixels: one path for every format and color mode, as docs/format.md freezes them."""

from __future__ import annotations

import math
import re
from collections.abc import Callable, Iterator
from functools import cache, partial
from typing import Any, NamedTuple

import numpy as np

from pannier.errors import PictureError
from pannier.images import webp
from pannier.images.colors import WHITE, Background, Color, Pixels, bands, from_cmyk, plain
from pannier.images.facts import PHOTOMETRIC_TAG, Facts, open_with_pillow
from pannier.memory import was_refused

# below this side a reduced decoding is not asked for: libjpeg's eighths could round to the same size there
SMALLEST_REDUCED_SIDE = 64


class Native(NamedTuple):
    """How pixels come out of a decoder that writes into our buffer: channels, bytes each; `made`: as they are wanted."""

    channels: int
    item_bytes: int
    made: bool = False

    def bytes_per_pixel(self, color: Color) -> int:
        """In our buffer: as they come, and beside them as they are wanted."""
        return self.channels * self.item_bytes + (0 if self.made else 1 if color == "gray" else 3)


@cache
def native_of(format: str, mode: str, color: Color = "rgb") -> Native:
    """No channels where the decoder of that format and mode allocates the pixels itself."""
    wanted = 1 if color == "gray" else 3
    if format == "jpeg" and mode in ("ycbcr", "gray"):
        return Native(wanted, 1, True)
    if format not in ("png", "webp"):
        return Native(0, 1)
    base = mode.removesuffix("+alpha")
    channels = (1 if base in ("bilevel", "gray", "gray16") else 3) + (mode != base)
    return Native(channels, 2 if "16" in base else 1, "16" not in base and channels == wanted)


def is_reducible(facts: Facts) -> bool:
    """Whether fewer pixels can be decoded than a file has."""
    return facts.format == "jpeg" and native_of(*facts[:2]).made


def buffer_bytes(facts: Facts, color: Color, pixels: int) -> int:
    """Bytes of the buffer that `decode` takes for so many pixels."""
    return pixels * native_of(*facts[:2], color).bytes_per_pixel(color)


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
    coming, wanted = _room(facts, native, color, buffer)
    try:
        if native.channels:
            _decode_into(data, facts, coming)
            if native.made:
                return coming
            parts: Iterator[Any] = (coming[top:end] for top, end in bands(*coming.shape[:2]))
        else:
            parts = (_deep_bands if "16" in facts.mode and facts.format == "tiff" else _pillow_bands)(data, facts)
        at = 0
        for part in parts:
            wanted[at : at + len(part)] = plain(part, color, background)
            at += len(part)
    except (PictureError, MemoryError):
        raise
    except Exception as error:  # decoders raise what the damaged bytes happen to provoke
        _check_memory(error, data, facts)
        raise PictureError(_reason(error, data, facts)) from error
    return wanted


def upright(pixels: Pixels, turn: int) -> Pixels:
    """A view of the pixels turned as EXIF orientation `turn` (1 to 8) says."""
    if turn >= 5:
        pixels = pixels.swapaxes(0, 1)
    if turn in (3, 4, 7, 8):
        pixels = pixels[::-1]
    if turn in (2, 3, 6, 7):
        pixels = pixels[:, ::-1]
    return pixels


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


def _room(
    facts: Facts, native: Native, color: Color, buffer: memoryview | None
) -> tuple[np.ndarray[Any, Any], np.ndarray[Any, Any]]:
    """The two parts of the buffer: pixels as they come, and as they are wanted; one where that is the same."""
    height, width = facts.coded_size
    size = buffer_bytes(facts, color, height * width)
    room = np.empty(size, np.uint8) if buffer is None else np.frombuffer(buffer, np.uint8)
    end = height * width * native.channels * native.item_bytes
    kind = np.uint16 if native.item_bytes == 2 else np.uint8
    coming = room[:end].view(kind)
    if native.channels:
        coming = coming.reshape((height, width, native.channels)[: 3 if native.channels > 1 else 2])
    wanted = (height, width) if color == "gray" else (height, width, 3)
    return coming, coming if native.made else room[end : end + math.prod(wanted)].reshape(wanted)


def _decode_into(data: bytes | memoryview, facts: Facts, pixels: np.ndarray[Any, Any]) -> None:
    """PNG and WebP, whose decoders write where they are told to."""
    import imagecodecs

    encoded: Any = data
    if facts.format == "png":
        imagecodecs.png_decode(encoded, out=pixels)
    elif webp.is_animated(data):
        _first_frame_into(data, pixels)
    else:
        imagecodecs.webp_decode(encoded, hasalpha=pixels.shape[2] == 4, out=pixels)


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


def _pillow_bands(data: bytes | memoryview, facts: Facts) -> Iterator[np.ndarray[Any, Any]]:
    """Some rows after others: Pillow holds its own pixels, and copies of them all would take several times that."""
    with open_with_pillow(data, facts.format) as image:
        image.load()
        mode = image.mode
        if facts.mode.endswith("+alpha"):
            mode = "RGBA"
        elif facts.mode != "gray16" and mode != "CMYK":
            mode = "L" if mode in ("1", "L") else "RGB"
        for top, end in bands(image.height, image.width):
            band = image.crop((0, top, image.width, end))
            pixels = np.asarray(band if band.mode == mode else band.convert(mode))
            yield from_cmyk(pixels) if mode == "CMYK" else pixels


def _deep_bands(data: bytes | memoryview, facts: Facts) -> Iterator[np.ndarray[Any, Any]]:
    """TIFF of 16 bits, which Pillow would cut to 8: through OpenCV, blue first; a fourth sample may mean nothing."""
    import cv2

    pixels = cv2.imdecode(np.frombuffer(data, np.uint8), cv2.IMREAD_UNCHANGED | cv2.IMREAD_IGNORE_ORIENTATION)
    if pixels is None or pixels.dtype != np.uint16:
        raise PictureError("its pixels cannot be read")
    is_dark_high = False
    if facts.mode == "gray16":
        with open_with_pillow(data, "tiff") as image:
            is_dark_high = image.tag_v2.get(PHOTOMETRIC_TAG) == 0
    order = [2, 1, 0, 3][: 4 if facts.mode.endswith("+alpha") else 3]
    for top, end in bands(*pixels.shape[:2]):
        band = pixels[top:end]
        band = band if band.ndim == 2 else band[..., order]
        yield np.uint16(65535) - band if is_dark_high else band


def _check_memory(error: Exception, data: bytes | memoryview, facts: Facts) -> None:
    """Raises MemoryError where a decoder was refused memory, which some say as if the picture were damaged."""
    if was_refused(error):
        raise MemoryError(str(error)) from error
    if facts.format == "webp" and webp.is_held_twice(data):
        np.empty((*facts.coded_size, 4), np.uint8)  # it tells only that it failed: this is what it needs, if it can be had


def _reason(error: BaseException, data: bytes | memoryview, facts: Facts) -> str:
    lacks_end = facts.format == "jpeg" and b"\xff\xd9" not in bytes(data[-4096:])
    if lacks_end or re.search(r"premature end|truncated|stream too small|not enough|unexpected end|eof", str(error).lower()):
        return "cut short"
    return "its pixels cannot be read"
