"""What all commands print with: calm tables on standard output, progress on standard error where that is a terminal."""

from __future__ import annotations

import json
import sys
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from typing import Any

Progress = Callable[[int, int], None]


def print_json(value: Any) -> None:
    print(json.dumps(value, indent=2, ensure_ascii=False))


def print_table(header: Sequence[str], rows: Sequence[Sequence[str]], *, left: int = 1) -> None:
    """Columns aligned: the first `left` to the left, the others, numbers, to the right; two blanks between."""
    widths = [max(len(row[i]) for row in [header, *rows]) for i in range(len(header))]
    for row in [header, *rows]:
        cells = [
            cell.ljust(width) if i < left else cell.rjust(width)
            for i, (cell, width) in enumerate(zip(row, widths, strict=True))
        ]
        print("  ".join(cells).rstrip())


def print_facts(facts: Sequence[tuple[str, str]]) -> None:
    """Names and values, one a line, values aligned."""
    width = max(len(name) for name, _ in facts)
    for name, value in facts:
        print(f"{name.ljust(width)}  {value}".rstrip())


def count_table(counts: dict[tuple[str | None, str | None], int], classes: Sequence[str], splits: Sequence[str]) -> None:
    """Classes by splits with sums; columns and rows that would be empty are left out."""
    columns: list[str | None] = [*splits]
    if any(split is None for _, split in counts):
        columns.append(None)
    rows: list[str | None] = [*classes]
    if any(label is None for label, _ in counts):
        rows.append(None)

    def cells(labels: Sequence[str | None]) -> list[str]:
        numbers = [sum(counts.get((label, split), 0) for label in labels) for split in columns]
        shown = [f"{number:,}" for number in numbers]
        return shown if len(columns) == 1 else [*shown, f"{sum(numbers):,}"]

    header = ["class", *(split or ("no split" if splits else "pictures") for split in columns)]
    header += ["all"] if len(columns) > 1 else []
    body = [[label or "no label", *cells([label])] for label in rows]
    if len(rows) > 1:
        body.append(["all", *cells(rows)])
    print_table(header, body)


def plural(count: int, one: str, many: str | None = None) -> str:
    return f"{count:,} {one if count == 1 else many or one + 's'}"


@contextmanager
def progress_bar(what: str, unit: str = "pictures") -> Iterator[Progress | None]:
    """A bar with rate and time left on standard error; None, and no bar, where that is no terminal."""
    if not sys.stderr.isatty():
        yield None
        return
    from rich.console import Console
    from rich.progress import BarColumn, MofNCompleteColumn, TextColumn, TimeRemainingColumn
    from rich.progress import Progress as Bar

    columns = (
        TextColumn("{task.description}"),
        BarColumn(bar_width=32),
        MofNCompleteColumn(),
        TextColumn(f"{{task.fields[rate]:>6,.0f}} {unit}/s"),
        TimeRemainingColumn(),
    )
    with Bar(*columns, console=Console(stderr=True), transient=True) as bar:
        task = bar.add_task(what, total=None, rate=0.0)

        def step(done: int, total: int) -> None:
            elapsed = bar.tasks[0].elapsed or 0.0
            bar.update(task, completed=done, total=total, rate=done / elapsed if elapsed > 0.1 else 0.0)

        yield step


@contextmanager
def drawing(path: str | None, what: str) -> Iterator[None]:
    """Says where a figure went once it is drawn."""
    yield
    if path:
        print(f"{what}: {path}", file=sys.stderr)
