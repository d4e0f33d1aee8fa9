"""What it costs in memory to decode pictures, known from their facts alone, for whole columns of them at once."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from pannier.array_types import Flags, Numbers
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
# Pillow's own pixels (WebP: three canvases of them), the copy handed to NumPy, made in pieces and joined, and the result
PILLOW_BYTES_PER_PIXEL = 26
# 16 bits a channel through OpenCV: pixels of up to 8 bytes, reordered, and the result
DEEP_BYTES_PER_PIXEL = 8 + 8 + 4
BAND_BYTES = 4 << 20


@dataclass(frozen=True)
class Costs:
    """Bytes by record: `own` in buffers of ours, `allocated` by the decoder for a while, `scratch` for the kernel."""

    own: Numbers
    allocated: Numbers
    scratch: Numbers


@dataclass(frozen=True)
class Kinds:
    """By record, from its format and mode: decodes into our own buffer, is gray, has 16 bits a channel. Or of one alone."""

    planned: Flags | bool
    gray: Flags | bool
    deep: Flags | bool


def kind_of(format: str, mode: str) -> tuple[bool, bool, bool]:
    """(planned, gray, deep) of one format and mode, as `decode` takes them."""
    return format == "jpeg" and mode in ("ycbcr", "gray"), mode == "gray", "16" in mode


def decoding_costs(
    kinds: Kinds,
    heights: Numbers,
    widths: Numbers,
    turns: Numbers,
    progressive: Flags,
    byte_counts: Numbers,
    treatment: Treatment,
) -> Costs:
    """Upper bounds by record. Heights and widths are those of upright pictures, in pixels."""
    heights, widths = heights.astype(np.int64), widths.astype(np.int64)
    by = np.where(kinds.planned, reduction(heights, widths, treatment.frame), 1)
    decoded_height, decoded_width = -(-heights // by), -(-widths // by)
    area = decoded_height * decoded_width
    decoded = area * (3 if treatment.gray_weights is not None else treatment.channels)
    turned = np.where(turns > 1, decoded, 0)
    evened = area * (treatment.channels + 2) if has_tone(treatment) else 0 * area
    cut = decoded * (3 * len(treatment.own_at("decoded")) + 1) if treatment.frame.decodes_whole else 0 * area
    cut = cut + area if treatment.gray_weights is not None else cut

    own = np.where(kinds.planned, decoded, 0) + turned + evened + cut + after_fit_bytes(treatment)
    allocated = _in_decoders(kinds, heights, widths, progressive, byte_counts)
    allocated = allocated + (area if treatment.tone == "clahe" else 0)
    return Costs(own, allocated, _scratch(decoded_height, decoded_width, treatment))


def checking_cost(facts: Facts, byte_count: int) -> int:
    """Upper bound for one picture that is decoded to gray and hashed, its file too."""
    kinds = Kinds(*kind_of(facts.format, facts.mode))
    in_decoder = _in_decoders(kinds, facts.height, facts.width, facts.progressive, byte_count)
    return int(in_decoder) + byte_count + 2 * facts.height * facts.width


def recoding_cost(facts: Facts, byte_count: int) -> int:
    """Upper bound for one picture that is decoded by Pillow, whatever its format, and saved anew."""
    return BAND_BYTES + 3 * byte_count + PILLOW_BYTES_PER_PIXEL * facts.height * facts.width


def _in_decoders(kinds: Kinds, heights: Any, widths: Any, progressive: Any, byte_counts: Any) -> Any:
    """What decoders allocate for a while, for columns or for one picture."""
    where, larger = (np.where, np.maximum) if isinstance(heights, np.ndarray) else (_where, max)
    in_libjpeg = JPEG_TABLES + JPEG_ROWS * 3 * larger(heights, widths)
    coefficients = where(kinds.gray, 2, 6) * (heights + 16) * (widths + 16)
    in_libjpeg = in_libjpeg + where(progressive, coefficients, 0)
    per_pixel = where(kinds.deep, DEEP_BYTES_PER_PIXEL, PILLOW_BYTES_PER_PIXEL)
    return where(kinds.planned, in_libjpeg, BAND_BYTES + byte_counts + heights * widths * per_pixel)


def _where(condition: Any, yes: int, no: int) -> int:
    """np.where of one, in a hundredth of the time."""
    return yes if condition else no


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
