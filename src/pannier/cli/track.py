"""pannier track"""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import pannier
from pannier.cli import options as opt
from pannier.cli.terminal import print_json, print_table
from pannier.errors import UsageError

if TYPE_CHECKING:
    from pannier.store.state import OpenedStore


def track(
    store: opt.Store,
    track: str | None = opt.argument(None, "The track to start here, or to bring here.", metavar="[TRACK]"),
    note: opt.Note = "",
    rename: str | None = opt.value(None, "Call the track TRACK otherwise.", "NAME"),
    delete: bool = opt.flag("--delete", "Delete the track TRACK; its snapshots stay until they are tidied."),
    yes: bool = opt.flag("--yes", "Delete it for sure."),
    json: opt.AsJson = False,
) -> int:
    """Start a track at a snapshot, without copying, or bring one up to it. Alone: list them.

    A track that is there is brought up only where the snapshot descends from it; otherwise what differs is listed.

    [dim]$[/dim] pannier track swatches.store trial
    [dim]$[/dim] pannier track swatches.store@trial main
    [dim]$[/dim] pannier track swatches.store trial --delete --yes
    """
    from pannier.storage.opening import parted_address
    from pannier.versions.naming import start_track

    path, at = parted_address(store)
    opened = pannier.open_store(path)
    stays = "its snapshots stay until pannier tidy removes them"
    if track is None or delete or rename:
        return told_or_moved("track", opened, track, rename, delete, yes, note, stays, json)
    was_there = opened.tracks.head(track)
    snapshot = start_track(opened, track, at, note=note)
    if was_there and was_there.snapshot == snapshot:
        print(f"Track {track} is at snapshot {snapshot[:12]} already.")
    else:
        print(f"Track {track} {'took over' if was_there else 'starts at'} snapshot {snapshot[:12]}.")
    return 0


def told_or_moved(
    kind: str,
    opened: OpenedStore,
    name: str | None,
    rename: str | None,
    delete: bool,
    yes: bool,
    note: str,
    stays: str,
    json: bool,
) -> int:
    """What tracks and tags have in common: lists them, or renames or deletes one."""
    from pannier.versions import naming

    names = opened.tracks if kind == "track" else opened.tags
    if name is None:
        if rename or delete:
            raise UsageError(f"name the {kind} that is meant, after the store")
        rows = naming.names_told(opened.storage, names)
        print_json(rows) if json else print_names(kind, rows)
    elif delete:
        if not yes:
            raise UsageError(f"deleting {kind} {name!r} wants --yes; {stays}")
        naming.remove(names, name, note=note)
        print(f"{kind.capitalize()} {name} is deleted; {stays}.")
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
