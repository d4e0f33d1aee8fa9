"""Swatches of cloth, drawn thread by thread from their weave drafts."""

from __future__ import annotations

from typing import Any

import cv2
import numpy as np

Image = np.ndarray[Any, np.dtype[np.uint8]]
WeavingDraft = np.ndarray[Any, np.dtype[np.bool_]]

# pixels of a thread before the swatch is photographed
_THREAD = 8

_YARNS = (
    (232, 224, 206),  # raw linen
    (196, 178, 148),  # oat
    (92, 74, 58),  # peat
    (38, 44, 58),  # indigo black
    (52, 84, 122),  # woad
    (128, 46, 44),  # madder
    (178, 132, 58),  # weld
    (84, 100, 74),  # moss
    (148, 142, 150),  # slate
    (206, 170, 164),  # heather
)


def _plain() -> WeavingDraft:
    return np.indices((2, 2)).sum(0) % 2 == 0


def _twill() -> WeavingDraft:
    weft, warp = np.indices((4, 4))
    return (warp - weft) % 4 < 2


def _satin() -> WeavingDraft:
    """Eight ends, moved by three: the warp floats over seven wefts and the binding points never touch."""
    weft, warp = np.indices((8, 8))
    return warp != weft * 3 % 8


def _basket() -> WeavingDraft:
    weft, warp = np.indices((4, 4))
    return (weft // 2 + warp // 2) % 2 == 0


def _herringbone() -> WeavingDraft:
    """A 2/2 twill that turns round every eight ends, with the clean break at the turn."""
    weft, warp = np.indices((4, 16))
    rising = (warp - weft) % 4 < 2
    falling = (-warp - weft + 1) % 4 < 2
    return np.where(warp < 8, rising, falling)


def _rib() -> WeavingDraft:
    """Two wefts in each shed: ribs that run along the weft."""
    weft, warp = np.indices((4, 2))
    return (weft // 2 + warp) % 2 == 0


DRAFTS = {
    "plain": _plain(),
    "twill": _twill(),
    "satin": _satin(),
    "basket": _basket(),
    "herringbone": _herringbone(),
    "rib": _rib(),
}


def draw_swatch(weave: str, height: int, width: int, rng: np.random.Generator) -> Image:
    """A photograph of a swatch: uint8 RGB (height, width, 3). All chance comes from `rng`."""
    pitch = float(rng.uniform(5.5, 11.0)) * (max(height, width) / 480) ** 0.5
    cloth = _cloth(DRAFTS[weave], int(np.hypot(height, width) / pitch) + 8, rng)
    photo = _photographed(cloth, height, width, pitch / _THREAD, float(rng.normal(0, 4)))
    return _lit(photo, rng)


def _cloth(draft: WeavingDraft, threads: int, rng: np.random.Generator) -> Image:
    """Flat cloth of `threads` by `threads`, from above, evenly lit: uint8 RGB."""
    warp_is_up = np.tile(draft, (threads // draft.shape[0] + 1, threads // draft.shape[1] + 1))[:threads, :threads]
    shade = _relief(draft)
    shade = np.tile(shade, (threads // draft.shape[0] + 1, threads // draft.shape[1] + 1))
    shade = shade[: threads * _THREAD, : threads * _THREAD]
    warp_color, weft_color = (np.array(_YARNS[i], np.float32) for i in rng.choice(len(_YARNS), 2, replace=False))
    if rng.random() < 0.45:  # warp and weft of nearly one color, as in most cloth
        weft_color = np.clip(warp_color * rng.uniform(0.75, 1.2), 0, 255)
    warps = warp_color * rng.normal(1, 0.045, (threads, 1)).astype(np.float32)
    wefts = weft_color * rng.normal(1, 0.045, (threads, 1)).astype(np.float32)
    colors = np.where(warp_is_up[..., None], warps[None, :], wefts[:, None]).astype(np.float32)
    flat = cv2.resize(colors, (threads * _THREAD, threads * _THREAD), interpolation=cv2.INTER_NEAREST)
    return np.clip(cv2.multiply(flat, cv2.merge([shade, shade, shade])), 0, 255).astype(np.uint8)


def _relief(draft: WeavingDraft) -> np.ndarray[Any, np.dtype[np.float32]]:
    """How light each point of one repeat is: round threads that dip where they go under, with the twist of the yarn."""
    middle = (np.arange(_THREAD) + 0.5) / _THREAD
    across = np.sqrt(np.clip(1 - (2 * middle - 1) ** 2, 0.02, 1))
    rows, columns = draft.shape
    relief = np.empty((rows * _THREAD, columns * _THREAD), np.float32)
    twist = 0.055 * np.sin(2 * np.pi * (2 * middle[:, None] + middle[None, :]))
    for i in range(rows):
        for j in range(columns):
            up = draft[i, j]
            before, after = (
                (draft[i - 1, j], draft[(i + 1) % rows, j]) if up else (draft[i, j - 1], draft[i, (j + 1) % columns])
            )
            along = np.ones(_THREAD)
            if before != up:
                along = np.minimum(along, 0.55 + 0.45 * np.sin(np.pi / 2 * np.clip(middle * 2.2, 0, 1)))
            if after != up:
                along = np.minimum(along, 0.55 + 0.45 * np.sin(np.pi / 2 * np.clip((1 - middle) * 2.2, 0, 1)))
            cell = np.outer(along, across) if up else np.outer(across, along)
            cell = cell * (1.04 if up else 0.94) + (twist if up else twist.T)
            relief[i * _THREAD : (i + 1) * _THREAD, j * _THREAD : (j + 1) * _THREAD] = cell
    return relief


def _photographed(cloth: Image, height: int, width: int, scale: float, tilt: float) -> Image:
    """The cloth as a camera sees it: scaled, a little tilted, in the middle of the picture."""
    if scale < 1:
        cloth = cv2.resize(cloth, None, fx=scale, fy=scale, interpolation=cv2.INTER_AREA).astype(np.uint8)
        scale = 1.0
    middle = (cloth.shape[1] / 2, cloth.shape[0] / 2)
    turn = cv2.getRotationMatrix2D(middle, tilt, scale)
    turn[:, 2] += width / 2 - middle[0], height / 2 - middle[1]
    photo = cv2.warpAffine(cloth, turn, (width, height), flags=cv2.INTER_LINEAR, borderMode=cv2.BORDER_REFLECT)
    return np.asarray(photo, np.uint8)


def _lit(photo: Image, rng: np.random.Generator) -> Image:
    """Light from one side, a warm or cold lamp, the camera's noise."""
    height, width = photo.shape[:2]
    angle, fall = rng.uniform(0, 2 * np.pi), rng.uniform(0.05, 0.28)
    y, x = np.linspace(-1, 1, height, dtype=np.float32), np.linspace(-1, 1, width, dtype=np.float32)
    light = 1 + np.float32(fall) * (np.float32(np.cos(angle)) * x[None, :] + np.float32(np.sin(angle)) * y[:, None])
    lamp = np.float32(rng.uniform(0.8, 1.08)) * np.array([rng.uniform(0.95, 1.05), 1.0, rng.uniform(0.93, 1.05)], np.float32)
    noise = np.empty(photo.shape, np.int16)
    cv2.setRNGSeed(int(rng.integers(1 << 31)))
    cv2.randn(noise, (0.0, 0.0, 0.0), (float(rng.uniform(1.5, 5)),) * 3)
    lit = photo.astype(np.float32) * (light[..., None] * lamp) + noise
    return np.clip(lit, 0, 255).astype(np.uint8)
