"""What it costs in memory to decode pictures, known from their facts alone, for whole columns of them at once."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cache
from typing import Any, NamedTuple

import numpy as np

from pannier.array_types import Flags, Numbers
from pannier.images.colors import Color
from pannier.images.decode import native_of
from pannier.images.facts import Facts
from pannier.images.placement import Frame, reduction
from pannier.images.tone import has_tone
from pannier.images.treatment import Treatment
from pannier.images.varying import GEOMETRY

# as in the kernels, which are not imported for it
STRIP = 256
LARGEST_RATIO = 16
REACHES = {"nearest": 1, "bilinear": 1, "bicubic": 2, "lanczos": 3}


# what libjpeg holds beside the pixels: a few rows of every component, and its tables; tests/test_costs.py measures it all
JPEG_ROWS = 48
JPEG_TABLES = 256 << 10
# libpng and libwebp: tables and some rows; bands of what has still to become what is wanted; transparency; pixels of its
# own that libwebp holds of what is lossless, and a frame of what is animated
PNG_BYTES, PNG_BYTES_PER_COLUMN = 160 << 10, 24
WEBP_BYTES, WEBP_BYTES_PER_COLUMN, WEBP_ALPHA_BYTES_PER_PIXEL, WEBP_BYTES_PER_PIXEL = 128 << 10, 112, 2, 9
MADE_BYTES = 384 << 10
# Pillow: its own pixels, of which some rows at a time are copied and become what is wanted; and what it holds of a CMYK JPEG
PILLOW_BYTES, PILLOW_BYTES_PER_PIXEL, PILLOW_BYTES_PER_GRAY = 768 << 10, 4, 2
# what is decoded in strips or tiles of any size holds those too
TIFF_BYTES_PER_PIXEL = 4 + 4
# TIFF of 16 bits through OpenCV
DEEP_BYTES_PER_PIXEL = 8 + 8
# Pillow alone, where pixels are not asked for by rows: its own, and copies
COPIED_BYTES_PER_PIXEL, COPIED_BYTES = 26, 4 << 20


@dataclass(frozen=True)
class Costs:
    """Bytes by record: `own` in buffers of ours, `allocated` by the decoder for a while, `scratch` for the kernel.

    decoded: of `own`, what is decoded into.
    """

    own: Numbers
    allocated: Numbers
    scratch: Numbers
    decoded: Numbers


class Kind(NamedTuple):
    """What format and mode say of decoding, of one picture or by record.

    reducible: fewer pixels can be decoded than there are. own: bytes a pixel in our buffer. fixed, by_column, by_pixel,
    if_held: bytes that a decoder allocates for a while: at least, for each column, for each pixel, and for each where it
    holds the whole picture beside its pixels. copies: whether it copies the file.
    """

    reducible: Any
    own: Any
    fixed: Any
    by_column: Any
    by_pixel: Any
    if_held: Any
    copies: Any = False


@cache
def kind_of(format: str, mode: str, color: Color) -> Kind:
    """Of one format and mode, as `decode` takes them."""
    native = native_of(format, mode, color)
    own = native.bytes_per_pixel(color)
    if not native.channels:
        is_one_byte = mode.removesuffix("+alpha") in ("gray", "palette", "bilevel")
        each = PILLOW_BYTES_PER_GRAY if is_one_byte else PILLOW_BYTES_PER_PIXEL
        if format == "tiff":
            each = DEEP_BYTES_PER_PIXEL if "16" in mode else TIFF_BYTES_PER_PIXEL
        return Kind(False, own, PILLOW_BYTES, 0, each, 8, True)
    if format == "jpeg":
        return Kind(True, own, JPEG_TABLES, 3 * JPEG_ROWS, 0, 2 if mode == "gray" else 6)
    made = 0 if native.made else MADE_BYTES
    if format == "png":
        return Kind(False, own, PNG_BYTES + made, PNG_BYTES_PER_COLUMN, 0, 0)
    alpha = WEBP_ALPHA_BYTES_PER_PIXEL if mode.endswith("+alpha") else 0
    return Kind(False, own, WEBP_BYTES + made, WEBP_BYTES_PER_COLUMN, alpha, WEBP_BYTES_PER_PIXEL)


def color_of(treatment: Treatment) -> Color:
    """The color that pictures are decoded to for a treatment."""
    return "rgb" if treatment.gray_weights is not None else treatment.color


def decoding_costs(
    kinds: Kind,
    heights: Numbers,
    widths: Numbers,
    turns: Numbers,
    progressive: Flags,
    byte_counts: Numbers,
    treatment: Treatment,
) -> Costs:
    """Upper bounds by record. Heights and widths are those of upright pictures, in pixels."""
    heights, widths = heights.astype(np.int64), widths.astype(np.int64)
    by = np.where(kinds.reducible, reduction(heights, widths, treatment.frame), 1)
    decoded_height, decoded_width = -(-heights // by), -(-widths // by)
    area = decoded_height * decoded_width
    decoded = area * (3 if treatment.gray_weights is not None else treatment.channels)
    turned = np.where(turns > 1, decoded, 0)
    evened = area * (treatment.channels + 2) if has_tone(treatment) else 0 * area
    cut = decoded * (3 * len(treatment.own_at("decoded")) + 1) if treatment.frame.decodes_whole else 0 * area
    cut = cut + area if treatment.gray_weights is not None else cut

    own = area * kinds.own + turned + evened + cut + after_fit_bytes(treatment)
    allocated = _in_decoders(kinds, heights, widths, progressive, byte_counts)
    allocated = allocated + (area if treatment.tone == "clahe" else 0)
    return Costs(own, allocated, _scratch(decoded_height, decoded_width, treatment), area * kinds.own)


def checking_cost(facts: Facts, byte_count: int) -> int:
    """Upper bound for one picture that is decoded to gray and hashed, its file too."""
    kind, size = kind_of(facts.format, facts.mode, "gray"), facts.height * facts.width
    in_decoder = _in_decoders(kind, facts.height, facts.width, facts.progressive, byte_count)
    return int(in_decoder) + byte_count + (2 + kind.own) * size


def recoding_cost(facts: Facts, byte_count: int) -> int:
    """Upper bound for one picture that is decoded by Pillow, whatever its format, and saved anew."""
    return COPIED_BYTES + 3 * byte_count + COPIED_BYTES_PER_PIXEL * facts.height * facts.width


def _in_decoders(kind: Kind, heights: Any, widths: Any, progressive: Any, byte_counts: Any) -> Any:
    """What decoders allocate for a while, for columns or for one picture."""
    longest = np.maximum(heights, widths) if isinstance(heights, np.ndarray) else max(heights, widths)
    held = kind.if_held * progressive * (heights + 16) * (widths + 16)
    copied = byte_counts * kind.copies
    return kind.fixed + kind.by_column * longest + kind.by_pixel * heights * widths + held + copied


def after_fit_bytes(treatment: Treatment) -> int:
    """What one thread holds for a picture's canvas and view, whatever the picture."""
    tall, wide = treatment.frame.canvas
    view = treatment.channels * treatment.size[0] * treatment.size[1]
    program = [name for name in treatment.varies if name not in GEOMETRY]
    copies = 1 + (1 if program else 0) + (4 if "jpeg" in program or treatment.own else 0)
    packed = 0 if treatment.is_canvas else 4 * tall * wide
    return treatment.channels * tall * wide + packed + view * copies + 32 * wide


def _scratch(heights: Numbers, widths: Numbers, treatment: Treatment) -> Numbers:
    """The kernel's `scratch_bytes`, bounded from above for whole columns: by the target's size on both axes."""
    frame, reach = treatment.frame, REACHES[treatment.filter]
    tall, wide = frame.canvas
    fewest_tall, fewest_wide = _fewest_pixels(heights, widths, frame)
    is_boxed = (heights > LARGEST_RATIO * fewest_tall) | (widths > LARGEST_RATIO * fewest_wide)
    boxed = np.where(is_boxed, (heights + 8) * (widths * treatment.channels + 8) + 4 * widths * treatment.channels, 0)
    boxed_tall, boxed_wide = heights, widths
    if treatment.filter != "nearest":
        boxed_tall = np.minimum(heights, LARGEST_RATIO * tall + 4 * LARGEST_RATIO * reach)
        boxed_wide = np.minimum(widths, LARGEST_RATIO * wide + 4 * LARGEST_RATIO * reach)
    tables = 8 * reach * (boxed_tall + boxed_wide) + (32 + 16 * reach) * (tall + wide) + 2048
    channels = treatment.channels
    rows = min(STRIP, tall) + 8
    widest = channels * np.maximum(boxed_wide, max(wide, rows) + 8) + 16
    planes = 2 * rows * widest
    sums = ((2 if reach == 1 else 4) + 8) * widest
    return np.asarray(boxed + tables + planes + sums + 4096, np.int64)


def _fewest_pixels(heights: Numbers, widths: Numbers, frame: Frame) -> tuple[Any, Any]:
    """On how few pixels of the canvas a picture may come to lie, down and across."""
    if frame.decodes_whole:
        return 1, 1  # what is cut from it may have any shape
    if frame.fit in ("cover", "fill"):
        return frame.view
    if frame.fit == "contain":
        scale = np.minimum(frame.view[0] / heights, frame.view[1] / widths)
    else:
        scale = frame.side / (np.minimum if frame.fit == "shortest" else np.maximum)(heights, widths)
    tall, wide = frame.canvas
    down, across = ((sides * scale + 0.5).astype(np.int64) for sides in (heights, widths))
    return np.clip(down, 1, tall), np.clip(across, 1, wide)
