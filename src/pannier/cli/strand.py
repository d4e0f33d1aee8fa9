"""pannier strand"""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import pannier
from pannier.cli import options as opt
from pannier.cli.terminal import print_json, print_table
from pannier.errors import UsageError

if TYPE_CHECKING:
    from pannier.store.state import OpenedStore


def strand(
    store: opt.Store,
    strand: str | None = opt.argument(None, "The strand to start here, or to bring here.", metavar="[STRAND]"),
    note: opt.Note = "",
    rename: str | None = opt.value(None, "Call the strand STRAND otherwise.", "NAME"),
    remove: bool = opt.flag("--remove", "Remove the strand STRAND; its snapshots stay until they are tidied."),
    yes: bool = opt.flag("--yes", "Remove it for sure."),
    json: opt.AsJson = False,
) -> int:
    """Start a strand at a snapshot, without copying, or bring one up to it. Alone: list them.

    A strand that is there is brought up only where the snapshot descends from it; otherwise what differs is listed.

    [dim]$[/dim] pannier strand swatches.store trial
    [dim]$[/dim] pannier strand swatches.store@trial main
    [dim]$[/dim] pannier strand swatches.store trial --remove --yes
    """
    from pannier.storage.opening import parted_address
    from pannier.versions.naming import start_strand

    path, at = parted_address(store)
    opened = pannier.open_store(path)
    stays = "its snapshots stay until pannier tidy removes them"
    if strand is None or remove or rename:
        return told_or_moved("strand", opened, strand, rename, remove, yes, note, stays, json)
    was_there = opened.strands.head(strand)
    snapshot = start_strand(opened, strand, at, note=note)
    if was_there and was_there.snapshot == snapshot:
        print(f"Strand {strand} is at snapshot {snapshot[:12]} already.")
    else:
        print(f"Strand {strand} {'took over' if was_there else 'starts at'} snapshot {snapshot[:12]}.")
    return 0


def told_or_moved(
    kind: str,
    opened: OpenedStore,
    name: str | None,
    rename: str | None,
    remove: bool,
    yes: bool,
    note: str,
    stays: str,
    json: bool,
) -> int:
    """What strands and tags have in common: lists them, or renames or deletes one."""
    from pannier.versions import naming

    names = opened.strands if kind == "strand" else opened.tags
    if name is None:
        if rename or remove:
            raise UsageError(f"name the {kind} that is meant, after the store")
        rows = naming.names_told(opened.storage, names)
        print_json(rows) if json else print_names(kind, rows)
    elif remove:
        if not yes:
            raise UsageError(f"removing {kind} {name!r} wants --yes; {stays}")
        naming.remove(names, name, note=note)
        print(f"{kind.capitalize()} {name} is removed; {stays}.")
    elif rename:
        naming.rename(names, name, rename)
        print(f"{kind.capitalize()} {name} is now called {rename}.")
    return 0


def print_names(kind: str, rows: list[dict[str, Any]]) -> None:
    if not rows:
        print(f"No {kind} yet.")
        return
    lines = [
        [row["name"], row["snapshot"][:12], row["since"], row["author"], f"{row['records']:,}", row["note"] or "-"]
        for row in rows
    ]
    print_table([kind, "snapshot", "since", "by", "records", "note"], lines, left=6)
