"""pannier show"""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated, Any

import typer

from pannier.cli.options import AsJson, Figure, Store
from pannier.cli.terminal import count_table, drawing, plural, print_facts, print_json

if TYPE_CHECKING:
    from pannier.store.snapshot import Record, Snapshot


def show(
    store: Store,
    key: Annotated[str | None, typer.Argument(metavar="[KEY]", help="One record, by its key.")] = None,
    figure: Figure = None,
    json: AsJson = False,
) -> int:
    """A snapshot: classes by splits, sizes, ids; or one record.

    [dim]$[/dim] pannier show swatches.store --figure counts.png

    [dim]$[/dim] pannier show swatches.store twill/0042.jpg
    """
    from pannier.store.store import open as open_snapshot

    snapshot = open_snapshot(store)
    if key is not None:
        record = snapshot[key]
        print_json(_record_facts(record)) if json else _print_record(record)
        if figure:
            from pannier.figures.sheet import draw_sheet

            with drawing(figure, "figure"):
                draw_sheet([record], figure, title=record.key)
        return 0
    print_json(_snapshot_facts(snapshot)) if json else _print_snapshot(snapshot)
    if figure:
        from pannier.figures.counts import draw_counts

        with drawing(figure, "figure"):
            draw_counts(snapshot, figure)
    return 0


def _snapshot_facts(snapshot: Snapshot) -> dict[str, Any]:
    return {
        "snapshot": snapshot.id,
        "content_id": snapshot.content_id,
        "time": snapshot.time,
        "author": snapshot.author,
        "note": snapshot.note,
        "parents": snapshot.parents,
        "records": len(snapshot),
        "classes": snapshot.classes,
        "splits": snapshot.splits,
        "counts": [{"label": label, "split": split, "records": n} for (label, split), n in snapshot.counts.items()],
        "shares": snapshot.document["shares"],
        "seed": snapshot.document["seed"],
        "byte_count": int(snapshot.manifest.column("byte_count").sum()),
        "left_out": snapshot.left_out,
    }


def _print_snapshot(snapshot: Snapshot) -> None:
    from pannier.sizes import show_bytes

    heights, widths = snapshot.manifest.column("height"), snapshot.manifest.column("width")
    sizes = f"{widths.min()} to {widths.max()} wide, {heights.min()} to {heights.max()} high" if len(snapshot) else "-"
    facts = [
        ("snapshot", f"{snapshot.id[:12]}  (content {snapshot.content_id[:12]})"),
        ("made", f"{snapshot.time} by {snapshot.author}"),
        ("note", snapshot.note or "-"),
        ("records", f"{len(snapshot):,}, {show_bytes(int(snapshot.manifest.column('byte_count').sum()))} of pictures"),
        ("pixels", sizes),
    ]
    if snapshot.document["shares"]:
        shares = ", ".join(f"{name} {_percent(share)}" for name, share in snapshot.document["shares"])
        facts.append(("dealt", f"{shares} with seed {snapshot.document['seed']}"))
    print_facts(facts)
    print()
    count_table(snapshot.counts, snapshot.classes, list(snapshot.splits))
    left_out = snapshot.left_out
    if left_out:
        print(f"\n{plural(len(left_out), 'picture')} left out when it was packed:")
        for item in left_out[:8]:
            print(f"  {item['key']}: {item['reason']}")
        if len(left_out) > 8:
            print(f"  and {len(left_out) - 8:,} more (--json lists all)")


def _percent(share: str) -> str:
    from fractions import Fraction

    return f"{float(Fraction(share)) * 100:g} %"


def _record_facts(record: Record) -> dict[str, Any]:
    names = ("key", "label", "split", "size", "byte_count", "format", "mode", "sha256", "side")
    return {name: getattr(record, name) for name in names}


def _print_record(record: Record) -> None:
    from pannier.sizes import show_bytes

    pixels = record.picture()  # so that damage is seen
    print_facts(
        [
            ("key", record.key),
            ("label", record.label or "no label"),
            ("split", record.split or "no split"),
            ("size", f"{record.size[1]} x {record.size[0]} pixels (wide x high)"),
            ("file", f"{record.format}, {record.mode}, {show_bytes(record.byte_count)}"),
            ("sha256", record.sha256),
            ("values", f"{pixels.min()} to {pixels.max()}, mean {pixels.mean():.1f}"),
            *((name, str(value)) for name, value in record.side.items()),
        ]
    )
