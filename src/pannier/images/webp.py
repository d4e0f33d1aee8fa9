"""WebP files as their container has them (RFC 9649): which hold all pixels twice while decoded, and the first of several."""

from __future__ import annotations

import struct
from collections.abc import Iterator
from typing import NamedTuple

from pannier.errors import PictureError

_ANIMATED, _ALPHA = 0x02, 0x10
_FRAME_HEADER = 16


class Still(NamedTuple):
    """A picture of its own, and where it lies on the canvas of its file, in pixels."""

    data: bytes
    top: int
    left: int
    height: int
    width: int


def is_animated(data: bytes | memoryview) -> bool:
    return bytes(data[12:16]) == b"VP8X" and len(data) > 20 and bool(data[20] & _ANIMATED)


def is_held_twice(data: bytes | memoryview) -> bool:
    """Whether a decoder holds all pixels beside those that it gives: of what is lossless, or one of several frames."""
    return is_animated(data) or any(kind == b"VP8L" for kind, _ in _chunks(data, 12))


def first_still(data: bytes | memoryview) -> Still:
    """The first frame of an animated file. Raises PictureError where there is none."""
    frame = next((content for kind, content in _chunks(data, 12) if kind == b"ANMF"), b"")
    if len(frame) < _FRAME_HEADER:
        raise PictureError("cut short")
    left, top, wide, tall = (int.from_bytes(frame[at : at + 3], "little") for at in (0, 3, 6, 9))
    parts = {kind: content for kind, content in _chunks(frame, _FRAME_HEADER) if kind in (b"ALPH", b"VP8 ", b"VP8L")}
    if b"ALPH" in parts:
        parts = {b"VP8X": struct.pack("<I", _ALPHA) + bytes(frame[6:12]), **parts}
    body = b"".join(
        kind + struct.pack("<I", len(part)) + bytes(part) + b"\0" * (len(part) % 2) for kind, part in parts.items()
    )
    return Still(b"RIFF" + struct.pack("<I", 4 + len(body)) + b"WEBP" + body, 2 * top, 2 * left, tall + 1, wide + 1)


def _chunks(data: bytes | memoryview, at: int) -> Iterator[tuple[bytes, bytes | memoryview]]:
    """Kind and content of the chunks from a place on."""
    while at + 8 <= len(data):
        size = int.from_bytes(data[at + 4 : at + 8], "little")
        yield bytes(data[at : at + 4]), memoryview(data)[at + 8 : at + 8 + size]
        at += 8 + size + size % 2
