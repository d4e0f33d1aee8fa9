"""What calls give back: as plain data, and as one short line."""

from __future__ import annotations

from collections.abc import Iterator, Sized
from dataclasses import MISSING, fields
from pathlib import PurePath
from typing import Any

LONGEST_TEXT = 32
LONGEST_TUPLE = 4


class Result:
    """A dataclass that is given back: its repr names what is not empty in a line, of what is long only how long it is."""

    def to_dict(self) -> dict[str, Any]:
        """Plain data for JSON."""
        return {name: plain(value) for name, value in _told(self)}

    def __repr__(self) -> str:
        usual = {each.name: each.default for each in fields(self) if each.default is not MISSING}  # type: ignore[arg-type]
        told = (f"{name}={_brief(value)}" for name, value in _told(self) if not _is_empty(value, usual.get(name)))
        return f"{type(self).__name__}({', '.join(told)})"


def plain(value: Any) -> Any:
    """A value as JSON knows it: of results their own plain data, paths as text, arrays as lists."""
    if hasattr(value, "to_dict"):
        return value.to_dict()
    if isinstance(value, dict):
        return {key: plain(each) for key, each in value.items()}
    if isinstance(value, list | tuple):
        return [plain(each) for each in value]
    if isinstance(value, PurePath):
        return str(value)
    return value.tolist() if hasattr(value, "tolist") else value


def _told(result: Any) -> Iterator[tuple[str, Any]]:
    return ((each.name, getattr(result, each.name)) for each in fields(result) if not each.name.startswith("_"))


def _is_empty(value: Any, usual: Any) -> bool:
    """Whether a value tells nothing: none, none of them, or zero where that is usual."""
    is_none = value is None or value is False or (isinstance(value, Sized) and not len(value))
    return is_none or (usual == 0 and isinstance(value, int) and value == 0)


def _brief(value: Any) -> str:
    if isinstance(value, str | PurePath):
        text = str(value)
        return repr(text if len(text) <= LONGEST_TEXT else f"{text[:LONGEST_TEXT]}…")
    if hasattr(value, "dtype"):
        return f"{value.dtype}{list(value.shape)}"
    if isinstance(value, tuple) and len(value) <= LONGEST_TUPLE and not any(isinstance(each, Sized) for each in value):
        return f"({', '.join(map(_brief, value))})"
    if isinstance(value, list | tuple | dict):
        return f"[{len(value)}]"
    if isinstance(value, float):
        return f"{value:.5g}"
    line = repr(value)
    return line if len(line) <= 3 * LONGEST_TEXT and "\n" not in line else f"<{type(value).__name__}>"
