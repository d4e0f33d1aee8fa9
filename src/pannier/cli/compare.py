"""pannier compare"""

from __future__ import annotations

import sys
from pathlib import Path
from typing import TYPE_CHECKING, Any

import pannier
from pannier.cli import options as opt
from pannier.cli.terminal import at_work, drawing, plural, print_facts, print_json, print_table

if TYPE_CHECKING:
    from pannier.versions.comparing import Compared, Side

_SHOWN = 20
_SIDE = "STORE[@NAME], a docket's file, or a folder."


def compare(
    before: str = opt.argument(..., _SIDE, metavar="BEFORE"),
    after: str = opt.argument(..., _SIDE, metavar="AFTER"),
    rows: int = opt.value(_SHOWN, "So many keys are shown."),
    store: opt.StoreHint = None,
    fail_on_change: bool = opt.flag("--fail-on-change", "Exit status 1 when they differ."),
    figure: opt.Figure = None,
    json: opt.AsJson = False,
) -> int:
    """What differs between two snapshots, of one store or two, a docket or a folder.

    [dim]$[/dim] pannier compare swatches.store@spring swatches.store --figure differences.png
    [dim]$[/dim] pannier compare swatches.docket swatches/ --fail-on-change
    """
    from pannier.versions.comparing import compare as look

    with at_work("compare"):
        comparison = look(before, after, store=store)
    print_json(comparison.to_dict()) if json else _print(comparison, rows)
    if figure and comparison.difference.is_empty:
        print("no record differs, so no sheet is drawn", file=sys.stderr)
    elif figure:
        _draw(comparison, figure)
    return 1 if fail_on_change and not comparison.is_same else 0


def _print(found: pannier.Comparison, count: int) -> None:
    print_facts(("before", _about(found.before)), ("after", _about(found.after)))
    if found.unknown:
        print(f"\nNot compared, since a folder or its layout does not say them: {', '.join(found.unknown)}.")
    counts = {kind: number for kind, number in found.counts.items() if number}
    if not counts:
        print("\nNo record differs.")
    else:
        print()
        print_table(["change", "records"], [[_in_words(kind), f"{number:,}"] for kind, number in counts.items()])
        print()
        rows = [[record.key, _in_words(record.kind), *_before_and_after(record)] for record in found.records(count)]
        print_table(["key", "change", "label", "split"], rows, left=4)
        left = len(found.difference.added) + len(found.difference.gone) + len(found.difference.rows) - len(rows)
        if left > 0:
            print(f"and {plural(left, 'more record')} (--json lists all)")
    if found.class_numbers:
        print()
        numbers = [[name, *("-" if n is None else str(n) for n in both)] for name, *both in found.class_numbers]
        print_table(["class", "number before", "after"], numbers)


def _about(side: Any) -> str:
    digits = f"  (snapshot {side.snapshot.id[:12]}, {side.snapshot.time})" if side.snapshot is not None else ""
    return f"{side.name}  {plural(len(side.manifest), 'record')}{digits}"


def _in_words(kind: str) -> str:
    return {"reencoded": "re-encoded", "changed": "another picture"}.get(kind, kind)


def _before_and_after(each: Compared) -> tuple[str, str]:
    pairs = ((each.label_before, each.label), (each.split_before, each.split))
    if each.kind in ("added", "removed"):
        return (each.label or "-", each.split or "-")
    label, split = (new or "-" if old == new else f"{old or '-'} -> {new or '-'}" for old, new in pairs)
    return label, split


def _last(side: Side) -> str:
    return Path(side.name).name


def _draw(found: pannier.Comparison, figure: str) -> None:
    from pannier.figures.sheet import MOST, draw_sheet

    records = list(found.records(MOST, by_kind=True))
    counts = ", ".join(f"{number:,} {_in_words(kind)}" for kind, number in found.counts.items() if number)
    with drawing(figure, "sheet"):
        draw_sheet(records, figure, title=f"{_last(found.before)} -> {_last(found.after)}: {counts or 'no record differs'}")
