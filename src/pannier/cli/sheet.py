"""pannier sheet"""

from __future__ import annotations

from typing import Annotated

import typer

from pannier.cli.options import Figure, Seed, Split, Store, Subset, Where
from pannier.cli.terminal import drawing


def sheet(
    store: Store,
    split: Split = None,
    count: Annotated[int, typer.Option(help="How many pictures.")] = 40,
    seed: Seed = 0,
    subset: Subset = None,
    where: Where = None,
    figure: Figure = "sheet.png",
) -> int:
    """Many pictures with their labels on one sheet, chosen by chance, alike from every class.

    [dim]$[/dim] pannier sheet swatches.store --split train --figure sheet.png
    """
    from pannier.figures.sheet import choose_records, draw_sheet
    from pannier.store.store import open as open_snapshot

    snapshot = open_snapshot(store)
    records = choose_records(snapshot, split, count, seed, subset, where)
    total = len(snapshot.subset_of(split, None, where=where))
    title = f"{snapshot.store.path.name}, {split or 'all splits'}: {len(records)} of {total:,}"
    with drawing(figure, "sheet"):
        draw_sheet(records, figure or "sheet.png", title=title)
    return 0
