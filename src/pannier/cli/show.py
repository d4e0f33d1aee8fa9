"""pannier show"""

from __future__ import annotations

from typing import Any

import pannier
from pannier.cli import options as opt
from pannier.cli.terminal import count_table, draw_into, plural, print_facts, print_json, print_left_out, print_table
from pannier.units import show_bytes


def show(
    store: opt.Store,
    key: str | None = opt.argument(None, "One record, by its key.", metavar="[KEY]"),
    batch_size: int | None = opt.value(None, "Count batches an epoch of this size, by split.", min=1),
    recipe: bool = opt.flag("--recipe", "How its sources were packed: as commands, and as TOML."),
    figure: opt.Figure = None,
    json: opt.AsJson = False,
) -> int:
    """A snapshot: classes by splits, sizes, ids; or one record.

    [dim]$[/dim] pannier show swatches.store --figure counts.png
    [dim]$[/dim] pannier show swatches.store twill/0042.jpg
    """
    snapshot = pannier.open(store)
    if key is not None:
        record, reason = snapshot[key], snapshot.why(key)
        print_json(record.to_dict() | {"why": reason.to_dict()}) if json else _print_record(record, reason)
        if figure:
            draw_into(figure, [record], title=record.key)
        return 0
    if recipe:
        print_json(snapshot.recipes) if json else _print_recipes(snapshot)
        return 0
    steps = [_steps_of(split, count, batch_size) for split, count in snapshot.splits.items()] if batch_size else []
    print_json(snapshot.to_dict() | {"steps": steps}) if json else _print_snapshot(snapshot, steps)
    if figure:
        draw_into(figure, snapshot)
    return 0


def _print_recipes(snapshot: pannier.Snapshot) -> None:
    from pannier.packing.recipe import as_command, as_toml

    if not snapshot.recipes:
        print("Nothing in it came from a source that has a name.")
    for number, each in enumerate(snapshot.recipes):
        command = as_command(each, snapshot.storage.address, snapshot.dealing)
        print(f"{'' if number == 0 else chr(10)}{command}\n\n{as_toml(each)}", end="")


def _steps_of(split: str, records: int, batch_size: int) -> dict[str, Any]:
    """How many steps an epoch of a split has, with the last, smaller batch kept and dropped."""
    kept, dropped = -(-records // batch_size), records // batch_size
    return {"split": split, "records": records, "batch_size": batch_size, "steps_kept": kept, "steps_dropped": dropped}


def _print_snapshot(snapshot: pannier.Snapshot, steps: list[dict[str, Any]]) -> None:
    from pannier.sources.rows import LeftOut

    heights, widths = snapshot.manifest.column("height"), snapshot.manifest.column("width")
    sizes = f"{widths.min()} to {widths.max()} wide, {heights.min()} to {heights.max()} high" if len(snapshot) else "-"
    facts = [("dataset", snapshot.name)] if snapshot.name else []
    facts += [("about", snapshot.description)] if snapshot.description else []
    facts += [
        ("snapshot", f"{snapshot.id[:12]}  (content {snapshot.content_id[:12]})"),
        ("made", f"{snapshot.time} by {snapshot.author}"),
        ("note", snapshot.note or "-"),
        ("records", f"{len(snapshot):,}, {show_bytes(int(snapshot.manifest.column('byte_count').sum()))} of pictures"),
        ("pixels", sizes),
    ]
    facts += _about_dealing(snapshot)
    told = ", ".join(f"{key}={value}" for key, value in snapshot.facts.items())
    facts += [("facts", told)] if told else []
    files = ", ".join(f"{attachment.name} ({show_bytes(attachment.byte_count)})" for attachment in snapshot.attachments)
    facts += [("attached", files)] if files else []
    print_facts(*facts)
    print()
    count_table(snapshot.counts, snapshot.classes, list(snapshot.splits))
    if steps:
        print()
        counts = ("records", "steps_kept", "steps_dropped")
        rows = [[step["split"], *(f"{step[name]:,}" for name in counts)] for step in steps]
        print_table(["split", "records", "steps an epoch", "last dropped"], rows)
    print_left_out([LeftOut(**item) for item in snapshot.left_out])


def _about_dealing(snapshot: pannier.Snapshot) -> list[tuple[str, str]]:
    """How splits came about, as far as it was said."""
    dealing, facts = snapshot.dealing, []
    if dealing.shares:
        parts = [f"{name} {count:,}" for name, count in dealing.counts.items()]
        parts += [f"{name} {float(share) * 100:.4g} %" for name, share in dealing.shares.items()]
        of = f" of {dealing.carved_from}" if dealing.carved_from else ""
        facts.append(("dealt", f"{', '.join(parts)}{of} with seed {dealing.seed}{_moved_since(snapshot)}"))
    together = [f"groups by {dealing.group_by}"] if dealing.group_by else []
    together += [f"near doubles (near {dealing.near}){_unlike(dealing)}"] if dealing.near is not None else []
    facts += [("together", ", ".join(together))] if together else []
    facts += [("frozen", ", ".join(dealing.frozen))] if dealing.frozen else []
    facts += [("leaks", "allowed: records that should lie in one split may lie in two")] if dealing.leaks_allowed else []
    return facts


def _moved_since(snapshot: pannier.Snapshot) -> str:
    """What the splits hold where that is no longer as they were dealt: more than a record of each class is elsewhere."""
    targets = {name: float(share) for name, share in (snapshot.dealing.shares or {}).items()}
    held = {name: snapshot.splits.get(name, 0) for name in targets}
    total = sum(held.values())
    most = max(len(snapshot.classes), 1) + 0.01 * total
    if total and all(abs(held[name] - share * total) <= most for name, share in targets.items()):
        return ""
    return "; now " + ", ".join(f"{name} {count / max(1, total) * 100:.4g} %" for name, count in held.items())


def _unlike(dealing: pannier.Dealing) -> str:
    return f", {plural(len(dealing.unlike), 'pair')} declared unlike" if dealing.unlike else ""


def _print_record(record: pannier.Record, reason: pannier.Reason) -> None:
    pixels = record.picture()  # so that damage is seen
    print_facts(
        ("key", record.key),
        ("label", record.label or "no label"),
        ("split", record.split or "no split"),
        ("because", str(reason)),
        ("size", f"{record.size[1]} x {record.size[0]} pixels (wide x high)"),
        ("file", f"{record.format}, {record.mode}, {show_bytes(record.byte_count)}"),
        ("sha256", record.sha256),
        ("values", f"{pixels.min()} to {pixels.max()}, mean {pixels.mean():.1f}"),
        *((name, str(value)) for name, value in record.side.items()),
        *((f"{name} in source", value or "none") for name, value in record.source_said.items()),
    )
