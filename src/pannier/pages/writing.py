"""Writing a page: one HTML file that holds all that it needs, pictures too."""

from __future__ import annotations

import base64
import tempfile
from collections.abc import Callable, Iterable, Sequence
from concurrent.futures import ThreadPoolExecutor
from functools import cache
from importlib.resources import files
from pathlib import Path
from typing import Any

import numpy as np

from pannier import __version__
from pannier.errors import DamageError, PictureError
from pannier.files import PAGES, check_result, write_whole
from pannier.machine import usable_cores
from pannier.units import show_bytes

TEMPLATES = files("pannier.pages") / "templates"
THUMBNAIL_SIDE = 96
_QUALITY = 70
_KINDS = {"svg": "image/svg+xml", "png": "image/png", "webp": "image/webp"}


def write_page(path: str | Path, template: str, **values: Any) -> int:
    """Fills a template and writes it whole: how many bytes it has. Raises UsageError, StoreError."""
    file = Path(path)
    check_result(file, PAGES)
    content = _environment().get_template(template).render(version=__version__, **values).encode()
    write_whole(file, content)
    return len(content)


@cache
def _environment() -> Any:
    from jinja2 import Environment, FunctionLoader, StrictUndefined

    made = Environment(
        loader=FunctionLoader(lambda name: (TEMPLATES / name).read_text(encoding="utf-8")),
        autoescape=True,
        undefined=StrictUndefined,
        trim_blocks=True,
        lstrip_blocks=True,
    )
    made.filters |= {"python": repr, "number": "{:,}".format, "share": "{:.0%}".format, "bytes": show_bytes}
    return made


def embedded(content: bytes, kind: str) -> str:
    """A picture as an address that holds it; kind: "svg", "png" or "webp"."""
    return f"data:{_KINDS[kind]};base64,{base64.b64encode(content).decode()}"


def module(name: str) -> str:
    """A script of the templates as an address that holds it, for an import map."""
    return f"data:text/javascript;base64,{base64.b64encode((TEMPLATES / name).read_bytes()).decode()}"


def figure(draw: Callable[[str], None], kind: str = "svg") -> str:
    """What a function draws into a file, embedded."""
    import matplotlib

    with tempfile.TemporaryDirectory() as folder, matplotlib.rc_context({"svg.fonttype": "none"}):
        path = Path(folder) / f"figure.{kind}"
        draw(str(path))
        return embedded(path.read_bytes(), kind)


def thumbnails(pictures: Sequence[Callable[[], bytes]], side: int = THUMBNAIL_SIDE) -> list[str]:
    """Small WebP pictures, embedded, of encoded ones; "" for one that cannot be read."""
    with ThreadPoolExecutor(usable_cores()) as pool:
        parts = pool.map(lambda some: _small(some, side), _in_parts(pictures, 64))
        return [each for part in parts for each in part]


def webp(pixels: Any) -> bytes:
    """Pixels uint8 (h, w), (h, w, 1) or (h, w, 3), small in bytes."""
    import imagecodecs

    solid = pixels[..., 0] if pixels.ndim == 3 and pixels.shape[2] == 1 else pixels
    rgb = np.repeat(solid[..., None], 3, axis=2) if solid.ndim == 2 else solid
    return bytes(imagecodecs.webp_encode(np.ascontiguousarray(rgb), level=_QUALITY, lossless=False))


def _small(pictures: Iterable[Callable[[], bytes]], side: int) -> list[str]:
    from pannier.images.facts import read_facts
    from pannier.images.placement import place
    from pannier.images.prepare import Preparation
    from pannier.images.treatment import Treatment

    treatment = Treatment(side, fit="contain", values="raw", dtype="uint8", layout="hwc")
    prepared, made = Preparation(treatment), list[str]()
    for read in pictures:
        try:
            data = read()
            pixels, facts = prepared.one(data), read_facts(data)
            upright = (facts.width, facts.height) if facts.turn > 4 else (facts.height, facts.width)
            _, (height, width, above, before) = place(*upright, treatment.frame)
            pixels = pixels[above : above + height, before : before + width]
            small = webp(pixels)
        except (PictureError, DamageError):
            made.append("")
        else:
            made.append(embedded(small, "webp"))
    return made


def _in_parts(items: Sequence[Any], length: int) -> list[Sequence[Any]]:
    return [items[at : at + length] for at in range(0, len(items), length)]
