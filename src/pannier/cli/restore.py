"""pannier restore"""

from __future__ import annotations

from pannier.cli import options as opt
from pannier.cli.export import print_laid_out
from pannier.cli.terminal import print_json, progress_bar


def restore(
    docket: str = opt.argument(..., "A docket's file.", metavar="DOCKET"),
    directory: str | None = opt.argument(None, "The folder; else beside the docket.", metavar="[DIR]"),
    store: opt.StoreHint = None,
    hard_links: bool = opt.flag("--hard-links", "Files are links to one copy of each picture in the store."),
    workers: opt.Workers = None,
    overwrite: bool = opt.flag("--overwrite", "Undo what was changed there by hand."),
    preview: opt.Preview = False,
    json: opt.AsJson = False,
) -> int:
    """Bring back the folder of pictures that a docket tells of; in one that is there, the differences alone.

    [dim]$[/dim] pannier restore swatches.docket
    [dim]$[/dim] pannier restore swatches.docket --store mill.store
    """
    from pannier.folders.exporting import restore as bring_back

    with progress_bar("restore") as progress:
        how = {"hard_links": hard_links, "workers": workers, "overwrite": overwrite, "progress": progress}
        result = bring_back(docket, directory, store=store, preview=preview, **how)  # type: ignore[arg-type]
    print_json(result.to_dict()) if json else print_laid_out(result, is_preview=preview)
    return 0
