"""Pictures that a stranger made: small files that ask for much time, memory or pixels."""

from __future__ import annotations

import io
import random
import struct
import zlib
from typing import Any

import numpy as np
from PIL import Image

from tests.conftest import draw, encoded


def jpeg_of_many_scans(scans: int = 4000) -> bytes:
    whole = encoded(draw(1), "jpeg", progressive=True)
    last = whole[whole.rfind(b"\xff\xda") : -2]
    return whole[:-2] + last * scans + b"\xff\xd9"


def jpeg_of_many_plain_scans(scans: int = 4000) -> bytes:
    """Not progressive: a scan for each component, the last one again and again."""
    whole = encoded(draw(1), "jpeg")
    one, two, three = (b"\xff\xda\x00\x08\x01" + bytes((i, 0, 0, 63, 0)) + bytes(64) for i in (1, 2, 3))
    return whole[: whole.index(b"\xff\xda")] + one + two + three * scans + b"\xff\xd9"


def tiff_of_many_pages(pages: int = 5000) -> bytes:
    """A page in a few bytes, each directory after the other."""
    entries = (
        (256, 3, 1, 1),
        (257, 3, 1, 1),
        (258, 3, 1, 8),
        (259, 3, 1, 1),
        (262, 3, 1, 1),
        (273, 4, 1, 8),
        (279, 4, 1, 1),
    )
    size = 2 + 12 * len(entries) + 4
    made = bytearray(b"II*\0" + struct.pack("<I", 10) + b"\x80\0")
    for page in range(pages):
        made += struct.pack("<H", len(entries)) + b"".join(struct.pack("<HHII", *entry) for entry in entries)
        made += struct.pack("<I", 10 + (page + 1) * size if page + 1 < pages else 0)
    return bytes(made)


def ppm_of_a_long_comment(letters: int = 20_000_000) -> bytes:
    return b"P6\n#" + b"x" * letters + b"\n2 2\n255\n" + bytes(12)


def png_of_a_large_header(side: int = 9_900) -> bytes:
    return png(struct.pack(">IIBBBBB", side, side, 8, 6, 0, 0, 0), zlib.compress(bytes(1000)))


def png(header: bytes, pixels: bytes) -> bytes:
    chunks = ((b"IHDR", header), (b"IDAT", pixels), (b"IEND", b""))
    parts = (
        struct.pack(">I", len(data)) + name + data + struct.pack(">I", zlib.crc32(name + data)) for name, data in chunks
    )
    return b"\x89PNG\r\n\x1a\n" + b"".join(parts)


def good(rng: random.Random) -> bytes:
    """A small whole picture, of any format and color mode."""
    pixels = draw(rng.randrange(50), rng.randrange(8, 60), rng.randrange(8, 60))
    kind, mode = rng.choice(
        [
            ("jpeg", "RGB"),
            ("jpeg", "L"),
            ("jpeg", "CMYK"),
            ("png", "RGB"),
            ("png", "RGBA"),
            ("png", "P"),
            ("png", "1"),
            ("png", "LA"),
        ]
        + [("webp", "RGB"), ("webp", "RGBA"), ("bmp", "RGB"), ("bmp", "P"), ("gif", "P"), ("ppm", "RGB"), ("ppm", "L")]
        + [("tiff", mode) for mode in ("RGB", "L", "1", "P", "CMYK", "RGBA")]
    )
    options: dict[str, Any] = {"progressive": rng.random() < 0.3, "quality": rng.choice((40, 90))} if kind == "jpeg" else {}
    if kind == "tiff":
        options = {"compression": rng.choice((None, "tiff_lzw", "tiff_deflate", "packbits"))}
    if kind == "png" and rng.random() < 0.2:
        deep = np.asarray(Image.fromarray(pixels).convert("L")).astype(np.uint16) * 257
        return _saved(Image.fromarray(deep), "png", {})
    return _saved(Image.fromarray(pixels).convert(mode), kind, options)


def _saved(image: Image.Image, kind: str, options: dict[str, Any]) -> bytes:
    sink = io.BytesIO()
    image.save(sink, kind, **options)
    return sink.getvalue()
