"""Which of a table's columns holds the pictures, or names them, and what is in it."""

from __future__ import annotations

import shlex
from pathlib import Path
from typing import Any, NamedTuple

import pyarrow as pa
import pyarrow.compute as pc

from pannier.errors import UsageError
from pannier.images.facts import looks_like_picture
from pannier.sources.files import FarFolder
from pannier.sources.rules import evaluate
from pannier.sources.table_files import holds_bytes, is_bytes
from pannier.sources.text_pictures import (
    Shape,
    from_base64,
    from_cells,
    from_columns,
    holds_pixel_values,
    holds_text_pictures,
)

# columns that give labels where no rule does
USUAL_LABELS = ("label", "class")
LINK = r"^[a-zA-Z][a-zA-Z0-9+.-]+://"

_PROBED = 100
_PIXEL_COLUMNS = "a column for each pixel"


class Pictures(NamedTuple):
    """A table's pictures: the table without columns of pixels, by row a path or bytes, and where it is bytes the name that
    it bears there, and what tells it from others; `column` is where they are read from.
    """

    table: Any
    column: str
    values: Any
    names: Any | None = None
    essences: Any | None = None


def find_pictures(table: Any, root: Path | FarFolder, picture: str | None, shape: Shape | None) -> Pictures:
    """The pictures of a column, or of an SQL expression; of the one that fits where none is said. Raises UsageError."""
    if picture is None and shape is not None and not _holding(table):
        kept, values, essences = from_columns(table, USUAL_LABELS, shape)
        return Pictures(kept, _PIXEL_COLUMNS, values, _nameless(values), essences)
    column = picture or _found(table, root)
    values = evaluate(table, column, "`picture`")
    names = None
    if pa.types.is_struct(values.type):
        values, names = _in_struct(values, column)
    values = pa.chunked_array([values]) if isinstance(values, pa.Array) else values
    if is_bytes(values.type):
        held = values.cast(pa.large_binary())
        return Pictures(table, column, held, _nameless(held) if names is None else names, held)
    if not (pa.types.is_string(values.type) or pa.types.is_large_string(values.type)):
        raise UsageError(f"`picture` {column}: gives {values.type}, not paths or bytes")
    if holds_text_pictures(values):
        held = from_base64(values)
        return Pictures(table, column, held, _nameless(held), held)
    if shape is not None:
        held, essences = from_cells(values, shape)
        return Pictures(table, column, held, _nameless(held), essences)
    if holds_pixel_values(values):
        raise UsageError(f"`picture` {column}: holds pixel values: say how they lie with `shape`, as 48x48")
    _refuse_links(values, column)
    return Pictures(table, column, values.cast(pa.large_string()))


def is_picture(column: Any) -> bool:
    """Whether a column holds pictures, so that it is none for rules."""
    return holds_bytes(column.type) or holds_text_pictures(column) or holds_pixel_values(column)


def _nameless(values: Any) -> Any:
    return pa.chunked_array([pa.nulls(len(values), pa.large_string())])


def _in_struct(values: Any, column: str) -> tuple[Any, Any | None]:
    """The bytes in a struct, and the names beside them."""
    fields = {values.type.field(i).name: values.type.field(i).type for i in range(values.type.num_fields)}
    held = [name for name, kind in fields.items() if is_bytes(kind)]
    if len(held) != 1:
        raise UsageError(f"`picture` {column}: it has {len(held)} fields of bytes; say which, as in {column}.bytes")
    texts = [name for name, kind in fields.items() if pa.types.is_string(kind) or pa.types.is_large_string(kind)]
    names = pc.struct_field(values, texts[0]).cast(pa.large_string()) if texts else None
    return pc.struct_field(values, held[0]), names


def _refuse_links(values: Any, column: str) -> None:
    links = pc.sum(pc.match_substring_regex(values, LINK)).as_py() or 0
    if links and links == len(values) - values.null_count:
        raise UsageError(
            f"`picture` {column}: {links:,} of its values are links, which packing does not fetch. Gather them first "
            f"(pannier gather, `link` {shlex.quote(column)}), then pack the gathered.csv that comes of it"
        )


def _holding(table: Any) -> list[str]:
    """The columns that hold pictures."""
    return [name for name in table.column_names if is_picture(table.column(name))]


def _found(table: Any, root: Path | FarFolder) -> str:
    """The one column that fits. Raises UsageError, which names the candidates."""
    held = _holding(table)
    named = [name for name in table.column_names if _names_pictures(table.column(name), root)]
    candidates = [*held, *named] or [name for name in table.column_names if holds_links(table.column(name))]
    if len(candidates) == 1:
        return candidates[0]
    if candidates:
        columns = ", ".join(map(repr, candidates))
        raise UsageError(f"several columns could hold the pictures: say which with `picture`: {columns}")
    raise UsageError(
        f"no column holds pictures or names files below {root}: say what does with `picture`, and where with `root`; "
        f"there is {', '.join(map(repr, table.column_names[:12]))}"
    )


def _names_pictures(column: Any, root: Path | FarFolder) -> bool:
    """Whether a column's first values are paths of pictures, some of which are there."""
    if not (pa.types.is_string(column.type) or pa.types.is_large_string(column.type)):
        return False
    values = column.drop_null()[:_PROBED].to_pylist()
    are_pictures = bool(values) and all(looks_like_picture(value) for value in values)
    return are_pictures and any((root / value).is_file() for value in values)


def holds_links(column: Any) -> bool:
    """Whether a column's first values are links."""
    if not (pa.types.is_string(column.type) or pa.types.is_large_string(column.type)):
        return False
    values = column.drop_null()[:_PROBED]
    return bool(len(values)) and bool(pc.all(pc.match_substring_regex(values, LINK)).as_py())
