"""Pixels of any depth and color to what is wanted of them: 8 bits of red, green and blue, or of gray."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any, Literal

import numpy as np

Color = Literal["rgb", "gray"]
Pixels = np.ndarray[Any, np.dtype[np.uint8]]
Background = tuple[int, int, int]

WHITE = (255, 255, 255)

# pixels that are computed on at once in numbers of more than 8 bits
BAND_PIXELS = 1 << 13


def bands(height: int, width: int) -> Iterator[tuple[int, int]]:
    """Rows from and to, so few at once that wide numbers of them take little memory."""
    rows = max(1, BAND_PIXELS // max(1, width))
    for top in range(0, height, rows):
        yield top, min(height, top + rows)


def plain(pixels: np.ndarray[Any, Any], color: Color, background: Background = WHITE) -> Pixels:
    """8 or 16 bits; gray, gray and alpha, colors, or colors and alpha: uint8 (h, w, 3) for "rgb", (h, w) for "gray"."""
    if pixels.dtype != np.uint8:
        pixels = from_16_bits(pixels)
    if pixels.ndim == 3 and pixels.shape[2] == 2:
        pixels = pixels[..., [0, 0, 0, 1]]
    if pixels.ndim == 3 and pixels.shape[2] == 4:
        pixels = lay_over(pixels, background)
    return to_gray(pixels) if color == "gray" else to_rgb(pixels)


def to_rgb(pixels: Pixels) -> Pixels:
    return np.repeat(pixels[..., None], 3, axis=2) if pixels.ndim == 2 else pixels


def to_gray(pixels: Pixels) -> Pixels:
    """ITU-R BT.601 luma in integers: (19595 R + 38470 G + 7471 B + 32768) >> 16."""
    if pixels.ndim == 2:
        return pixels
    out = np.empty(pixels.shape[:2], np.uint8)
    for top, end in bands(*out.shape):
        wide = pixels[top:end].astype(np.uint32)
        weighed = wide[..., 0] * np.uint32(19595) + wide[..., 1] * np.uint32(38470) + wide[..., 2] * np.uint32(7471)
        out[top:end] = (weighed + np.uint32(32768)) >> np.uint32(16)
    return out


def from_16_bits(pixels: np.ndarray[Any, Any]) -> Pixels:
    """round(v / 257), so that 0 stays 0 and 65535 becomes 255."""
    return ((np.clip(pixels, 0, 65535).astype(np.uint32) + np.uint32(128)) // np.uint32(257)).astype(np.uint8)


def from_cmyk(pixels: Pixels) -> Pixels:
    """Each of R, G, B is (255 - ink) * (255 - black) / 255, rounded; embedded profiles play no part."""
    light = np.uint32(255) - pixels.astype(np.uint32)
    return ((light[..., :3] * light[..., 3:] + np.uint32(127)) // np.uint32(255)).astype(np.uint8)


def lay_over(pixels: Pixels, background: Background) -> Pixels:
    """Transparency over a background: (v * a + b * (255 - a)) / 255, rounded."""
    alpha = pixels[..., 3:].astype(np.uint32)
    under = np.asarray(background, np.uint32) * (np.uint32(255) - alpha)
    return ((pixels[..., :3] * alpha + under + np.uint32(127)) // np.uint32(255)).astype(np.uint8)
