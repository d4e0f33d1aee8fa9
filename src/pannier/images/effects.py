"""What is done to a view's pixels after the warp: light, blur, noise, JPEG artifacts, erased boxes, own steps."""

from __future__ import annotations

from functools import cache
from statistics import NormalDist
from typing import Any

import numpy as np

from pannier.array_types import Array
from pannier.hashing import mix
from pannier.images.chance import Blotted, Light
from pannier.images.own_steps import call, registered
from pannier.images.tone import gamma_table
from pannier.images.treatment import Treatment


@cache
def normal_table() -> Array:
    """The normal distribution's inverse at (i + 1/2) / 4096, int32 with 16 bits behind the point."""
    normal = NormalDist()
    return np.array([round(normal.inv_cdf((i + 0.5) / 4096) * 65536) for i in range(4096)], np.int32)


@cache
def _no_tables(stages: int) -> tuple[Array, Array]:
    return np.zeros((stages, 256), np.uint8), np.zeros(stages, bool)


class Effects:
    """Runs programs on views, uint8 (channels, H, W). Not for several threads at once: it keeps its room."""

    def __init__(self, treatment: Treatment) -> None:
        from pannier.images.kernels import pixels

        self._kernels = pixels
        self._channels, self._size = treatment.channels, treatment.size
        self._own = {step.name: registered(step) for step in treatment.own_at("light")}
        self._other = np.empty((0, 0, 0), np.uint8)

    def run(self, view: Array, program: tuple[tuple[str, Any], ...]) -> Array:
        """The view after every step; the array given is overwritten, and the one given back is valid until the next call."""
        if self._other.shape != view.shape:
            self._other = np.empty_like(view)
        spare = self._other
        for name, what in program:
            if name == "light":
                self._light(view, what, spare)
                view, spare = spare, view
            elif name == "erase":
                self._erase(view, what)
            elif name == "noise":
                self._noise(view, float(what[0]), int(what[1]))
            elif name == "own":
                view = self._own_step(view, *what)
            else:
                view = (self._blur if name == "blur" else self._jpeg)(view, what)
        return view

    def _light(self, view: Array, what: Light, out: Array) -> None:
        tables, has_table = _no_tables(len(what.gammas))
        if any(what.gammas):
            has_table = np.array(what.gammas) != 0
            tables = np.stack([gamma_table(gamma or 1.0) for gamma in what.gammas])
        flat = (self._channels, -1)
        self._kernels.light(view.reshape(flat), what.matrices, tables, has_table, out.reshape(flat))

    def _blur(self, view: Array, sigma: float) -> Array:
        """Gaussian, sigma in shares of the shorter side; mirrored at the edges."""
        import cv2

        pixels = sigma * min(self._size)
        if pixels >= 0.05:
            for plane in view:
                cv2.GaussianBlur(plane, (0, 0), pixels, dst=plane, borderType=cv2.BORDER_REFLECT_101)
        return view

    def _noise(self, view: Array, deviation: float, seed: int) -> None:
        """Normal, of this deviation in shares of full white, for every pixel and channel apart."""
        amount = round(deviation * 255 * 256)
        if amount:
            self._kernels.add_noise(view.reshape(-1), np.uint64(seed), normal_table(), amount)

    def _jpeg(self, view: Array, quality: float) -> Array:
        """Through JPEG of that quality and back; color at half resolution, as cameras store it."""
        import simplejpeg

        kind, subsampling = ("GRAY", "Gray") if self._channels == 1 else ("RGB", "420")
        woven = np.ascontiguousarray(np.moveaxis(view, 0, -1))
        data = simplejpeg.encode_jpeg(woven, int(quality), kind, subsampling)
        view[:] = np.moveaxis(simplejpeg.decode_jpeg(data, kind), -1, 0)
        return view

    def _erase(self, view: Array, blotted: Blotted) -> None:
        for i, (top, left, height, width) in enumerate(blotted.boxes):
            field = view[:, top : top + height, left : left + width]
            if isinstance(blotted.fill, int):
                words = (field.size + 7) // 8
                field[:] = _random_bytes(mix((blotted.fill + i) & ((1 << 64) - 1)), words)[: field.size].reshape(field.shape)
            else:
                color = np.array(blotted.fill, np.uint8)
                field[:] = (color if self._channels == 3 else _luma(blotted.fill))[:, None, None]

    def _own_step(self, view: Array, name: str, seed: int) -> Array:
        view[:] = np.moveaxis(call(self._own[name], np.moveaxis(view, 0, -1), seed), -1, 0)
        return view


def _luma(color: tuple[int, int, int]) -> Array:
    from pannier.images.colors import to_gray

    return to_gray(np.array([[color]], np.uint8)).ravel()


def _random_bytes(seed: int, words: int) -> Array:
    """The bytes of SplitMix64's numbers from a seed, low byte first."""
    state = (np.uint64(seed) + np.arange(1, words + 1, dtype=np.uint64) * np.uint64(0x9E3779B97F4A7C15)).astype(np.uint64)
    state ^= state >> np.uint64(30)
    state *= np.uint64(0xBF58476D1CE4E5B9)
    state ^= state >> np.uint64(27)
    state *= np.uint64(0x94D049BB133111EB)
    state ^= state >> np.uint64(31)
    return state.astype("<u8").view(np.uint8)
