"""pannier history"""

from __future__ import annotations

from typing import TYPE_CHECKING

import pannier
from pannier.cli import options as opt
from pannier.cli.terminal import draw_into, plural, print_json, print_table

if TYPE_CHECKING:
    from pannier.versions.history import HistoryStep, RecordStep

_SIGNS = (("added", "+"), ("removed", "-"))


def history(
    store: opt.Store,
    key: str | None = opt.argument(None, "One record: what became of it, and by whom.", metavar="[KEY]"),
    rows: int | None = opt.value(None, "Only the newest so many.", min=1),
    by_class: bool = opt.flag("--by-class", "Tell changes class by class."),
    figure: opt.Figure = None,
    json: opt.AsJson = False,
) -> int:
    """The snapshots of a strand, newest first, and what each changed; or every snapshot that changed one record.

    [dim]$[/dim] pannier history swatches.store --figure history.png
    [dim]$[/dim] pannier history swatches.store twill/0042.jpg
    """
    from pannier.storage.opening import parted_address

    path, name = parted_address(store)
    opened = pannier.open_store(path)
    if key is not None:
        found = opened.history(name, key=key)
        print_json([step.to_dict() for step in found]) if json else _print_record(key, found[:rows])
        return 0
    steps = opened.history(name)
    print_json([step.to_dict() for step in steps[:rows]]) if json else _print(steps, rows, by_class)
    if figure:
        draw_into(figure, steps, title=f"{opened.path.name}@{name}")
    return 0


def _print(steps: list[HistoryStep], count: int | None, by_class: bool) -> None:
    rows = [
        [step.id[:12], step.time, step.author, f"{step.records:,}", _changes(step.totals), _about(step)]
        for step in steps[:count]
    ]
    print_table(["snapshot", "time", "by", "records", "changed", "note"], rows, left=6)
    if by_class:
        for step in steps[:count]:
            print(f"\n{step.id[:12]}")
            lines = [[label or "no label", _changes(kinds)] for label, kinds in step.by_class.items()]
            print_table(["class", "changed"], lines, left=2)
    left = len(steps) - len(rows)
    if left:
        print(f"\n{plural(left, 'older snapshot')} (a larger --rows shows more)")


def _changes(totals: dict[str, int]) -> str:
    """As "+12 -3, 2 relabelled"."""
    signed = " ".join(f"{sign}{totals[kind]:,}" for kind, sign in _SIGNS if totals.get(kind))
    others = [f"{number:,} {kind}" for kind, number in totals.items() if kind not in dict(_SIGNS)]
    return ", ".join(each for each in (signed, *others) if each) or "-"


def _about(step: HistoryStep) -> str:
    names = f"[{', '.join(step.names)}]" if step.names else ""
    facts = ", ".join(f"{key}={value}" for key, value in step.facts.items())
    files = f"{plural(len(step.attachments), 'file')} attached" if step.attachments else ""
    return "  ".join(each for each in (names, step.note, facts, files) if each) or "-"


def _print_record(key: str, steps: list[RecordStep]) -> None:
    print(key + "\n")
    rows = [[step.id[:12], step.time, step.author, _told(step), step.note or "-"] for step in steps]
    print_table(["snapshot", "time", "by", "what", "note"], rows, left=5)


def _told(step: RecordStep) -> str:
    """As "came as twill in train", "label twill -> satin"."""
    before, after = step.before, step.after
    if after is None:
        return "went"
    if before is None:
        return f"came as {after['label'] or 'no label'}" + (f" in {after['split']}" if after["split"] else "")
    parts = []
    for what in step.what:
        if what == "moved":
            parts.append(f"moved from {before['key']}")
            continue
        old, new = (("-" if row.get(what) is None else row[what]) for row in (before, after))
        parts.append("another picture" if what == "picture" else f"{what} {old} -> {new}")
    return ", ".join(parts)
