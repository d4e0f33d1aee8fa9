"""Made-up pictures for benchmarks: photograph-like, 500 x 375, about 54 KB as JPEG."""

from __future__ import annotations

from pathlib import Path

import cv2
import numpy as np

HEIGHT, WIDTH = 375, 500


def photograph(seed: int, height: int = HEIGHT, width: int = WIDTH) -> np.ndarray:
    rng = np.random.default_rng(seed)
    coarse = rng.integers(0, 256, (24, 32, 3), dtype=np.uint8)
    smooth = cv2.resize(coarse, (width, height), interpolation=cv2.INTER_CUBIC)
    noise = rng.normal(0, 6, (height, width, 3))
    return np.clip(smooth + noise, 0, 255).astype(np.uint8)


QUALITY = {".jpg": cv2.IMWRITE_JPEG_QUALITY, ".webp": cv2.IMWRITE_WEBP_QUALITY}


def write_archive(
    folder: Path, count: int, height: int = HEIGHT, width: int = WIDTH, quality: int = 84, ending: str = ".jpg"
) -> Path:
    """Class folders of files, evenly filled."""
    for i in range(count):
        path = folder / f"class{i % 4}" / f"{i:06}{ending}"
        path.parent.mkdir(parents=True, exist_ok=True)
        picture = photograph(i, height, width)
        cv2.imwrite(str(path), picture, [QUALITY[ending], quality] if ending in QUALITY else [])
    return folder
