"""What the columns of a table hold: types, empty cells, stray blanks, distinct values, cells that break the type."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc

from pannier.results import Result
from pannier.sources.table_files import KINDS

# where so many of the values are of one kind, the others are likely mistakes
MOSTLY = 0.8
EXAMPLES = 3

_SHOWN = (
    *((pa.types.is_string, "text"), (pa.types.is_large_string, "text"), (pa.types.is_integer, "whole number")),
    *((pa.types.is_floating, "number"), (pa.types.is_date, "date"), (pa.types.is_timestamp, "time")),
    *((pa.types.is_boolean, "true or false"), (pa.types.is_null, "empty")),
)


@dataclass(frozen=True, repr=False)
class ColumnFacts(Result):
    """One column: its type, how many cells are empty or had stray blanks, how many distinct values it has.

    `misfits` counts the cells that are of another kind than most, `mostly` is that kind, `examples` are some of them.
    """

    name: str
    type: str
    empty: int
    stray_blanks: int
    distinct: int
    misfits: int = 0
    mostly: str = ""
    examples: tuple[str, ...] = ()


def column_facts(table: Any, stray_blanks: Mapping[str, int]) -> list[ColumnFacts]:
    """The facts of all columns of a table, in their order."""
    return [_facts(name, table.column(name), stray_blanks.get(name, 0)) for name in table.column_names]


def _facts(name: str, column: Any, stray: int) -> ColumnFacts:
    distinct = pc.count_distinct(column).as_py() if not pa.types.is_nested(column.type) else 0
    shown = _shown(column.type)
    if shown == "text":
        values = column.drop_null()
        for pattern, _, kind in KINDS:
            fits = pc.match_substring_regex(values, pattern)
            count = pc.sum(fits).as_py() or 0
            if MOSTLY * len(values) <= count < len(values):
                others = values.filter(pc.invert(fits))
                examples = tuple(others[:EXAMPLES].to_pylist())
                return ColumnFacts(name, shown, column.null_count, stray, distinct, len(others), kind, examples)
    return ColumnFacts(name, shown, column.null_count, stray, distinct)


def _shown(kind: Any) -> str:
    kind = kind.value_type if pa.types.is_dictionary(kind) else kind
    return next((shown for is_kind, shown in _SHOWN if is_kind(kind)), str(kind))
