"""What all commands print with: calm tables on standard output, progress on standard error."""

from __future__ import annotations

import json
import re
import shutil
import sys
import textwrap
import threading
import time
import unicodedata
from collections.abc import Callable, Collection, Iterator, Sequence
from contextlib import contextmanager
from typing import Any

import pannier
from pannier import choices

# of each reason for leaving something out so many are shown
LEFT_OUT_EXAMPLES = 3
# how often long work says in a log how far it is
LOG_SECONDS = 30.0


def print_json(value: Any) -> None:
    """JSON in UTF-8; in ASCII alone for an output of another encoding."""
    is_utf8 = (getattr(sys.stdout, "encoding", None) or "utf-8").lower().replace("-", "") == "utf8"
    print(json.dumps(value, indent=2, ensure_ascii=not is_utf8))


def print_table(header: Sequence[str], rows: Sequence[Sequence[str]], *, left: int = 1) -> None:
    """Columns aligned: the first `left` to the left, the others, numbers, to the right; two blanks between."""
    table = [[in_one_line(cell) for cell in row] for row in [header, *rows]]
    widths = [max(_columns_of(row[i]) for row in table) for i in range(len(header))]
    for row in table:
        cells = [
            cell + blank if i < left else blank + cell
            for i, (cell, blank) in enumerate(
                (cell, " " * (width - _columns_of(cell))) for cell, width in zip(row, widths, strict=True)
            )
        ]
        print("  ".join(cells).rstrip())


def in_one_line(text: str) -> str:
    """A text of anybody's without line breaks and tabs, which are written as \\n and \\t."""
    return re.sub(r"[\n\r\t]", lambda found: repr(found[0])[1:-1], text)


def _columns_of(text: str) -> int:
    """The columns that a text takes on a terminal: Chinese letters take two, combining marks none."""
    if text.isascii():
        return len(text)
    return sum(
        0 if unicodedata.combining(letter) else 2 if unicodedata.east_asian_width(letter) in "WF" else 1 for letter in text
    )


def print_facts(*facts: tuple[str, str]) -> None:
    """Names and values, one a line, values aligned."""
    width = max(len(name) for name, _ in facts)
    for name, value in facts:
        print(as_options(f"{name.ljust(width)}  {in_one_line(value)}").rstrip())


def count_table(counts: dict[tuple[str | None, str | None], int], classes: Sequence[str], splits: Sequence[str]) -> None:
    """Classes by splits with shares and sums; columns and rows that would be empty are left out."""
    columns: list[str | None] = [*splits]
    if any(split is None for _, split in counts):
        columns.append(None)
    rows: list[str | None] = [*classes]
    if any(label is None for label, _ in counts):
        rows.append(None)

    def cells(labels: Sequence[str | None]) -> list[str]:
        numbers = [sum(counts.get((label, split), 0) for label in labels) for split in columns]
        if len(columns) == 1:
            return [f"{numbers[0]:,}"]
        total = max(1, sum(numbers))
        return [*(f"{number:,} {number / total:>4.0%}" for number in numbers), f"{sum(numbers):,}"]

    header = ["class", *(split or ("no split" if splits else "pictures") for split in columns)]
    header += ["all"] if len(columns) > 1 else []
    body = [[label or "no label", *cells([label])] for label in rows]
    if len(rows) > 1:
        body.append(["all", *cells(rows)])
    print_table(header, body)


def print_changes(changes: Sequence[Sequence[Any]]) -> None:
    """How many records of which label and split a snapshot has changed."""
    if changes:
        rows = [[kind, label or "no label", split or "no split", f"{count:,}"] for kind, label, split, count in changes]
        print_table(["change", "label", "split", "records"], rows, left=3)
        print()


def print_funnel(rows: int, funnel: Sequence[tuple[str, int]]) -> None:
    """How many rows each condition leaves of those that the one before left."""
    for where, count in funnel:
        print_wrapped(f"{count:,} of {rows:,} rows are left by --where {where}")
        rows = count


def print_deviation(deviation: dict[str | None, int], tied: dict[str | None, tuple[str, int]]) -> None:
    """How far classes are from their targets, where what stays together keeps them from it; `tied`: the largest of those."""
    missed = {label: miss for label, miss in deviation.items() if miss}
    if missed:
        worst = max(missed, key=lambda label: missed[label])
        classes = plural(len(missed), "class", "classes")
        off = plural(missed[worst], "record")
        print(f"\nWhat stays together keeps {classes} off the shares, {worst or 'no label'} the most, by {off}:")
        if worst in tied:
            key, size = tied[worst]
            print(f"the largest set in it are {plural(size, 'record')}, {key} among them.")


def print_left_out(left_out: Sequence[Any], how: str = "pannier show --json") -> None:
    """What was left out, first what training lacks, by reason, with examples; `how` lists all."""
    from pannier.sources.findings import HARMFUL

    by_kind: dict[str, list[Any]] = {concern.name: [] for concern in HARMFUL}
    for item in left_out:
        by_kind.setdefault(item.kind, []).append(item)
    harmful = [by_kind.pop(concern.name) for concern in HARMFUL]
    for heading, kinds in (("Left out, which harms training", harmful), ("Left out", list(by_kind.values()))):
        count = sum(map(len, kinds))
        if count:
            print(f"\n{heading}: {count:,} ({how} lists all)")
        for items in filter(None, kinds):
            shown = [f"{item.key} ({item.reason})" for item in items[:LEFT_OUT_EXAMPLES]]
            more = f" and {len(items) - len(shown):,} more" if len(items) > len(shown) else ""
            print_wrapped(f"  {items[0].kind} {len(items):,}: {', '.join(shown)}{more}", indent="      ")


def plural(count: int, one: str, many: str | None = None) -> str:
    return f"{count:,} {one if count == 1 else many or one + 's'}"


# arguments that the command line calls otherwise
_CALLED = {"facts": "fact", "files": "file", "from_": "from"}
# fields of a TOML file of sources, which are no options of most commands
_IN_SOURCES = ("encoding", "separator", "class_names")


def as_options(text: str, options: Collection[str] = ()) -> str:
    """A message of the core, in which arguments stand as `name`, with the options that they are here.

    `options` of a command that has some which are mostly fields of a file of sources.
    """

    def option(name: re.Match[str]) -> str:
        is_field = name[1] in _IN_SOURCES and name[1] not in options
        return name[0] if is_field else "--" + _CALLED.get(name[1], name[1]).replace("_", "-")

    return re.sub(r"`([a-z_]+)`", option, text)


def print_wrapped(text: str, indent: str = "  ") -> None:
    """A long line, broken between words, further lines indented."""
    width = min(100, shutil.get_terminal_size().columns)
    lines = textwrap.wrap(as_options(text), width, subsequent_indent=indent, break_on_hyphens=False, break_long_words=False)
    print("\n".join(lines))


class Bar:
    """How far long work is: a bar on a terminal, at most ten times a second; in a log a line every half minute."""

    def __init__(self, what: str, show: Callable[[int, int, str], None], every: float, since: float) -> None:
        self._what, self._show, self._every = what, show, every
        self._began, self._shown = time.monotonic(), since

    def show(self, done: int, total: int, note: Callable[[], str]) -> None:
        """So much of all is done; `note` is what is shown beside."""
        now = time.monotonic()
        if now - self._shown > self._every or (done == total and self._every < 1):
            self._shown = now
            self._show(done, total, note())

    @property
    def elapsed(self) -> float:
        """Seconds since it began, never 0."""
        return max(0.1, time.monotonic() - self._began)


@contextmanager
def live_bar(what: str, at_first: str = "") -> Iterator[Bar]:
    """A bar on standard error, or lines where that is no terminal. `at_first` is what it says before the first step."""
    if not sys.stderr.isatty():
        yield Bar(what, lambda *told: _log_line(what, *told), LOG_SECONDS, time.monotonic())
        return
    from rich.console import Console
    from rich.progress import BarColumn, Progress, TextColumn, TimeRemainingColumn

    columns = (
        TextColumn("{task.description}"),
        BarColumn(bar_width=32, complete_style="cyan", finished_style="cyan", pulse_style="cyan"),
        TextColumn("{task.fields[count]}"),
        TextColumn(" {task.fields[note]}"),
        TimeRemainingColumn(),
    )
    with Progress(*columns, console=Console(stderr=True), transient=True) as bar:
        task = bar.add_task(what, total=None, count="", note=at_first)

        def show(done: int, total: int, note: str) -> None:
            bar.update(task, completed=done, total=total, count=f"{done:,}/{total:,}", note=note)

        yield Bar(what, show, 0.1, 0.0)


def _log_line(what: str, done: int, total: int, note: str) -> None:
    print(f"pannier: {what}: {done:,} of {total:,}{', ' * bool(note)}{note}", file=sys.stderr, flush=True)


@contextmanager
def progress_bar(what: str) -> Iterator[choices.Progress]:
    """A bar of pictures done, with rate and time left."""
    with live_bar(what, "looking for pictures") as bar:
        yield lambda done, total: bar.show(done, total, lambda: f"{done / bar.elapsed:,.0f} pictures/s")


@contextmanager
def at_work(what: str) -> Iterator[None]:
    """A moving bar and the seconds so far, for what cannot say how far it is; in a log a line every half minute."""
    is_done, began = threading.Event(), time.monotonic()

    def tell() -> None:
        while not is_done.wait(LOG_SECONDS):
            print(f"pannier: {what}: at work for {time.monotonic() - began:.0f} s", file=sys.stderr, flush=True)

    if not sys.stderr.isatty():
        threading.Thread(target=tell, daemon=True).start()
        try:
            yield
        finally:
            is_done.set()
        return
    from rich.console import Console
    from rich.progress import BarColumn, Progress, TextColumn, TimeElapsedColumn

    columns = (TextColumn("{task.description}"), BarColumn(bar_width=32, pulse_style="cyan"), TimeElapsedColumn())
    with Progress(*columns, console=Console(stderr=True), transient=True) as bar:
        bar.add_task(what, total=None)
        yield


def print_doubts(doubts: Sequence[Any]) -> None:
    """What harms training of what was packed or changed: some of each kind."""
    words = {
        "two labels": ("picture under two labels", "pictures under two labels"),
        "alike classes": ("pair of classes that may be one", "pairs of classes that may be one"),
    }
    for kind, what in words.items():
        found = [each.in_words for each in doubts if each.kind == kind]
        if found:
            more = f", and {len(found) - 3:,} more" if len(found) > 3 else ""
            print()
            print_wrapped(f"Harms training: {plural(len(found), *what)}: {'; '.join(found[:3])}{more}")


def write_doubts(doubts: Sequence[Any], path: str) -> None:
    """The doubts as a table, a row a record, and where it is."""
    from pannier.packing.doubts import doubt_table

    write_table_into(path, doubt_table(doubts), "doubts")


def write_table_into(path: str, table: Any, called: str) -> None:
    """Writes an Arrow table, and says where it is."""
    from pannier.folders.label_table import write_table

    write_table(table, path)
    print(f"{called}: {path} ({plural(len(table), 'row')})", file=sys.stderr)


def draw_into(path: str, what: Any, called: str = "figure", *, title: str | None = None) -> None:
    """Draws what a command found into a file, and says where it is."""
    with drawing(path, called):
        pannier.draw(what, path, title=title)


@contextmanager
def drawing(path: str | None, what: str) -> Iterator[None]:
    """Says where a figure went once it is drawn."""
    yield
    if path:
        print(f"{what}: {path}", file=sys.stderr)
