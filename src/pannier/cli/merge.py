"""pannier merge"""

from __future__ import annotations

import pannier
from pannier import choices
from pannier.cli import options as opt
from pannier.cli.terminal import (
    at_work,
    count_table,
    draw_into,
    plural,
    print_changes,
    print_doubts,
    print_json,
    print_left_out,
    print_table,
    write_table_into,
)

_SHOWN = 10
_HOW = {
    "strand": opt.Declared(str, "Our strand, which goes on.", "STRAND", "main"),
    "decided": opt.text("The table of --conflicts with take filled in: ours or theirs.", "TABLE"),
    "prefer": opt.Declared(choices.Side | None, "Of conflicts that nothing else decides."),
}


@opt.takes("how", _HOW)
def merge(
    store: str = opt.argument(..., "The store.", metavar="STORE"),
    theirs: str = opt.argument(..., "A strand, a tag or a snapshot's id, which ours takes in."),
    how: opt.Said = opt.NOTHING,
    note: opt.Note = "",
    conflicts: str | None = opt.value(None, "Write the conflicts, as a table to fill in.", "FILE"),
    preview: opt.Preview = False,
    figure: opt.Figure = None,
    json: opt.AsJson = False,
) -> int:
    """Bring two strands together that have moved apart: by key and column, from where they parted.

    What one side changed is taken, what both changed alike is taken once. What they changed differently is a conflict: all
    are listed, and nothing is written before each is decided. Exit status 1 while there are any. Of another store: copy it
    here first, with --strand.

    [dim]$[/dim] pannier merge swatches.store trial --preview
    [dim]$[/dim] pannier merge swatches.store trial --conflicts conflicts.csv --figure conflicts.png
    """
    with at_work("merge"):
        result = pannier.open_store(store).merge(theirs, note=note, preview=preview, **how)
    shown = {"is_preview": preview, "is_written": conflicts is not None}
    print_json(result.to_dict()) if json else _print(result, store, theirs, **shown)
    if conflicts:
        write_table_into(conflicts, result.conflict_table(), "conflicts")
    if figure and result.conflicts:
        draw_into(figure, result, "sheet")
    return 1 if result.conflicts else 0


def _print(result: pannier.MergeResult, store: str, theirs: str, *, is_preview: bool, is_written: bool) -> None:
    if result.conflicts:
        count = plural(len(result.conflicts), "conflict")
        print(f"{count}: both sides have changed these, and not alike. Nothing is written.\n")
        rows = [[each.key, each.column, *map(_shown, each[2:])] for each in result.conflicts[:_SHOWN]]
        print_table(["key", "column", "before", "ours", "theirs"], rows, left=5)
        more = f"{len(result.conflicts) - _SHOWN:,} more. " if len(result.conflicts) > _SHOWN else ""
        write = "Fill in take there" if is_written else "Write them with --conflicts FILE, fill in take"
        print(f"\n{more}{write}, and give it back with --decided; or say --prefer.")
        return
    changed = sum(row[3] for row in result.changes)
    if result.is_new:
        print(f"Snapshot {result.snapshot.id[:12]} has both: {plural(changed, 'record')} from {theirs}.\n")
    elif is_preview and changed:
        print(f"{plural(changed, 'record')} would come from {theirs}; nothing is written.\n")
    else:
        print(f"Nothing to bring: {store} has all of {theirs}.")
    print_changes(result.changes)
    if result.is_new:
        count_table(result.snapshot.counts, result.snapshot.classes, list(result.snapshot.splits))
    print_doubts(result.doubts)
    print_left_out(result.left_out)


def _shown(value: object) -> str:
    return "-" if value is None else str(value)[:24]
