"""Sizes in bytes and times as people read and write them: "256MiB", "14d"."""

from __future__ import annotations

import re

from pannier.errors import UsageError

_UNITS = {"": 1, "b": 1, "k": 1 << 10, "m": 1 << 20, "g": 1 << 30, "t": 1 << 40}
_DECIMAL = {"kb": 10**3, "mb": 10**6, "gb": 10**9, "tb": 10**12}


_SECONDS = {"ms": 0.001, "s": 1.0, "": 1.0, "m": 60.0, "h": 3600.0, "d": 86400.0, "w": 7 * 86400.0}


def read_seconds(text: str | float) -> float:
    """Seconds from "700ms", "1.5s", "2m", "12h", "14d", "2w" or a number of seconds. Raises UsageError."""
    match = re.fullmatch(r"\s*([0-9]+(?:\.[0-9]+)?)\s*(ms|s|m|h|d|w|)\s*", str(text))
    if not match:
        raise UsageError(f"{text!r} is no time: write it as 700ms, 1.5s, 2m, 12h or 14d")
    return float(match[1]) * _SECONDS[match[2]]


def read_bytes(text: str | int) -> int:
    """A size from "256MiB", "1.5 GiB", "200MB" or a number of bytes. Raises UsageError."""
    if isinstance(text, int) and not isinstance(text, bool):
        if text < 1:
            raise UsageError(f"a size of {text} bytes: must be 1 or more")
        return text
    match = re.fullmatch(r"\s*([0-9]+(?:\.[0-9]+)?)\s*([A-Za-z]*)\s*", str(text))
    unit = match[2].lower().removesuffix("ib") if match else None
    factor = _DECIMAL.get(match[2].lower()) or _UNITS.get(unit or "") if match else None
    if match is None or factor is None:
        raise UsageError(f"{text!r} is no size: write it as 256MiB, 2GiB or a number of bytes")
    size = int(float(match[1]) * factor)
    if size < 1:
        raise UsageError(f"{text!r} is no size: must be 1 byte or more")
    return size


def read_limit(text: str | int | None) -> int | str | None:
    """A memory limit: "auto", None or "none" for unlimited, or a size."""
    if text is None or (isinstance(text, str) and text.lower() == "none"):
        return None
    if isinstance(text, str) and text.lower() == "auto":
        return "auto"
    return read_bytes(text)


def show_bytes(size: int | float, *, up: bool = False) -> str:
    """A size to read: "54.3 KiB", "256 MiB". With `up` it is never shown smaller than it is."""
    value, unit = float(size), "bytes"
    for larger in ("KiB", "MiB", "GiB", "TiB"):
        if value < 1024:
            break
        value, unit = value / 1024, larger
    if unit == "bytes":
        return f"{int(value)} bytes"
    digits = 1 if value < 100 else 0
    if up:
        scale = 10**digits
        value = -(-value * scale // 1) / scale
    shown = f"{value:.{digits}f}"
    return f"{shown.removesuffix('.0')} {unit}"


def at_commas(text: str) -> list[str]:
    """The pieces between commas that are in no brackets and no quotes."""
    pieces, depth, quote = [""], 0, ""
    for letter in text:
        if quote:
            quote = "" if letter == quote else quote
        elif letter in "'\"":
            quote = letter
        elif letter in "([{":
            depth += 1
        elif letter in ")]}":
            depth -= 1
        if letter == "," and not depth and not quote:
            pieces.append("")
        else:
            pieces[-1] += letter
    return pieces
