"""pannier track"""

from __future__ import annotations

from typing import Annotated, Any

import typer

from pannier.cli.options import AsJson, Note, Store
from pannier.cli.terminal import print_json, print_table


def track(
    store: Store,
    track: Annotated[
        str | None, typer.Argument(metavar="[TRACK]", help="The track to start here, or to bring here.")
    ] = None,
    note: Note = "",
    rename: Annotated[str | None, typer.Option(metavar="NAME", help="Call the track TRACK otherwise.")] = None,
    delete: Annotated[
        bool, typer.Option("--delete", metavar="", help="Delete the track TRACK; its snapshots stay until they are tidied.")
    ] = False,
    yes: Annotated[bool, typer.Option("--yes", metavar="", help="Delete it for sure.")] = False,
    json: AsJson = False,
) -> int:
    """Start a track at a snapshot, without copying, or bring one up to it. Alone: list them.

    A track that is there is brought up only where the snapshot descends from it; otherwise what differs is listed.

    [dim]$[/dim] pannier track swatches.store trial

    [dim]$[/dim] pannier track swatches.store@trial main

    [dim]$[/dim] pannier track swatches.store trial --delete --yes
    """
    from pannier.api.objects import open_store
    from pannier.errors import UsageError
    from pannier.storage.opening import parted_address
    from pannier.versions.naming import names_told, remove, start_track
    from pannier.versions.naming import rename as call_otherwise

    path, at = parted_address(store)
    opened = open_store(path)
    if track is None:
        if rename or delete:
            raise UsageError("name the track that is meant, after the store")
        rows = names_told(opened.storage, opened.tracks)
        print_json(rows) if json else print_names("track", rows)
        return 0
    if delete:
        if not yes:
            raise UsageError(f"deleting track {track!r} wants --yes; its snapshots stay until they are tidied")
        remove(opened.tracks, track, note=note)
        print(f"Track {track} is deleted; its snapshots stay until pannier tidy removes them.")
    elif rename:
        call_otherwise(opened.tracks, track, rename)
        print(f"Track {track} is now called {rename}.")
    else:
        was_there = opened.tracks.head(track)
        snapshot = start_track(opened.opened, track, at, note=note)
        if was_there and was_there.snapshot == snapshot:
            print(f"Track {track} is at snapshot {snapshot[:12]} already.")
        else:
            print(f"Track {track} {'took over' if was_there else 'starts at'} snapshot {snapshot[:12]}.")
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
