"""What a table's columns could be used for: labels, splits, groups, pictures, links; before any picture is there."""

from __future__ import annotations

from typing import Any

import pyarrow as pa
import pyarrow.compute as pc

from pannier.images.facts import looks_like_picture
from pannier.sources.paths import split_of_folder
from pannier.sources.picture_columns import holds_links, is_picture

# more classes than this, or fewer rows to each, and a column is no label
MOST_CLASSES, LEAST_OF_EACH = 100, 3
# a group has that many rows at least on average, and there are so many at least
LEAST_TOGETHER, LEAST_GROUPS = 1.5, 5
_PROBED = 100
_SHOWN = 3


def suggestions(table: Any) -> list[str]:
    """What could be said of the table's columns, as options with what comes of them."""
    found: dict[str, list[str]] = {kind: [] for kind in ("picture", "link", "label", "split_by", "group_by")}
    for name in table.column_names:
        column = table.column(name)
        kind = _use_of(column)
        if kind is not None:
            found[kind].append(f"`{kind}` {name}: {_about(column, kind)}")
    return [line for lines in found.values() for line in lines[:_SHOWN]]


def _use_of(column: Any) -> str | None:
    if is_picture(column):
        return "picture"
    kind = column.type
    if not (pa.types.is_string(kind) or pa.types.is_large_string(kind) or pa.types.is_integer(kind)):
        return None
    values = column.drop_null()
    if holds_links(column):
        return "link"
    if not pa.types.is_integer(kind) and len(values):
        first = values[:_PROBED].to_pylist()
        if all(looks_like_picture(value) for value in first):
            return "picture"
        distinct = pc.unique(values)
        if len(distinct) <= 6 and all(split_of_folder(value) for value in distinct.to_pylist()):
            return "split_by"
    count = pc.count_distinct(values).as_py()
    if 2 <= count <= MOST_CLASSES and count * LEAST_OF_EACH <= len(values):
        return "label"
    return "group_by" if count >= LEAST_GROUPS and count * LEAST_TOGETHER <= len(values) else None


def _about(column: Any, kind: str) -> str:
    values = column.drop_null()
    if kind in ("picture", "link"):
        shown = "" if is_picture(column) else f", as {values[0].as_py()!r}"
        return f"{len(values):,} of {len(column):,} rows{shown}"
    counts = pc.value_counts(values).to_pylist()
    sizes = sorted(each["counts"] for each in counts)
    if kind == "group_by":
        return f"{len(counts):,} groups of {sizes[0]:,} to {sizes[-1]:,} rows"
    names = sorted(str(each["values"]) for each in counts)
    shown = ", ".join(names[:_SHOWN]) + (", ..." if len(names) > _SHOWN else "")
    return f"{len(counts):,} {'classes' if kind == 'label' else 'splits'} of {sizes[0]:,} to {sizes[-1]:,} rows ({shown})"
