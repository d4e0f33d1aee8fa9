"""Labelled folders of pictures that a stranger might have: many formats and sizes, drawn by Pillow alone."""

from __future__ import annotations

import random
from pathlib import Path

from PIL import Image, ImageDraw


def picture(seed: int) -> Image.Image:
    """Some rectangles and circles of any colors."""
    rng = random.Random(seed)
    width, height = rng.randint(60, 320), rng.randint(60, 320)
    image = Image.new("RGB", (width, height), tuple(rng.randrange(256) for _ in range(3)))
    pen = ImageDraw.Draw(image)
    for _ in range(12):
        x, y = rng.randrange(width), rng.randrange(height)
        box = (x, y, x + rng.randint(5, width), y + rng.randint(5, height))
        (pen.ellipse if rng.random() < 0.5 else pen.rectangle)(box, tuple(rng.randrange(256) for _ in range(3)))
    return image


def fill(folder: Path, count: int, first: int = 0) -> None:
    """So many pictures in three class folders, in five formats."""
    for number in range(first, first + count):
        rng = random.Random(number)
        ending = rng.choice(["jpg", "jpeg", "png", "webp", "bmp"])
        path = folder / rng.choice(["cat", "dog", "bird"]) / f"im {number:04}.{ending}"
        path.parent.mkdir(parents=True, exist_ok=True)
        picture(number).save(path)
