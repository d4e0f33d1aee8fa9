"""The way from bytes to a prepared array: one object a thread, with its buffers kept."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any, NamedTuple

import numpy as np

from pannier.errors import NotFoundError, PictureError, UsageError
from pannier.images.decode import (
    JpegDecoder,
    Pixels,
    decode,
    decode_jpeg,
    decodes_into_own_buffer,
    jpeg_decoder,
    to_gray,
    to_rgb,
    upright,
)
from pannier.images.facts import Facts, check_pixels, read_facts
from pannier.images.placement import place, reduced, reduction

if TYPE_CHECKING:
    from pannier.images.treatment import Treatment

Array = np.ndarray[Any, Any]

FLIP_HORIZONTAL, FLIP_VERTICAL = 1, 2

# pictures of so many different facts are remembered at once
MOST_WAYS = 256


class _Way(NamedTuple):
    """What is the same for all pictures of equal facts: looked up, not worked out again for each of them."""

    decoder: JpegDecoder | None
    pixel_bytes: int
    box: tuple[float, float, float, float]
    target: tuple[int, int, int, int]
    scratch_bytes: int


class Preparation:
    """Prepares pictures by one treatment. Not for several threads at once: each has its own.

    Holds a buffer for decoded pixels, one for turned ones and the kernel's scratch memory, each as large as it was ever
    needed; `decode_bytes` (in bytes) makes the first one at once, so that it never grows under a memory limit.
    """

    def __init__(self, treatment: Treatment, *, decode_bytes: int = 0, scratch_bytes: int = 0) -> None:
        from pannier.images import kernels

        self._kernels = kernels
        self.treatment = treatment
        self._size, self._fit, self._color, self._channels = (
            treatment.size,
            treatment.fit,
            treatment.color,
            treatment.channels,
        )
        self._scale, self._offset = treatment.value_line()
        pad = np.array([[treatment.pad]], np.uint8)
        self._pad = to_gray(pad).ravel() if treatment.color == "gray" else pad.ravel()
        self._is_planar = treatment.layout == "chw"
        self._decoded = np.empty(decode_bytes, np.uint8)
        self._room = self._decoded.data
        self._turned = np.empty(0, np.uint8)
        self._scratch = np.empty(scratch_bytes, np.uint8)
        self._planes = np.empty(0, self.treatment.dtype)
        self._ways: dict[Facts, _Way] = {}

    def one(self, picture: str | Path | bytes | Array) -> Array:
        """A new prepared array of a picture from anywhere. Raises PictureError, or UsageError for what is no picture."""
        out = np.empty(self.treatment.shape, self.treatment.dtype)
        if isinstance(picture, np.ndarray):
            self.pixels_into(_checked_array(picture, self._color), out)
            return out
        if isinstance(picture, (bytes, bytearray, memoryview)):
            data = bytes(picture)
        elif isinstance(picture, (str, Path)):
            try:
                data = Path(picture).read_bytes()
            except FileNotFoundError:
                raise NotFoundError(f"no picture {picture}") from None
        else:
            raise UsageError(f"a treatment takes a path, bytes or a uint8 array, not {type(picture).__name__}")
        facts = read_facts(data)
        check_pixels(facts)
        self.into(data, facts, out)
        return out

    def into(self, data: bytes | memoryview, facts: Facts, out: Array, flips: int = 0) -> None:
        """Encoded bytes with their facts -> `out`, an array of the treatment's shape and dtype."""
        way = self._ways.get(facts) or self._new_way(facts)
        if way.decoder is not None:
            pixels = decode_jpeg(data, way.decoder, facts, self._room_for(way.pixel_bytes))
        else:
            pixels = decode(data, facts, self._color, background=self.treatment.background)
        if facts.turn != 1:
            turned = upright(pixels, facts.turn)
            self._turned = _grown(self._turned, turned.size)
            pixels = self._turned[: turned.size].reshape(turned.shape)
            np.copyto(pixels, turned)
        self._place_into(pixels, way, out, flips)

    def pixels_into(self, pixels: Pixels, out: Array, flips: int = 0) -> None:
        """Upright pixels, uint8 (h, w, 3), or (h, w) for gray -> `out`."""
        height, width = pixels.shape[:2]
        self._place_into(np.ascontiguousarray(pixels), self._way(height, width, 1, None), out, flips)

    def _place_into(self, pixels: Pixels, way: _Way, out: Array, flips: int) -> None:
        channels = self._channels
        rows, columns = pixels.shape[:2]
        self._scratch = scratch = _grown(self._scratch, way.scratch_bytes)
        planes = out if self._is_planar else self._own_planes()
        lies = pixels.reshape(rows, columns * channels)
        self._kernels.prepare(
            lies, channels, way.box, way.target, flips, self._pad, self._scale, self._offset, scratch, planes
        )
        if planes is not out:
            np.copyto(out, np.moveaxis(planes, 0, -1))

    def _new_way(self, facts: Facts) -> _Way:
        if len(self._ways) >= MOST_WAYS:
            self._ways.clear()
        by, decoder = 1, None
        if decodes_into_own_buffer(facts):
            by = int(reduction(facts.height, facts.width, self._size, self._fit))
            decoder = jpeg_decoder(facts, self._color, by)
        way = self._ways[facts] = self._way(facts.height, facts.width, by, decoder)
        return way

    def _way(self, height: int, width: int, by: int, decoder: JpegDecoder | None) -> _Way:
        rows, columns = -(-height // by), -(-width // by)
        box, target = place(height, width, self._size, self._fit)
        scratch = self._kernels.scratch_bytes(rows, columns, self._channels, target[0], target[1])
        return _Way(decoder, rows * columns * self._channels, reduced(box, by), target, int(scratch))

    def _room_for(self, byte_count: int) -> memoryview:
        if self._decoded.size < byte_count:
            self._decoded = np.empty(byte_count, np.uint8)
            self._room = self._decoded.data
        return self._room[:byte_count]

    def _own_planes(self) -> Array:
        if not self._planes.size:
            self._planes = np.empty((self._channels, *self._size), self.treatment.dtype)
        return self._planes


def _grown(buffer: Array, byte_count: int) -> Array:
    return buffer if buffer.size >= byte_count else np.empty(byte_count, np.uint8)


def _checked_array(picture: Array, color: str) -> Pixels:
    if picture.dtype != np.uint8 or picture.ndim not in (2, 3) or (picture.ndim == 3 and picture.shape[2] not in (1, 3)):
        raise UsageError(
            f"an array must be uint8 of shape (h, w), (h, w, 1) or (h, w, 3), not {picture.dtype} {picture.shape}"
        )
    if 0 in picture.shape:
        raise PictureError("no pixels")
    if picture.ndim == 3 and picture.shape[2] == 1:
        picture = picture[..., 0]
    return to_gray(picture) if color == "gray" else to_rgb(picture)


def pixels_of(data: bytes) -> Pixels:
    """The upright picture in encoded bytes: uint8 RGB (h, w, 3). Raises PictureError."""
    facts = read_facts(data)
    check_pixels(facts)
    return np.ascontiguousarray(upright(decode(data, facts), facts.turn))
