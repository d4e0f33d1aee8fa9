"""pannier pack"""

from __future__ import annotations

import sys
from typing import TYPE_CHECKING, Annotated, Any

import typer

from pannier import choices
from pannier.cli.options import (
    NO_DEALING,
    NO_RULES,
    AsJson,
    DealingOptions,
    FactsOption,
    RuleOptions,
    Sources,
    in_panel,
    takes_dealing,
    takes_rules,
)
from pannier.cli.terminal import (
    count_table,
    plural,
    print_deviation,
    print_funnel,
    print_json,
    print_left_out,
    print_table,
    progress_bar,
)

if TYPE_CHECKING:
    from pannier.api.objects import PackResult


_picture = in_panel("Pictures")


@takes_dealing
@takes_rules
def pack(
    source: Sources,
    store: Annotated[str, typer.Argument(metavar="STORE", help="The store; made where nothing or an empty folder is.")],
    note: Annotated[str, typer.Option(help="A line to remember the snapshot by.")] = "",
    fact: FactsOption = None,
    dealing: DealingOptions = NO_DEALING,
    rules: RuleOptions = NO_RULES,
    keep: Annotated[
        list[str] | None, typer.Option(metavar="COLUMN,...", help="Side columns: columns, or 'SQL as name'.")
    ] = None,
    unlabeled: Annotated[choices.Unlabeled, typer.Option(help="What becomes of what gets no label.")] = "leave",
    classes: Annotated[str | None, typer.Option(metavar="CLASS,...", help="The classes in order of their numbers.")] = None,
    only_classes: Annotated[str | None, typer.Option(metavar="CLASS,...", help="No other classes than these.")] = None,
    per_class: Annotated[int | None, typer.Option(metavar="N", help="At most so many of each class, by chance.")] = None,
    longest_side: Annotated[
        int | None, _picture(metavar="PIXELS", help="Shrink pictures that are longer, as 1600; by default kept as they are.")
    ] = None,
    encode: Annotated[
        str | None, _picture(metavar="FORMAT", help="Save all pictures anew, as jpeg:90, png or webp:80.")
    ] = None,
    max_pixels: Annotated[int, _picture(help="Pictures with more pixels are left out.")] = 100_000_000,
    into: Annotated[str, typer.Option(metavar="PREFIX", help="Put all keys below a prefix.")] = "",
    mirror: Annotated[
        bool, typer.Option("--mirror", metavar="", help="Remove records that the source no longer has.")
    ] = False,
    resplit: Annotated[
        bool, typer.Option("--resplit", metavar="", help="Deal anew although the source has split folders.")
    ] = False,
    relabel: Annotated[
        bool, typer.Option("--relabel", metavar="", help="The source's labels and splits win over those there.")
    ] = False,
    allow_missing_classes: Annotated[
        bool, typer.Option("--allow-missing-classes", metavar="", help="Splits may carry different class names.")
    ] = False,
    strict: Annotated[
        bool, typer.Option("--strict", metavar="", help="Refuse broken pictures instead of leaving them out.")
    ] = False,
    thorough: Annotated[
        bool, typer.Option("--thorough", metavar="", help="Read also files whose size and time stamp are as before.")
    ] = False,
    name: Annotated[str | None, typer.Option(help="What the dataset is called.")] = None,
    description: Annotated[str | None, typer.Option(help="What the dataset is.")] = None,
    track: Annotated[str, typer.Option(help="The track to add to.")] = "main",
    shard_size: Annotated[str, typer.Option(help="Size of a shard.")] = "256MiB",
    shards: Annotated[int | None, typer.Option(help="So many shards, instead of a size.")] = None,
    workers: Annotated[int | None, typer.Option(help="Threads; by default all usable cores.")] = None,
    preview: Annotated[
        bool, typer.Option("--preview", metavar="", help="Show what the rules make of the source, and pack nothing.")
    ] = False,
    json: AsJson = False,
) -> int:
    """Bring a source in as the next snapshot.

    Every picture is decoded once, to know that it is whole. The same thing packed again adds nothing, and reads nothing.

    [dim]$[/dim] pannier pack archive/ swatches.store --shares train=75,val=15,test=10 --seed 7
    [dim]$[/dim] pannier pack register.csv swatches.store --label weave --where "finish = 'raw'" --preview
    [dim]$[/dim] pannier pack heap/ swatches.store --label-pattern "{label}_loom{loom}_{number}" --group-by loom
    """
    from pannier.api.objects import bring_in
    from pannier.units import read_bytes

    options: dict[str, Any] = {
        "note": note,
        "facts": fact,
        "unlabeled": unlabeled,
        "classes": classes or (),
        "only_classes": only_classes or (),
        "per_class": per_class,
        "longest_side": longest_side,
        "encode": encode,
        "into": into,
        "mirror": mirror,
        "resplit": resplit,
        "relabel": relabel,
        "allow_missing_classes": allow_missing_classes,
        "strict": strict,
        "thorough": thorough,
        "name": name,
        "description": description,
        "track": track,
        "shard_bytes": read_bytes(shard_size),
        "shards": shards,
        "max_pixels": max_pixels,
        "workers": workers,
        "keep": keep or (),
        **rules,
        **dealing,
    }
    with progress_bar("pack") as progress:
        result = bring_in(source, store, preview=preview, progress=progress, **options)
    if json:
        print_json(result.to_dict())
    elif preview:
        _print_preview(result)
    else:
        _print(result, store)
    if fact and not result.is_new and not preview:
        print(
            f"So there is no new snapshot for the facts; keep them with: pannier annotate {store} --fact ...",
            file=sys.stderr,
        )
    return 0


def _print_preview(result: PackResult) -> None:
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
    print_deviation(result.deviation)
    print_left_out(result.left_out, "--json")


def _told(result: PackResult) -> str:
    """What became of records, in a line."""
    parts = [f"{result.added:,} added"]
    parts += [f"{result.changed:,} changed"] if result.changed else []
    parts += [f"{result.relabelled:,} relabelled"] if result.relabelled else []
    parts += [f"{result.removed:,} removed"] if result.removed else []
    parts += [f"{result.unchanged:,} there already"] if result.unchanged else []
    return ", ".join(parts)


def _print(result: PackResult, store: str) -> None:
    from pannier.units import show_bytes

    snapshot = result.snapshot
    print_funnel(result.rows, result.funnel)
    if not result.is_new:
        print(f"Nothing new: {plural(result.unchanged, 'record')} are there already; {store} stays at {snapshot.id[:12]}.")
    else:
        print(f"Snapshot {snapshot.id[:12]}: {plural(len(snapshot), 'record')} ({_told(result)});", end=" ")
        print(f"{plural(result.new_pictures, 'new picture')}, {show_bytes(result.new_bytes)}.\n")
        count_table(snapshot.counts, snapshot.classes, list(snapshot.splits))
        print_deviation(result.deviation)
    if result.differing:
        shown = ", ".join(result.differing[:3]) + (", ..." if len(result.differing) > 3 else "")
        print(f"\n{plural(len(result.differing), 'record')} have another label or split in the source: {shown}")
        print("They stay as they are; --relabel takes the source's.")
    print_left_out(result.left_out)
    if result.skipped:
        print(f"\nSkipped: {plural(result.skipped, 'file')} that {'is' if result.skipped == 1 else 'are'} no picture.")
