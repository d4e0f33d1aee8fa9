"""PNG, BMP and PNM files to the byte, as their standards have them, so that what they mean is known without a decoder."""

from __future__ import annotations

import struct
import zlib

import numpy as np


def packed_rows(values: np.ndarray, bits: int, multiple: int = 1, before: bytes = b"") -> list[bytes]:
    """Rows of whole numbers (h, w) of so many bits each, the first in the high bits; filled up to a multiple of bytes."""
    rows = []
    for row in values.tolist():
        text = "".join(f"{value:0{bits}b}" for value in row)
        text += "0" * (-len(text) % 8)
        held = bytes(int(text[at : at + 8], 2) for at in range(0, len(text), 8))
        rows.append(before + held + bytes(-len(held) % multiple))
    return rows


def png(size: tuple[int, int], bits: int, kind: int, rows: list[bytes], **chunks: bytes) -> bytes:
    """W3C PNG: rows with their filter's number before them; `chunks` stand before the pixels, in that order."""
    header = struct.pack(">IIBBBBB", size[1], size[0], bits, kind, 0, 0, 0)
    parts = {"IHDR": header, **chunks, "IDAT": zlib.compress(b"".join(rows)), "IEND": b""}
    made = [
        struct.pack(">I", len(data)) + name.encode() + data + struct.pack(">I", zlib.crc32(name.encode() + data))
        for name, data in parts.items()
    ]
    return b"\x89PNG\r\n\x1a\n" + b"".join(made)


def bmp(size: tuple[int, int], bits: int, rows: list[bytes], *, palette: bytes = b"", masks: bytes = b"") -> bytes:
    """Device-independent bitmap with BITMAPINFOHEADER, or BITMAPV4HEADER for four masks; the lowest row first."""
    is_long = len(masks) == 16
    header_bytes = 108 if is_long else 40
    pixels = b"".join(reversed(rows))
    fields = (header_bytes, size[1], size[0], 1, bits, 3 if masks else 0, len(pixels), 0, 0, len(palette) // 4, 0)
    header = struct.pack("<IiiHHIIiiII", *fields) + masks + (b"BGRs" + bytes(48) if is_long else b"")
    start = 14 + len(header) + len(palette)
    return b"BM" + struct.pack("<IHHI", start + len(pixels), 0, 0, start) + header + palette + pixels


def pnm(values: np.ndarray, most: int, *, plain: bool) -> bytes:
    """Netpbm's P2, P3, P5 and P6: values (h, w) or (h, w, 3) from 0 to `most`, as text or as bytes."""
    kind = (3 if plain else 6) if values.ndim == 3 else 2 if plain else 5
    head = f"P{kind} {values.shape[1]} {values.shape[0]} {most}\n".encode()
    if plain:
        return head + " ".join(map(str, values.ravel().tolist())).encode() + b"\n"
    return head + values.astype(">u1" if most < 256 else ">u2").tobytes()
