"""The way from bytes to a prepared array: one object a thread, with its buffers kept.

Bytes -> pixels -> upright -> box, trim, tone -> canvas (that part of it which is needed) -> warp -> view -> light -> values.
Where nothing but mirroring is random, resize and values are one kernel call.
"""

from __future__ import annotations

from pathlib import Path
from time import perf_counter
from typing import Any, NamedTuple

import numpy as np

from pannier.array_types import Array
from pannier.errors import LimitError, NotFoundError, PictureError, UsageError
from pannier.images import decode
from pannier.images.chance import FLIP_HORIZONTAL, FLIP_VERTICAL, Variation, plain, variations
from pannier.images.colors import Pixels, from_cmyk, lay_over, to_gray, to_rgb
from pannier.images.cost import after_fit_bytes, color_of
from pannier.images.effects import Effects
from pannier.images.facts import Facts, check_pixels, read_facts
from pannier.images.own_steps import call, registered
from pannier.images.placement import Box, Window, place, reduced, reduction, with_mirrored
from pannier.images.tone import Tone, has_tone, trimmed, warm_up_tone
from pannier.images.treatment import Treatment
from pannier.images.values import is_line, own_line, value_line, value_table
from pannier.machine import free_memory_bytes
from pannier.units import show_bytes

__all__ = ["FLIP_HORIZONTAL", "FLIP_VERTICAL", "Preparation", "compile_kernels", "pixels_of", "warm_up"]


# pictures of so many different facts are remembered at once
MOST_WAYS = 256
SMALL = 32

FILTERS = {"nearest": 0, "bilinear": 1, "bicubic": 2, "lanczos": 3}
BORDERS = {"pad": 0, "edge": 1, "mirror": 2}
_NO_CANVAS = np.empty((0, 0, 0), np.uint8)


class _Way(NamedTuple):
    """What is the same for all pictures of equal facts: looked up, not worked out again for each of them."""

    decoder: decode.JpegDecoder | None
    pixel_bytes: int
    box: Box
    target: tuple[int, int, int, int]
    scratch_bytes: int


# what one picture may take without a look at what is free
LARGE_BYTES = 256 << 20


class Preparation:
    """Prepares pictures by one treatment. Not for several threads at once: each has its own.

    Holds a buffer for decoded pixels, one for turned ones, the canvas, the view and the kernel's scratch memory, each as
    large as it was ever needed; `decode_bytes` (in bytes) makes the first one at once, so that it never grows under a
    memory limit. `decode_seconds` is what it has decoded for so far.
    """

    def __init__(self, treatment: Treatment, *, decode_bytes: int = 0, scratch_bytes: int = 0) -> None:
        from pannier.images.kernels import pixels, resize, warp

        treatment.check_ready()
        _refuse_enormous(treatment)
        self._warp, self._pixels = warp, pixels
        self._scratch_bytes, self._fill_edges = resize.scratch_bytes, resize.fill_edges
        self._place = resize.prepare_lobed if FILTERS[treatment.filter] > resize.BILINEAR else resize.prepare
        self.treatment = treatment
        self._frame, self._channels = treatment.frame, treatment.channels
        self._color = color_of(treatment)
        self._filter, self._border = FILTERS[treatment.filter], BORDERS[_border_of(treatment)]
        self._pad = self._pad_color()
        self._own = [registered(step) for step in treatment.own_at("decoded")]
        self._at_values = [registered(step) for step in treatment.own_at("values")]
        self._tone = Tone(treatment) if has_tone(treatment) else None
        self._cuts = treatment.box is not None or treatment.trim is not None or bool(self._own)
        self._plain = plain(treatment)
        self._effects: Effects | None = None
        self._is_line = is_line(treatment)
        self._line = value_line(treatment) if treatment.values not in ("table", "per_picture") else _no_line(self._channels)
        self._no_line = _no_line(self._channels)
        self._table = None if self._is_line or treatment.values == "per_picture" else value_table(treatment)
        self._is_direct = treatment.is_canvas and self._is_line and treatment.layout == "chw"
        self.decode_seconds = 0.0
        self._decoded = np.empty(decode_bytes, np.uint8)
        self._room = self._decoded.data
        self._turned = np.empty(0, np.uint8)
        self._scratch_of, self._is_lobed = resize.scratch_of, FILTERS[treatment.filter] > resize.BILINEAR
        self._scratch = resize.scratch_of(scratch_bytes, self._is_lobed)
        self._canvas = np.empty(0, np.uint8)
        self._view = np.empty((self._channels, *treatment.size), np.uint8)
        self._rows = np.empty((2, treatment.size[1]), np.int32)
        self._packed = np.empty(0, np.uint32)
        self._corners = np.empty((4, treatment.size[1]), np.uint32)
        self._ways: dict[Facts, _Way] = {}

    def _pad_color(self) -> Array:
        pad = np.array([[self.treatment.pad]], np.uint8)
        return self._to_gray(pad).ravel() if self._channels == 1 else pad.ravel()

    def one(self, picture: Any, *, box: Box | None = None, variation: Variation | None = None) -> Array:
        """A new prepared array of a picture from anywhere. Raises PictureError, or UsageError for what is no picture."""
        out = np.empty(self.treatment.shape, self.treatment.dtype)
        self._one_into(picture, out, variation, box)
        return out

    def one_canvas(self, picture: Any, *, box: Box | None = None) -> Array:
        """The canvas alone: uint8 (channels, height, width)."""
        out = np.empty((self._channels, *self._frame.canvas), np.uint8)
        self._one_into(picture, out, None, box, to_canvas=True)
        return out

    def _one_into(
        self, picture: Any, out: Array, variation: Variation | None, box: Box | None, *, to_canvas: bool = False
    ) -> None:
        if not isinstance(picture, (str, Path, bytes, bytearray, memoryview, np.ndarray)):
            picture = _from_pillow(picture, self.treatment.background)
        if isinstance(picture, np.ndarray):
            pixels = _checked_array(picture, self._color)
            if to_canvas:
                self.canvas_of_pixels_into(pixels, out, box)
            else:
                self.pixels_into(pixels, out, variation, box)
            return
        data = _bytes_of(picture)
        facts = read_facts(data)
        check_pixels(facts)
        if to_canvas:
            self.canvas_into(data, facts, out, box)
        else:
            self.into(data, facts, out, variation, box)

    def into(
        self, data: bytes | memoryview, facts: Facts, out: Array, variation: Variation | None = None, box: Box | None = None
    ) -> None:
        """Encoded bytes with their facts -> `out`, an array of the treatment's shape and dtype."""
        pixels, way = self._pixels_of(data, facts, box)
        self._finish(pixels, way, out, variation or self._plain)

    def into_both(
        self, data: bytes | memoryview, facts: Facts, out: Array, canvas: Array, variation: Variation | None, box: Box | None
    ) -> None:
        """The same, and the whole canvas as `canvas_into` makes it."""
        pixels, way = self._pixels_of(data, facts, box)
        variation, whole = variation or self._plain, (0, 0, *self._frame.canvas)
        if self._is_direct and not (variation.program or variation.flips or self._at_values):
            self._place_into(pixels, way, 0, whole, self._line, out, canvas)
        else:
            self._place_into(pixels, way, 0, whole, self._no_line, canvas)
            self._from_window(canvas, (0, 0), out, variation)

    def canvas_into(self, data: bytes | memoryview, facts: Facts, out: Array, box: Box | None = None) -> None:
        """Encoded bytes with their facts -> the whole canvas, uint8 (channels, height, width)."""
        pixels, way = self._pixels_of(data, facts, box)
        self._place_into(pixels, way, 0, (0, 0, *self._frame.canvas), self._no_line, out)

    def canvas_of_pixels_into(self, pixels: Pixels, out: Array, box: Box | None = None) -> None:
        """Upright pixels -> the whole canvas."""
        pixels = self._toned(np.ascontiguousarray(pixels), box)
        way = self._way(pixels.shape[0], pixels.shape[1])
        self._place_into(pixels, way, 0, (0, 0, *self._frame.canvas), self._no_line, out)

    def pixels_into(self, pixels: Pixels, out: Array, variation: Variation | None = None, box: Box | None = None) -> None:
        """Upright pixels, uint8 (h, w, 3), or (h, w) for gray -> `out`."""
        pixels = self._toned(np.ascontiguousarray(pixels), box)
        self._finish(pixels, self._way(pixels.shape[0], pixels.shape[1]), out, variation or self._plain)

    def from_canvas(self, canvas: Array, out: Array, variation: Variation | None = None) -> None:
        """A whole canvas, as `canvas_into` makes it, uint8 (channels, height, width) -> `out`."""
        variation = variation or self._plain
        self._from_window(canvas, (0, 0), out, variation)

    def pixels_of(self, data: bytes | memoryview, facts: Facts, box: Box | None = None) -> Pixels:
        """The pixels that are fitted: decoded, perhaps smaller, upright, cut and toned. Valid until the next call."""
        return self._pixels_of(data, facts, box)[0]

    def _pixels_of(self, data: bytes | memoryview, facts: Facts, box: Box | None) -> tuple[Pixels, _Way]:
        """Decoded, upright, cut and toned pixels, and their way."""
        started = perf_counter()
        way = self._ways.get(facts) or self._new_way(facts)
        if way.decoder is not None:
            pixels = decode.decode_jpeg(data, way.decoder, facts, self._room_for(way.pixel_bytes))
        else:
            room = self._room_for(way.pixel_bytes)
            pixels = decode.decode(data, facts, self._color, background=self.treatment.background, buffer=room)
        if facts.turn != 1:
            turned = decode.upright(pixels, facts.turn)
            if self._turned.size < turned.size:
                self._turned = np.empty(0, np.uint8)  # see `_room_for`
            self._turned = _grown(self._turned, turned.size)
            pixels = self._turned[: turned.size].reshape(turned.shape)
            np.copyto(pixels, turned)
        if self._cuts or self._tone is not None or self._color != self.treatment.color:
            pixels = self._toned(pixels, box)
            if self._cuts:
                way = self._way(pixels.shape[0], pixels.shape[1])
        self.decode_seconds += perf_counter() - started
        return pixels, way

    def _toned(self, pixels: Pixels, box: Box | None) -> Pixels:
        """Box, trim, own steps, gray, tone: the fixed part before the fit."""
        if box is not None:
            pixels = _boxed(pixels, box, self.treatment.box_unit)
        if self.treatment.trim is not None:
            pixels = trimmed(pixels, self.treatment.trim)
        for own in self._own:
            pixels = call(own, pixels)
        if self._color != self.treatment.color and pixels.ndim == 3:
            pixels = self._to_gray(pixels)
        if self._tone is not None:
            pixels = self._tone(np.ascontiguousarray(pixels))
        return np.ascontiguousarray(pixels)

    def _to_gray(self, pixels: Pixels) -> Pixels:
        weights = self.treatment.gray_weights
        if weights is None:
            return to_gray(pixels)
        out = np.empty(pixels.shape[:2], np.uint8)
        whole = np.array([round(weight * 65536) for weight in weights], np.int64)
        self._pixels.gray_by_weights(np.ascontiguousarray(pixels), whole, out)
        return out

    def _finish(self, pixels: Pixels, way: _Way, out: Array, variation: Variation) -> None:
        if self._is_direct and not variation.program and not self._at_values:
            self._place_into(pixels, way, variation.flips, (0, 0, *self._frame.canvas), self._line, out)
            return
        window = (0, 0, *self._frame.canvas) if self.treatment.is_canvas else variation.window
        held = with_mirrored(window, way.target, _border_of(self.treatment))
        size = self._channels * held[2] * held[3]
        self._canvas = _grown(self._canvas, size)
        canvas = self._canvas[:size].reshape(self._channels, held[2], held[3])
        self._place_into(pixels, way, 0, held, self._no_line, canvas)
        self._from_window(canvas, held[:2], out, variation)

    def _place_into(
        self,
        pixels: Pixels,
        way: _Way,
        flips: int,
        window: Window,
        line: tuple[Array, Array],
        out: Array,
        canvas: Array = _NO_CANVAS,
    ) -> None:
        rows, columns = pixels.shape[:2]
        if self._scratch[0].size < way.scratch_bytes:
            self._scratch = self._scratch_of(0, self._is_lobed)  # see `_room_for`
            self._scratch = self._scratch_of(way.scratch_bytes, self._is_lobed)
        lies = _writable(pixels.reshape(rows, columns * self._channels))
        target = way.target if not flips else _mirrored(way.target, self._frame.canvas, flips)
        how = (way.box, target, flips, self._filter, *line, window, self._scratch)
        is_partly_free = self._place(lies, self._channels, *how, out, canvas)
        if is_partly_free:
            self._fill_edges(out, target, window, self._border, self._pad, *line)
            if canvas.size:
                self._fill_edges(canvas, target, window, self._border, self._pad, *self._no_line)

    def _from_window(self, canvas: Array, origin: tuple[int, int], out: Array, variation: Variation) -> None:
        """The part of the canvas that lies at `origin` -> `out`: warp, light and the like, values."""
        view, mirrored = self._view, variation.flips
        if variation.matrix is not None:
            if self._packed.size < canvas[0].size:
                self._packed = np.empty(canvas[0].size, np.uint32)
            how = (self._frame.canvas, variation.matrix, variation.ratios, self._border, self._pad)
            planes, stride = canvas.reshape(self._channels, -1), canvas.shape[2]
            self._warp.warp(planes, stride, origin, *how, *self._rows, self._packed, self._corners, view)
        elif self.treatment.is_canvas:
            view = canvas
        else:
            top, left = (margin - begin for margin, begin in zip(self._frame.margin, origin, strict=True))
            view = canvas[:, top : top + view.shape[1], left : left + view.shape[2]]
        if variation.program:
            if view is not self._view or mirrored:
                self._pixels.to_line(view, mirrored, *self._no_line, self._view)
                view, mirrored = self._view, 0
            self._effects = self._effects or Effects(self.treatment)
            view = self._effects.run(view, variation.program)
        self._values_into(view, mirrored, out)

    def _values_into(self, view: Array, mirrored: int, out: Array) -> None:
        planes = out if self.treatment.layout == "chw" else np.moveaxis(out, -1, 0)
        if self._table is not None:
            if out.dtype == np.float16:  # compiled code knows no float16: its bits are moved
                self._pixels.to_table(view, mirrored, self._table.view(np.uint16), planes.view(np.uint16))
            else:
                self._pixels.to_table(view, mirrored, self._table, planes)
        elif self.treatment.values == "per_picture":
            self._own_values_into(view, mirrored, planes)
        else:
            self._pixels.to_line(view, mirrored, *self._line, planes)
        for own in self._at_values:
            out[:] = call(own, out)

    def _own_values_into(self, view: Array, mirrored: int, planes: Array) -> None:
        totals = np.empty((self._channels, 2), np.int64)
        self._pixels.sums(view, totals)
        lines = [own_line(total, squares, view[0].size) for total, squares in totals.tolist()]
        scale, offset = np.array(lines, np.float32).T.copy()
        if planes.dtype == np.float16:
            table = (np.arange(256, dtype=np.float32) * scale[:, None] + offset[:, None]).astype(np.float16)
            self._pixels.to_table(view, mirrored, table.view(np.uint16), planes.view(np.uint16))
        else:
            self._pixels.to_line(view, mirrored, scale, offset, planes)

    def _new_way(self, facts: Facts) -> _Way:
        if len(self._ways) >= MOST_WAYS:
            self._ways.clear()
        by, decoder = 1, None
        if decode.is_reducible(facts):
            by = int(reduction(facts.height, facts.width, self._frame))
            decoder = decode.jpeg_decoder(facts, self._color, by)
        rows, columns = -(-facts.height // by), -(-facts.width // by)
        pixel_bytes = decode.buffer_bytes(facts, self._color, rows * columns)
        way = self._ways[facts] = self._way(facts.height, facts.width, by, decoder, pixel_bytes)
        return way

    def _way(
        self, height: int, width: int, by: int = 1, decoder: decode.JpegDecoder | None = None, pixel_bytes: int = 0
    ) -> _Way:
        rows, columns = -(-height // by), -(-width // by)
        box, target = place(height, width, self._frame)
        scratch = self._scratch_bytes(rows, columns, self._channels, target[0], target[1], self._filter)
        return _Way(decoder, pixel_bytes, reduced(box, by), target, int(scratch))

    def _room_for(self, byte_count: int) -> memoryview:
        if self._decoded.size < byte_count:
            for size in (0, byte_count):  # the smaller one goes before the larger one comes: the plan has one alone
                self._decoded = np.empty(size, np.uint8)
                self._room = self._decoded.data
        return self._room[:byte_count]


def _refuse_enormous(treatment: Treatment) -> None:
    """Raises LimitError where one picture would take more than half of what is free."""
    one = treatment.byte_count + after_fit_bytes(treatment)
    if one > LARGE_BYTES and one > (most := free_memory_bytes() // 2):
        size = "x".join(map(str, treatment.size))
        what = f"one picture at size {size} takes {show_bytes(one, up=True)}, and half of what is free is {show_bytes(most)}"
        raise LimitError(f"{what}: give a smaller `size`", smallest_limit=one)


def _mirrored(target: tuple[int, int, int, int], canvas: tuple[int, int], flips: int) -> tuple[int, int, int, int]:
    """Where a picture lies on a mirrored canvas, whose padding need not be alike on both sides."""
    height, width, above, before = target
    if flips & FLIP_VERTICAL:
        above = canvas[0] - above - height
    if flips & FLIP_HORIZONTAL:
        before = canvas[1] - before - width
    return height, width, above, before


def _border_of(treatment: Treatment) -> str:
    """What lies beyond the picture: a picture that is padded anyway has its pad color there too."""
    return treatment.border if treatment.fit in ("cover", "fill") else "pad"


def _no_line(channels: int) -> tuple[Array, Array]:
    return np.ones(channels, np.float32), np.zeros(channels, np.float32)


def _grown(buffer: Array, byte_count: int) -> Array:
    return buffer if buffer.size >= byte_count else np.empty(byte_count, np.uint8)


def _bytes_of(picture: str | Path | bytes | bytearray | memoryview) -> bytes:
    if isinstance(picture, (bytes, bytearray, memoryview)):
        return bytes(picture)
    try:
        return Path(picture).read_bytes()
    except FileNotFoundError:
        raise NotFoundError(f"no picture {picture}") from None
    except OSError as error:
        raise NotFoundError(f"{picture} cannot be read as a picture: {error.strerror or error}") from None


def _from_pillow(picture: Any, background: tuple[int, int, int]) -> Array:
    """The upright pixels of a Pillow picture, as its own file would give them."""
    from PIL import Image, ImageOps

    if not isinstance(picture, Image.Image):
        raise UsageError(f"a treatment takes a path, bytes, a Pillow picture or a uint8 array, not {type(picture).__name__}")
    turned = ImageOps.exif_transpose(picture)
    if turned.mode.startswith("I;16"):
        return ((np.asarray(turned).astype(np.uint32) + 128) // 257).astype(np.uint8)
    if "A" in turned.mode or "transparency" in turned.info:
        return lay_over(np.asarray(turned.convert("RGBA")), background)
    if turned.mode == "CMYK":
        return from_cmyk(np.asarray(turned))
    return np.asarray(turned.convert("L" if turned.mode in ("1", "L") else "RGB"))


def _boxed(pixels: Pixels, box: Box, unit: str) -> Pixels:
    """The part in a box, to whole pixels: from the nearest edge above and before to the nearest below and behind."""
    height, width = pixels.shape[:2]
    if not all(np.isfinite(each) for each in box):
        raise PictureError("its crop box has no numbers")
    top, left, tall, wide = box
    if unit == "shares":
        top, left, tall, wide = top * height, left * width, tall * height, wide * width
    first_row, first_column = max(0, int(np.floor(top + 0.5))), max(0, int(np.floor(left + 0.5)))
    last_row, last_column = min(height, int(np.floor(top + tall + 0.5))), min(width, int(np.floor(left + wide + 0.5)))
    if last_row <= first_row or last_column <= first_column:
        raise PictureError(f"its crop box {box} lies outside its {height} x {width} pixels, or is empty")
    return pixels[first_row:last_row, first_column:last_column]


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


class _Alias:
    """The memory of an array, which it keeps alive, as NumPy's array interface tells of it."""

    def __init__(self, array: Array) -> None:
        self._array = array
        address, _ = array.__array_interface__["data"]
        self.__array_interface__ = {**array.__array_interface__, "data": (address, False)}


def _writable(array: Array) -> Array:
    """The same memory typed as writable, though nothing writes to it: kernels are compiled for one signature."""
    return array if array.flags.writeable else np.asarray(_Alias(array))


def warm_up(treatment: Treatment, data: bytes) -> None:
    """Loads every library and kernel that a treatment needs for pictures of this kind, its random steps' too."""
    warm_up_tone(treatment)
    preparation = Preparation(treatment)
    for variation in _some_variations(treatment):
        preparation.one(data, variation=variation)


def compile_kernels(treatment: Treatment, *, augment: bool, decodes: bool, has_canvases: bool, to_canvas: bool) -> None:
    """Compiles what a feed through a treatment will need, as far as it is not kept; own steps are not called."""
    bare = treatment.with_fields(own=(), box=None, side=None, size=SMALL, measured_on=None)  # kernels know no size
    picture = np.arange(3 * 24 * 16).astype(np.uint8).reshape(24, 16, 3)
    canvas = np.zeros((bare.channels, *bare.frame.canvas), np.uint8)
    preparation, out = Preparation(bare), np.empty(bare.shape, bare.dtype)
    if decodes:
        warm_up_tone(bare)
    if to_canvas:
        preparation.one_canvas(picture)
        return
    for variation in _some_variations(bare) if augment else [None]:
        if decodes:
            preparation.one(picture, variation=variation)
        if has_canvases:
            preparation.from_canvas(canvas, out, variation)


def _some_variations(treatment: Treatment) -> list[Variation | None]:
    """None, and enough of a treatment's that each random step is likely to be among them."""
    return [None, *(variations(treatment, np.arange(8, dtype=np.uint64), 0, 0) if treatment.varies else [])]


def pixels_of(data: bytes) -> Pixels:
    """The upright picture in encoded bytes: uint8 RGB (h, w, 3). Raises PictureError."""
    facts = read_facts(data)
    check_pixels(facts)
    return np.ascontiguousarray(decode.upright(decode.decode(data, facts), facts.turn))
