"""pannier copy"""

from __future__ import annotations

from typing import Any

import pannier
from pannier.cli import options as opt
from pannier.cli.terminal import plural, print_json, progress_bar
from pannier.errors import UsageError
from pannier.units import show_bytes


def copy(
    store: opt.Store,
    other: str = opt.argument(..., "The other store; made where nothing or an empty folder is.", metavar="OTHER"),
    strand: str | None = opt.value(None, "What it is called there; by default as here.", "STRAND"),
    everything: bool = opt.flag("--all", "All strands and tags, with all that they lead to: a backup."),
    cluster: opt.Cluster = None,
    preview: opt.Preview = False,
    json: opt.AsJson = False,
) -> int:
    """Bring a snapshot with its history into another store: only what that lacks. Interrupted, it goes on.

    [dim]$[/dim] pannier copy swatches.store mill.store
    [dim]$[/dim] pannier copy swatches.store@spring weave.store --strand spring-weaves
    [dim]$[/dim] pannier copy swatches.store backup.store --all
    """
    from pannier.api.opening import open_or_create
    from pannier.executors import workers_at
    from pannier.storage.opening import open_storage, parted_address
    from pannier.store.names import FIRST_STRAND
    from pannier.store.state import is_empty

    path, name = parted_address(store)
    if everything and (strand is not None or name != FIRST_STRAND):
        raise UsageError("--all brings everything under its own name: name the store alone, without --strand")
    here = pannier.open_store(path)
    here.resolve(name)
    target = open_storage(other)
    is_new = preview and (not target.is_there() or is_empty(target))  # where nothing is, a preview makes nothing either
    with progress_bar("copy") as progress, workers_at(cluster) as executor:
        there = open_or_create("memory://preview" if is_new else other)
        how: dict[str, Any] = {"preview": preview, "progress": progress, "executor": executor}
        done = here.copy_all(there, **how) if everything else here.copy(name, there, strand=strand, **how)
    if json:
        print_json(done.to_dict())
        return 0
    if everything:
        print(f"{plural(len(done.names), 'name')}: {', '.join(sorted(done.names))}.")
    if done.pictures or done.snapshots:
        what = f"{plural(done.pictures, 'picture')}, {show_bytes(done.byte_count)}, {plural(done.snapshots, 'snapshot')}"
        verb = "would be brought there; nothing is written" if preview else "brought there"
        print(f"{other}@{done.strand} {'would be' if preview else 'is'} snapshot {done.snapshot.id[:12]}: {what} {verb}.")
    else:
        print(f"{other}@{done.strand} is snapshot {done.snapshot.id[:12]}: everything was there already.")
    return 0
