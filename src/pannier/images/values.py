"""Values: from uint8 pixels to the numbers of a prepared array, and back."""

from __future__ import annotations

import numpy as np

from pannier.array_types import Array
from pannier.errors import TreatmentError
from pannier.images.fields import TreatmentFields

# what "per_picture" comes back to for looking at, since each picture's own mean and deviation are gone
SHOWN_MEAN, SHOWN_STD = 127.5, 64.0
# a picture with a smaller deviation (on the scale 0..255) is divided by this: a constant one becomes zeros
SMALLEST_STD = 1.0


def is_line(treatment: TreatmentFields) -> bool:
    """Whether a value is float32(pixel) * scale + offset in the array's own dtype."""
    return treatment.values not in ("table", "per_picture") and treatment.dtype != "float16"


def value_line(treatment: TreatmentFields) -> tuple[Array, Array]:
    """float32 (scale, offset) by channel, computed in float64. Raises TreatmentError for values that are no line."""
    scale, offset = np.ones(treatment.channels), np.zeros(treatment.channels)
    if treatment.values == "unit":
        scale /= 255
    elif treatment.values == "signed":
        scale, offset = scale * 2 / 255, offset - 1
    elif treatment.values == "standard":
        scale, offset = 1 / (255 * np.array(treatment.std)), -np.array(treatment.mean) / np.array(treatment.std)
    elif treatment.values != "raw":
        raise TreatmentError(f'values = "{treatment.values}" are no line: they have no scale and offset')
    return scale.astype(np.float32), offset.astype(np.float32)


def value_table(treatment: TreatmentFields) -> Array:
    """The value of each pixel 0..255 by channel, (channels, 256), float32 or float16: rounded once from float32."""
    if treatment.values == "table":
        rows = np.array(treatment.table, np.float32)
        table = np.repeat(rows, treatment.channels, axis=0) if len(rows) < treatment.channels else rows
    else:
        scale, offset = value_line(treatment)
        table = np.arange(256, dtype=np.float32) * scale[:, None] + offset[:, None]
    return np.ascontiguousarray(table.astype(treatment.dtype))


def own_line(total: int, squares: int, count: int) -> tuple[float, float]:
    """(scale, offset) that standardize one picture's channel by its own mean and deviation, from whole numbers."""
    mean = total / count
    std = max(SMALLEST_STD, max(0.0, count * squares - total * total) ** 0.5 / count)
    return 1 / std, -mean / std


def undone(treatment: TreatmentFields, images: Array) -> Array:
    """See `Treatment.undo`."""
    if treatment.layout == "chw":
        images = np.moveaxis(images, -3, -1)
    if treatment.values == "per_picture":
        return _rounded(images.astype(np.float32) * np.float32(SHOWN_STD) + np.float32(SHOWN_MEAN))
    if treatment.values == "table":
        return _nearest(images.astype(np.float32), value_table(treatment).astype(np.float32))
    scale, offset = value_line(treatment)
    return _rounded((images.astype(np.float32) - offset) / scale)


def _rounded(pixels: Array) -> Array:
    return np.clip(np.rint(pixels), 0, 255).astype(np.uint8)


def _nearest(images: Array, table: Array) -> Array:
    """The pixel whose value is nearest, the lowest of several."""
    pixels = np.empty(images.shape, np.uint8)
    for channel, row in enumerate(table):
        order = np.argsort(row, kind="stable")
        values = row[order]
        middles = (values[1:] + values[:-1]) / 2
        pixels[..., channel] = order[np.searchsorted(middles, images[..., channel])]
    return pixels
