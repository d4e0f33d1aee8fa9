"""Pictures as they come from everywhere: of many formats, modes, turns and sizes, none as large as the next."""

from __future__ import annotations

import io
from pathlib import Path

import cv2
import numpy as np
from PIL import Image

# ending, mode, how it is saved
Form = tuple[str, str, dict[str, object]]

FORMS: tuple[Form, ...] = (
    *(("png", mode, {"compress_level": 1}) for mode in ("RGB", "RGBA", "P", "L", "LA", "1", "16")),
    *(("webp", mode, {"method": 0, **how}) for mode in ("RGB", "RGBA") for how in ({}, {"lossless": True})),
    ("jpeg", "RGB", {"progressive": True}),
    ("jpeg", "RGB", {"exif": 6}),
    ("jpeg", "L", {}),
    ("jpeg", "CMYK", {}),
    *(("bmp", "RGB", {}), ("gif", "P", {}), ("tiff", "RGB", {"compression": "tiff_lzw"})),
)


def write_varied(
    folder: Path, count: int, seed: int = 0, forms: tuple[tuple[str, str, dict[str, object]], ...] = FORMS
) -> Path:
    """So many pictures of 160 to 520 pixels a side in class folders, one form after another."""
    rng = np.random.default_rng(seed)
    for number in range(count):
        ending, mode, how = forms[number % len(forms)]
        tall, wide = (int(side) for side in rng.integers(160, 520, 2))
        smooth = Image.fromarray(rng.integers(0, 256, (9, 12, 3), dtype=np.uint8))
        path = folder / f"class{number % 3}" / f"{number}.{ending}"
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_bytes(_encoded(smooth.resize((wide, tall), Image.Resampling.BICUBIC), ending, mode, dict(how)))
    return folder


def _encoded(image: Image.Image, ending: str, mode: str, how: dict[str, object]) -> bytes:
    if mode == "16":
        return bytes(cv2.imencode(".png", np.asarray(image).astype(np.uint16) * 257)[1])
    if "exif" in how:
        turned = Image.Exif()
        turned[274] = how["exif"]
        how["exif"] = turned.tobytes()
    sink = io.BytesIO()
    image.convert(mode).save(sink, ending, **how)
    return sink.getvalue()
