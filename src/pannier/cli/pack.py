"""pannier pack"""

from __future__ import annotations

import shlex
import sys
from dataclasses import replace
from typing import Any

import pannier
from pannier import choices
from pannier.cli import options as opt
from pannier.cli.terminal import (
    count_table,
    draw_into,
    plural,
    print_deviation,
    print_doubts,
    print_funnel,
    print_json,
    print_left_out,
    print_table,
    print_wrapped,
    progress_bar,
    write_doubts,
)
from pannier.units import show_bytes

_SHOWN_KEYS = 3
_SHOWN = 12

_HOW = {
    "columns": opt.texts("Side columns: columns, or 'SQL as name'.", "COLUMN,..."),
    "unlabeled": opt.Declared(choices.Unlabeled, "What becomes of what gets no label.", default="leave"),
    "classes": opt.text("The classes in order of their numbers.", "CLASS,..."),
    "only_classes": opt.text("No other classes than these.", "CLASS,..."),
    "per_class": opt.number("At most so many of each class, by chance.", "N"),
    "longest_side": opt.number("Shrink what is longer, as 1600; by default all stay as they are.", "PIXELS"),
    "encode": opt.text("Save all pictures anew, as jpeg:90, png or webp:80.", "FORMAT"),
    "max_pixels": opt.Declared(int, "Pictures with more pixels are left out.", default=100_000_000),
    "prefix": opt.text("Put all keys below a prefix.", "PREFIX"),
    "remove_missing": opt.switch("Remove records that the source no longer has."),
    "resplit": opt.switch("Deal anew although the source has split folders."),
    "doubtful": opt.Declared(choices.Doubtful | None, "Of what harms training, as one picture under two labels."),
    "forget": opt.switch("Leave out of account what earlier packs of this source were told."),
    "relabel": opt.Declared(choices.Relabel | None, "Whose word goes where both have changed a record."),
    "allow_missing_classes": opt.switch("Splits may carry different class names."),
    "strict": opt.switch("Refuse broken pictures instead of leaving them out."),
    "reread": opt.switch("Read also files whose size and time stamp are as before."),
    **opt.DATASET,
    "shard_size": opt.Declared(str, "Size of a shard.", "BYTES", default="256MiB"),
    "workers": opt.number("Threads; by default all usable cores, on a cluster one a worker."),
    **opt.MEMORY,
}


@opt.takes_dealing
@opt.takes_rules
@opt.takes("how", _HOW)
def pack(
    source: opt.Sources,
    store: str = opt.argument(..., "The store; made where nothing or an empty folder is.", metavar="STORE"),
    note: str = opt.value("", "A line to remember the snapshot by.", "TEXT"),
    fact: opt.FactsOption = None,
    dealing: opt.Said = opt.NOTHING,
    rules: opt.Said = opt.NOTHING,
    how: opt.Said = opt.NOTHING,
    cluster: opt.Cluster = None,
    preview: bool = opt.flag("--preview", "Show what the rules make of the source, and pack nothing."),
    doubts: opt.Doubts = None,
    figure: str | None = opt.value(None, "Draw the pictures in conflict into a PNG, PDF or SVG file.", "FILE"),
    json: opt.AsJson = False,
) -> int:
    """Bring a source in as the next snapshot.

    Every picture is decoded once, to know that it is whole. The same thing packed again adds nothing, and reads nothing.

    [dim]$[/dim] pannier pack archive/ swatches.store --shares train=75,val=15,test=10 --seed 7
    [dim]$[/dim] pannier pack raking/gathered.csv swatches.store --label weave --where "finish = 'raw'" --preview
    [dim]$[/dim] pannier pack heap/ swatches.store --label-pattern "{label}_loom{loom}_{number}" --group-by loom
    """
    from pannier.api.opening import bring_in
    from pannier.executors import workers_at
    from pannier.packing.pack import PackOptions

    with progress_bar("pack") as progress, workers_at(cluster) as executor:
        about: opt.Said = {"note": note, "facts": fact, "preview": preview, "progress": progress, "executor": executor}
        result = bring_in(source, store, PackOptions(**about, **how, **rules, **dealing))
    told = replace(result, doubts=[]) if how.get("doubtful") == "keep" else result
    print_json(result.to_dict()) if json else _print_preview(told, store) if preview else _print(told, store)
    if doubts:
        write_doubts(result.doubts, doubts)
    if figure and result.conflicts and not preview:
        draw_into(figure, result, "sheet")
    if fact and not result.is_new and not preview:
        print(f"So no new snapshot has the facts; keep them with: pannier attach {store} --fact ...", file=sys.stderr)
    return 0


def _print_preview(result: pannier.PackResult, store: str) -> None:
    from pannier.dealing.shares import split_rank

    print_funnel(result.rows, result.funnel)
    left = result.funnel[-1][1] if result.funnel else result.rows
    if result.without_label:
        print(f"{result.without_label:,} of {left:,} rows get no label")
    print(f"{_told(result)}; nothing is written.\n")
    print_table(["key", "label", "split"], [[row[0], row[1] or "-", row[2] or "-"] for row in result.first], left=3)
    print("\nThe snapshot would hold:")
    classes = sorted({label for label, _ in result.counts if label is not None})
    count_table(result.counts, classes, sorted({split for _, split in result.counts if split}, key=split_rank))
    for name, origins in result.origins.items():
        if set(origins) != {name}:
            print(f"\n{name} is made of " + ", ".join(f"{origin} ({count:,})" for origin, count in origins.items()))
    print_deviation(result.deviation, result.tied)
    _print_what_to_decide(result, store)
    print_left_out(result.left_out, "--json")


def _told(result: pannier.PackResult) -> str:
    """What became of records, in a line."""
    parts = [f"{result.added:,} added"]
    other = result.changed - result.reencoded
    parts += [f"{other:,} given another picture"] if other else []
    parts += [f"{result.reencoded:,} saved anew"] if result.reencoded else []
    parts += [f"{result.moved:,} moved"] if result.moved else []
    parts += [f"{result.relabelled:,} relabelled"] if result.relabelled else []
    parts += [f"{result.resplit:,} put into another split"] if result.resplit else []
    parts += [f"{result.removed:,} removed"] if result.removed else []
    parts += [f"{result.unchanged:,} there already"] if result.unchanged else []
    return ", ".join(parts)


def _option(value: Any) -> str:
    if isinstance(value, dict):
        value = [f"{old}={new}" for old, new in value.items()]
    return "not said" if value is None else ", ".join(map(str, value)) if isinstance(value, list) else str(value)


def _shown(value: Any) -> str:
    return "-" if value is None else str(value)


def _print_what_to_decide(result: pannier.PackResult, store: str) -> None:
    """What harms training, what is said otherwise than before, and what both sides have changed."""
    print_doubts(result.doubts)
    if result.absent:
        keys = ", ".join(result.absent_keys[:_SHOWN_KEYS]) + (", ..." if result.absent > _SHOWN_KEYS else "")
        count = plural(result.absent, "record is", "records are")
        print(f"\n{count} in this source no more, and stay: {keys}")
        print("--remove-missing takes out what a source has no more.")
    for option, before, now in result.otherwise:
        print(f"\n--{option.replace('_', '-')} {_option(now)}: it was {_option(before)} when this source was packed before.")
    if any(option in ("shares", "counts", "carve", "seed") for option, _, _ in result.otherwise):
        print(f"It is for records that come from now on; pannier change {store} --shares ... deals all anew.")
    if result.conflicts:
        print(f"\nCorrected here, and said otherwise by the source since: {plural(len(result.conflicts), 'conflict')}")
        rows = [[each.key, each.column, *map(_shown, each[2:])] for each in result.conflicts[:_SHOWN]]
        print_table(["key", "column", "said before", "in the source", "here"], rows, left=5)
        more = f"{len(result.conflicts) - _SHOWN:,} more with --json. " if len(result.conflicts) > _SHOWN else ""
        print(f"{more}They stay as they are here until --relabel source, or --relabel store, decides.")


def _print_straddling(result: pannier.PackResult, store: str) -> None:
    """Near-duplicates in two splits, and what keeps them together."""
    listing = shlex.join(["pannier", "doubles", store])
    if not result.is_compared:
        print(f"\nNear-duplicates in two splits were not looked for. List them with:\n  {listing}")
    if result.straddling:
        first = result.straddling[0]
        pair = f"{first.key} ({first.split}) and {first.other} ({first.other_split})"
        shares = result.snapshot.dealing.in_words().get("shares", "train=80,val=20")
        print()
        print_wrapped(f"Near-duplicates in two splits: {plural(len(result.straddling), 'pair')}, for example {pair}.")
        print(f"List them with:\n  {listing}")
        again = shlex.join(["pannier", "change", store, "--shares", shares, "--near", "6"])
        print(f"Split all records again, so that such pairs stay together, with:\n  {again}")


def _print(result: pannier.PackResult, store: str) -> None:
    snapshot = result.snapshot
    for note in result.notes:
        print(f"Source: {note}.")
    print_funnel(result.rows, result.funnel)
    if not result.is_new:
        count = plural(result.unchanged, "record is", "records are")
        print(f"Nothing new: {count} there already; {store} stays at {snapshot.id[:12]}.")
    else:
        print(f"Snapshot {snapshot.id[:12]}: {plural(len(snapshot), 'record')} ({_told(result)});", end=" ")
        print(f"{plural(result.new_pictures, 'new picture')}, {show_bytes(result.new_bytes)}.\n")
        count_table(snapshot.counts, snapshot.classes, list(snapshot.splits))
        print_deviation(result.deviation, result.tied)
    _print_what_to_decide(result, store)
    _print_straddling(result, store)
    print_left_out(result.left_out)
    if result.skipped:
        print(f"\nSkipped: {plural(result.skipped, 'file')} that {'is' if result.skipped == 1 else 'are'} no picture.")
