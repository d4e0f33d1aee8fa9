"""What calls give back: as plain data, as one short line, and as a small table where a notebook shows it."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence, Sized
from dataclasses import MISSING, fields
from html import escape
from pathlib import PurePath
from typing import Any, TypeVar

from pannier.units import show_bytes

LONGEST_TEXT = 32
LONGEST_TUPLE = 4
# of many only so many are shown
MOST_ROWS, MOST_PAIRS = 12, 12
SHOWN_DIGITS = 12
_DIGEST = re.compile("[0-9a-f]{64}")

T = TypeVar("T")


class Result:
    """A dataclass that is given back: its repr names what is not empty in a line, of what is long only how long it is."""

    def to_dict(self) -> dict[str, Any]:
        """Plain data for JSON."""
        return {name: plain(value) for name, value in _told(self)}

    def __repr__(self) -> str:
        usual = {each.name: each.default for each in fields(self) if each.default is not MISSING}  # type: ignore[arg-type]
        told = (f"{name}={_brief(value)}" for name, value in _told(self) if not _is_empty(value, usual.get(name)))
        return f"{type(self).__name__}({', '.join(told)})"

    def _repr_html_(self) -> str:
        return titled(type(self).__name__, facts_table([(name, _cell(name, value)) for name, value in _told(self)]))


class Listed(list[T]):
    """A list of results, which shows itself as a table."""

    def _repr_html_(self) -> str:
        return _rows_table(self) if self else "<div>nothing</div>"


def titled(title: str, *parts: str) -> str:
    """HTML with a line above it. Colors are the reader's own, light or dark."""
    return f"<div><div><b>{escape(title)}</b></div>{''.join(parts)}</div>"


def facts_table(facts: Sequence[tuple[str, str]]) -> str:
    """Names and values, which are HTML already, a row each; those without a value are left out."""
    left = "text-align:left;vertical-align:top"
    rows = (
        f"<tr><td style='opacity:.7;{left}'>{escape(name.replace('_', ' '))}</td><td style='{left}'>{value}</td></tr>"
        for name, value in facts
        if value
    )
    return f"<table>{''.join(rows)}</table>"


def grid(header: Sequence[str], rows: Sequence[Sequence[str]]) -> str:
    """A table of text."""
    first = "".join(f"<th style='text-align:left'>{escape(cell)}</th>" for cell in header)
    body = "".join("<tr>" + "".join(f"<td style='text-align:left'>{escape(x)}</td>" for x in row) + "</tr>" for row in rows)
    return f"<table><tr>{first}</tr>{body}</table>"


def _cell(name: str, value: Any) -> str:
    """A value as HTML; nothing for what tells nothing."""
    if value is None or value is False or (isinstance(value, Sized) and not len(value)):
        return ""
    if isinstance(value, list | tuple) and all(isinstance(each, Result) for each in value):
        return _rows_table(value)
    if isinstance(value, Result):
        return facts_table([(name, _cell(name, each)) for name, each in _told(value)])
    if isinstance(value, dict):
        pairs = [f"{_plainly(name, key)} {_plainly(name, each)}" for key, each in value.items()]
        return escape(", ".join(pairs[:MOST_PAIRS]) + _more(pairs, MOST_PAIRS))
    return escape(_plainly(name, value))


def _rows_table(results: Sequence[Any]) -> str:
    """A row for each, with a column for each field that any of them tells of."""
    told = [dict(_told(each)) if isinstance(each, Result) else {"": each} for each in results[:MOST_ROWS]]
    names = [name for name in told[0] if any(_plainly(name, row.get(name)).strip("[]0") for row in told)]
    rows = [[_plainly(name, row.get(name)) for name in names] for row in told]
    table = grid([name.replace("_", " ") for name in names], rows)
    return table + (f"<div>{_more(results, MOST_ROWS)}</div>" if len(results) > MOST_ROWS else "")


def _plainly(name: str, value: Any) -> str:
    """A value in a cell of its own; digests cut short, sizes and shares as people write them."""
    if value is None:
        return ""
    if isinstance(value, bool):
        return "yes" if value else ""
    if isinstance(value, int):
        return show_bytes(value) if name.endswith("bytes") else f"{value:,}"
    if isinstance(value, float) and name.endswith(("share", "stages")):
        return f"{value:.0%}"
    if isinstance(value, str) and _DIGEST.fullmatch(value):
        return value[:SHOWN_DIGITS]
    if isinstance(value, list | tuple) and all(isinstance(each, str | int | float | None) for each in value):
        return ", ".join("none" if each is None else _plainly(name, each) for each in value[:MOST_PAIRS]) + _more(
            value, MOST_PAIRS
        )
    return str(value) if isinstance(value, str | PurePath) else _brief(value)


def _more(items: Sized, shown: int) -> str:
    return f" and {len(items) - shown:,} more" if len(items) > shown else ""


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
