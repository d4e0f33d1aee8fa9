"""pannier compare"""

from __future__ import annotations

import sys
from typing import TYPE_CHECKING, Any

import pannier
from pannier.cli import options as opt
from pannier.cli.terminal import at_work, draw_into, plural, print_facts, print_json, print_table

if TYPE_CHECKING:
    from pannier.versions.comparing import Compared

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
        draw_into(figure, comparison, "sheet")
    return 1 if fail_on_change and not comparison.is_same else 0


def _print(found: pannier.Comparison, count: int) -> None:
    from pannier.versions.comparing import IN_WORDS

    print_facts(("before", _about(found.before)), ("after", _about(found.after)))
    if found.unknown:
        print(f"\nNot compared, since a folder or its layout does not say them: {', '.join(found.unknown)}.")
    counts = found.counts_in_words
    if not counts:
        print("\nNo record differs.")
    else:
        print()
        print_table(["change", "records"], [[kind, f"{number:,}"] for kind, number in counts.items()])
        print()
        rows = [[_key(each), IN_WORDS.get(each.kind, each.kind), *_before_and_after(each)] for each in found.records(count)]
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


def _key(each: Compared) -> str:
    return each.key if each.key_before is None else f"{each.key} (was {each.key_before})"


def _before_and_after(each: Compared) -> tuple[str, str]:
    pairs = ((each.label_before, each.label), (each.split_before, each.split))
    if each.kind in ("added", "removed"):
        return (each.label or "-", each.split or "-")
    label, split = (new or "-" if old == new else f"{old or '-'} -> {new or '-'}" for old, new in pairs)
    return label, split
