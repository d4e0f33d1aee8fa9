"""What it costs in memory to decode pictures, known from their facts alone, for whole columns of them at once."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np

from pannier.images.placement import reduction

# as in the kernel, which is not imported for it: target rows that are worked on at once
STRIP = 256

if TYPE_CHECKING:
    from pannier.images.treatment import Treatment

Numbers = np.ndarray[Any, np.dtype[np.int64]]

# what libjpeg holds beside the pixels: a few rows of every component, and its tables; measured by bench/memory.py
JPEG_ROWS = 48
JPEG_TABLES = 256 << 10
# Pillow's own pixels, the copy handed to NumPy (made in pieces, then joined), a conversion between, the result
PILLOW_BYTES_PER_PIXEL = 4 + 2 * 4 + 4 + 3
# 16 bits a channel through OpenCV: pixels of up to 8 bytes, reordered, and the result
DEEP_BYTES_PER_PIXEL = 8 + 8 + 4
BAND_BYTES = 4 << 20


@dataclass(frozen=True)
class Costs:
    """Bytes by record: `own` go into buffers of ours, `allocated` are taken and freed by the decoder."""

    own: Numbers
    allocated: Numbers
    scratch: Numbers


def decoding_costs(
    formats: np.ndarray[Any, Any],
    modes: np.ndarray[Any, Any],
    heights: Numbers,
    widths: Numbers,
    turns: Numbers,
    progressive: np.ndarray[Any, Any],
    byte_counts: Numbers,
    treatment: Treatment,
) -> Costs:
    """Upper bounds by record. `formats` and `modes` are arrays of names; heights and widths those of upright pictures."""
    heights, widths = heights.astype(np.int64), widths.astype(np.int64)
    pixels = heights * widths
    channels = treatment.channels
    planned = (formats == "jpeg") & np.isin(modes, ["ycbcr", "gray"])
    by = np.where(planned, reduction(heights, widths, treatment.size, treatment.fit), 1)
    decoded_height, decoded_width = -(-heights // by), -(-widths // by)
    decoded = decoded_height * decoded_width * channels
    turned = np.where(turns > 1, decoded, 0)

    coefficients = np.where(modes == "gray", 2, 6) * (heights + 16) * (widths + 16)
    components = np.where(modes == "gray", 1, 3)
    in_libjpeg = JPEG_TABLES + JPEG_ROWS * components * np.maximum(heights, widths)
    in_libjpeg = in_libjpeg + np.where(progressive, coefficients, 0)
    deep = np.char.find(modes.astype(str), "16") >= 0
    in_pillow = BAND_BYTES + byte_counts + pixels * np.where(deep, DEEP_BYTES_PER_PIXEL, PILLOW_BYTES_PER_PIXEL)

    own = np.where(planned, decoded, 0) + turned
    allocated = np.where(planned, in_libjpeg, in_pillow)
    return Costs(own, allocated, _scratch(decoded_height, decoded_width, treatment))


def _scratch(heights: Numbers, widths: Numbers, treatment: Treatment) -> Numbers:
    """The kernel's `scratch_bytes`, bounded from above for whole columns: by the target's size on both axes."""
    tall, wide = treatment.size
    if treatment.fit == "contain":  # the inner picture may be as small as one pixel on one axis
        scale = np.minimum(tall / heights, wide / widths)
        inner_tall = np.clip((heights * scale + 0.5).astype(np.int64), 1, tall)
        inner_wide = np.clip((widths * scale + 0.5).astype(np.int64), 1, wide)
    else:
        inner_tall, inner_wide = np.full_like(heights, tall), np.full_like(widths, wide)
    down = np.maximum(1, -(-heights // (16 * inner_tall)))
    across = np.maximum(1, -(-widths // (16 * inner_wide)))
    boxed_tall, boxed_wide = -(-heights // down), -(-widths // across)
    boxed = np.where((down > 1) | (across > 1), (boxed_tall + 8) * (boxed_wide * treatment.channels + 8), 0)
    tables = 8 * (boxed_tall + boxed_wide) + 48 * (tall + wide) + 2048
    channels = treatment.channels
    rows = min(STRIP, tall) + 8
    widest = channels * np.maximum(boxed_wide, max(wide, rows) + 8) + 16
    planes = 2 * rows * widest
    sums = (2 + 8) * widest
    return np.asarray(boxed + tables + planes + sums + 4096, np.int64)
