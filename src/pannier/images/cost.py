"""What it costs in memory to decode pictures, known from their facts alone, for whole columns of them at once."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np

from pannier.images.placement import reduction

# as in the kernels, which are not imported for it
STRIP = 256
LARGEST_RATIO = 16

if TYPE_CHECKING:
    from pannier.images.treatment import Treatment

Numbers = np.ndarray[Any, np.dtype[np.int64]]
Flags = np.ndarray[Any, np.dtype[np.bool_]]

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
    """By record, from its format and mode: decodes into our own buffer, is gray, has 16 bits a channel."""

    planned: Flags
    gray: Flags
    deep: Flags


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
    pixels = heights * widths
    by = np.where(kinds.planned, reduction(heights, widths, treatment.size, treatment.fit), 1)
    decoded_height, decoded_width = -(-heights // by), -(-widths // by)
    decoded = decoded_height * decoded_width * treatment.channels
    turned = np.where(turns > 1, decoded, 0)

    in_libjpeg = JPEG_TABLES + JPEG_ROWS * 3 * np.maximum(heights, widths)
    coefficients = np.where(kinds.gray, 2, 6) * (heights + 16) * (widths + 16)
    in_libjpeg += np.where(progressive, coefficients, 0)
    in_pillow = BAND_BYTES + byte_counts + pixels * np.where(kinds.deep, DEEP_BYTES_PER_PIXEL, PILLOW_BYTES_PER_PIXEL)

    own = np.where(kinds.planned, decoded, 0) + turned
    allocated = np.where(kinds.planned, in_libjpeg, in_pillow)
    return Costs(own, allocated, _scratch(decoded_height, decoded_width, treatment))


def _scratch(heights: Numbers, widths: Numbers, treatment: Treatment) -> Numbers:
    """The kernel's `scratch_bytes`, bounded from above for whole columns: by the target's size on both axes."""
    tall, wide = treatment.size
    if treatment.fit == "contain":  # the inner picture may be as small as one pixel on one axis
        scale = np.minimum(tall / heights, wide / widths)
        inner_tall: Any = np.clip((heights * scale + 0.5).astype(np.int64), 1, tall)
        inner_wide: Any = np.clip((widths * scale + 0.5).astype(np.int64), 1, wide)
    else:
        inner_tall, inner_wide = tall, wide
    is_boxed = (heights > LARGEST_RATIO * inner_tall) | (widths > LARGEST_RATIO * inner_wide)
    boxed = np.where(is_boxed, (heights + 8) * (widths * treatment.channels + 8) + 4 * widths * treatment.channels, 0)
    boxed_tall = np.minimum(heights, LARGEST_RATIO * inner_tall + 4 * LARGEST_RATIO)
    boxed_wide = np.minimum(widths, LARGEST_RATIO * inner_wide + 4 * LARGEST_RATIO)
    tables = 8 * (boxed_tall + boxed_wide) + 48 * (tall + wide) + 2048
    channels = treatment.channels
    rows = min(STRIP, tall) + 8
    widest = channels * np.maximum(boxed_wide, max(wide, rows) + 8) + 16
    planes = 2 * rows * widest
    sums = (2 + 8) * widest
    return np.asarray(boxed + tables + planes + sums + 4096, np.int64)
