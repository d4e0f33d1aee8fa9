"""pannier change"""

from __future__ import annotations

from typing import Any

import pannier
from pannier.cli import options as opt
from pannier.cli.terminal import (
    at_work,
    count_table,
    plural,
    print_changes,
    print_deviation,
    print_doubts,
    print_json,
    print_left_out,
    print_table,
    write_doubts,
)

_WHAT = {
    "from_": opt.text("Rows by key: label, split and side columns; empty changes nothing.", "TABLE", names=("--from",)),
    "key_column": opt.Declared(str, "With --from: the column that holds keys.", "COLUMN", "key"),
    **opt.NULL,
    "new_classes": opt.switch("Labels may be no classes yet; else a misspelt one is refused."),
    "where": opt.text("Which records, as SQL over their columns.", "EXPR"),
    "set": opt.texts("What they get; NULL for nothing.", "COLUMN=VALUE"),
    "all": opt.switch("With --set: change every record; required where neither --where nor --from says which."),
    "remove": opt.switch("Take those records out."),
    "rename": opt.texts("Call a class otherwise, or join two.", "OLD=NEW"),
    "unlike": opt.texts("Look-alikes that are none, for good: a pair, or what doubles --table wrote.", "KEY=KEY|TABLE"),
    "as_of": opt.text("Bring back all of an older snapshot, as a new one; goes alone.", "NAME"),
    **opt.DATASET,
}


@opt.takes("what", _WHAT)
@opt.takes_dealing
def change(
    store: str = opt.argument(..., "The store.", metavar="STORE"),
    what: opt.Said = opt.NOTHING,
    dealing: opt.Said = opt.NOTHING,
    note: str = opt.value("", "A line to remember the snapshot by.", "TEXT"),
    fact: opt.FactsOption = None,
    preview: bool = opt.flag("--preview", "Show what would change, and change nothing."),
    doubts: opt.Doubts = None,
    json: opt.AsJson = False,
) -> int:
    """Change labels, splits, side columns or members of what is there: a new snapshot, no picture touched.

    [dim]$[/dim] pannier change swatches.store --from checked.csv --preview
    [dim]$[/dim] pannier change swatches.store --where "key LIKE 'rib/000%'" --set label=basket
    [dim]$[/dim] pannier change swatches.store --where "width < 200" --remove
    [dim]$[/dim] pannier change swatches.store --shares train=80,val=20 --seed 3
    [dim]$[/dim] pannier change swatches.store --unlike rib/0003.png=twill/0001.jpg
    [dim]$[/dim] pannier change swatches.store --as-of spring --note "back to the first season"
    """
    options: dict[str, Any] = {"note": note, "facts": fact, "preview": preview, **what, **dealing}
    with at_work("change"):
        result = pannier.open_store(store).change(**options)
    print_json(result.to_dict()) if json else _print(result, is_preview=preview)
    if doubts:
        write_doubts(result.doubts, doubts)
    return 0


def _print(result: pannier.ChangeResult, *, is_preview: bool) -> None:
    changed = sum(row[3] for row in result.changes)
    if result.is_new:
        print(f"Snapshot {result.snapshot.id[:12]}: {plural(changed, 'record')} changed.\n")
    elif is_preview:
        print(f"{plural(changed, 'record')} would change; nothing is written.\n")
    elif not result.selected:
        print("Nothing to change: no record is meant.")
    elif result.left_out:
        print(f"Nothing is changed: {plural(result.selected, 'record stays as it is', 'records stay as they are')}.")
    else:
        print(f"Nothing to change: {plural(result.selected, 'record is', 'records are')} so already.")
    print_changes(result.changes)
    if result.first and is_preview:
        print_table(["key", "label", "split"], [_before_and_after(row) for row in result.first], left=3)
    if result.is_new:
        count_table(result.snapshot.counts, result.snapshot.classes, list(result.snapshot.splits))
    print_deviation(result.deviation, result.tied)
    for note in result.notes:
        print(f"\n{note[0].upper()}{note[1:]}.")
    if result.unknown:
        shown = ", ".join(result.unknown[:3]) + (", ..." if len(result.unknown) > 3 else "")
        print(f"\n{plural(len(result.unknown), 'key')} of the table not found among the records: {shown}")
    print_doubts(result.doubts)
    if result.not_read:
        print(f"\nNot read, since they follow from the rest: {', '.join(result.not_read)}.")
    print_left_out(result.left_out)


def _before_and_after(row: tuple[str, str | None, str | None, str | None, str | None]) -> list[str]:
    key, label, new_label, split, new_split = row
    if new_label is None and new_split is None and (label or split):
        return [key, f"{label or '-'} -> removed", split or "-"]
    labels = label or "-" if label == new_label else f"{label or '-'} -> {new_label or '-'}"
    splits = split or "-" if split == new_split else f"{split or '-'} -> {new_split or '-'}"
    return [key, labels, splits]
