"""pannier tag"""

from __future__ import annotations

from typing import Annotated

import typer

from pannier.cli.options import AsJson, Note, Store
from pannier.cli.terminal import print_json
from pannier.cli.track import print_names


def tag(
    store: Store,
    tag: Annotated[str | None, typer.Argument(metavar="[TAG]", help="The name to give the snapshot.")] = None,
    note: Note = "",
    rename: Annotated[str | None, typer.Option(metavar="NAME", help="Call the tag TAG otherwise.")] = None,
    delete: Annotated[bool, typer.Option("--delete", metavar="", help="Delete the tag TAG; the snapshot stays.")] = False,
    yes: Annotated[
        bool, typer.Option("--yes", metavar="", help="Have a tag that is there name another snapshot, or delete it.")
    ] = False,
    json: AsJson = False,
) -> int:
    """Give a snapshot a name that stays. Every step of a tag is recorded. Alone: list them.

    [dim]$[/dim] pannier tag swatches.store spring

    [dim]$[/dim] pannier tag swatches.store@3f9ac1 spring --yes --note "two labels put right"
    """
    from pannier.api.objects import open_store
    from pannier.errors import UsageError
    from pannier.storage.opening import parted_address
    from pannier.versions.naming import add_tag, names_told, remove
    from pannier.versions.naming import rename as call_otherwise

    path, at = parted_address(store)
    opened = open_store(path)
    if tag is None:
        if rename or delete:
            raise UsageError("name the tag that is meant, after the store")
        rows = names_told(opened.storage, opened.tags)
        print_json(rows) if json else print_names("tag", rows)
        return 0
    if delete:
        if not yes:
            raise UsageError(f"deleting tag {tag!r} wants --yes")
        remove(opened.tags, tag, note=note)
        print(f"Tag {tag} is deleted; the snapshot stays.")
    elif rename:
        call_otherwise(opened.tags, tag, rename)
        print(f"Tag {tag} is now called {rename}.")
    else:
        snapshot = add_tag(opened.opened, tag, at, note=note, move=yes)
        print(f"Tag {tag} names snapshot {snapshot[:12]}.")
    return 0
