"""pannier tag"""

from __future__ import annotations

import pannier
from pannier.cli import options as opt
from pannier.cli.strand import told_or_moved


def tag(
    store: opt.Store,
    tag: str | None = opt.argument(None, "The name to give the snapshot.", metavar="[TAG]"),
    note: opt.Note = "",
    rename: str | None = opt.value(None, "Call the tag TAG otherwise.", "NAME"),
    remove: bool = opt.flag("--remove", "Remove the tag TAG; the snapshot stays."),
    overwrite: bool = opt.flag("--overwrite", "Have a tag that is there name another snapshot."),
    yes: bool = opt.flag("--yes", "Remove it for sure."),
    json: opt.AsJson = False,
) -> int:
    """Give a snapshot a name that stays. Every step of a tag is recorded. Alone: list them.

    [dim]$[/dim] pannier tag swatches.store spring
    [dim]$[/dim] pannier tag swatches.store@trial spring --overwrite --note "two labels put right"
    """
    from pannier.storage.opening import parted_address
    from pannier.versions.naming import add_tag

    path, at = parted_address(store)
    opened = pannier.open_store(path)
    if tag is None or remove or rename:
        return told_or_moved("tag", opened, tag, rename, remove, yes, note, "the snapshot stays", json)
    snapshot = add_tag(opened, tag, at, note=note, overwrite=overwrite)
    print(f"Tag {tag} names snapshot {snapshot[:12]}.")
    return 0
