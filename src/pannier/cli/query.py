"""pannier query"""

from __future__ import annotations

import sys
from typing import Any

import pannier
from pannier.cli import options as opt
from pannier.cli.terminal import at_work, plural, print_json, print_table

_SHOWN = 50


def query(
    store: opt.Store,
    sql: str = opt.argument(..., "A SELECT over the table records; with two, before and after.", metavar="SQL"),
    after: str | None = opt.value(None, "A second snapshot: tables are then before and after.", "STORE[@NAME]"),
    rows: int = opt.value(_SHOWN, "So many rows are shown."),
    csv: bool = opt.flag("--csv", "Print all rows as CSV."),
    json: opt.AsJson = False,
) -> int:
    """Ask the records of a snapshot, or of two, in SQL. Nothing else on this machine can be read by it.

    [dim]$[/dim] pannier query swatches.store "SELECT label, count(*) AS n FROM records GROUP BY label ORDER BY n"
    [dim]$[/dim] pannier query swatches.store "SELECT key FROM records WHERE predicted <> label" --csv
    """
    with at_work("query"):
        table = pannier.open(store).query(sql, after=pannier.open(after) if after else None)
    if csv:
        from pyarrow import csv as writer

        from pannier.columns import as_cells

        writer.write_csv(as_cells(table), sys.stdout.buffer)
    elif json:
        print_json([{name: _plain(value) for name, value in row.items()} for row in table.to_pylist()])
    else:
        _print(table, rows)
    return 0


def _plain(value: Any) -> Any:
    if isinstance(value, bytes):
        return value.hex()
    return value if isinstance(value, (str, int, float, bool, list, dict, type(None))) else str(value)


def _print(found: Any, count: int) -> None:
    rows = [[_shown(value) for value in row.values()] for row in found.slice(0, count).to_pylist()]
    import pyarrow.types as types

    left = 0
    while left < found.num_columns and not types.is_primitive(found.column(left).type):
        left += 1
    print_table(found.column_names, rows, left=left)
    if len(found) > count:
        print(f"and {plural(len(found) - count, 'more row')} (--rows, --csv or --json gives them)")


def _shown(value: Any) -> str:
    if value is None:
        return "-"
    return f"{value:.6g}" if isinstance(value, float) else value.hex() if isinstance(value, bytes) else str(value)
