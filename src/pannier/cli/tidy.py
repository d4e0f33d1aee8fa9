"""pannier tidy"""

from __future__ import annotations

from collections import Counter
from typing import TYPE_CHECKING

import pannier
from pannier.cli import options as opt
from pannier.cli.terminal import live_bar, plural, print_json, print_table, print_wrapped
from pannier.units import show_bytes

if TYPE_CHECKING:
    from pannier.upkeep.tidying import Tidied


def tidy(
    store: str = opt.argument(..., "The store.", metavar="STORE"),
    older_than: str = opt.value("10d", "Only what has been there so long: 10d, 12h, 30m.", "AGE"),
    preview: bool = opt.flag("--preview", "Show what would go, and change nothing: as without --yes."),
    yes: bool = opt.flag("--yes", "Do it; without, it is only said."),
    json: opt.AsJson = False,
) -> int:
    """Say what nothing refers to any more and how much it would free; with --yes it goes.

    History is kept: what a strand or a tag leads to stays, and what a running writer or reader needs.

    [dim]$[/dim] pannier tidy swatches.store
    [dim]$[/dim] pannier tidy swatches.store --older-than 30d --yes
    """
    with live_bar("tidy", "looking what is referenced") as bar:

        def step(done: int, total: int) -> None:
            bar.show(done, total, lambda: "")

        result = pannier.open_store(store).tidy(older_than=older_than, preview=preview, yes=yes, progress=step)
    if json:
        print_json(result.to_dict())
        return 0
    _print(result, store, older_than)
    return 0


def _print(result: Tidied, store: str, older_than: str) -> None:
    if not result.going:
        print(f"Nothing to tidy: all that is older than {older_than} is in use.")
    else:
        counts, sizes = Counter(each.kind for each in result.going), Counter[str]()
        reasons = {each.kind: each.reason for each in result.going}
        for going in result.going:
            sizes[going.kind] += going.byte_count
        rows = [[kind, reasons[kind], f"{count:,}", show_bytes(sizes[kind])] for kind, count in counts.items()]
        print_table(["what", "why", "files", "bytes"], rows, left=2)
        if result.repacked:
            what, moves = plural(len(result.repacked), "shard"), "moved" if result.is_done else "would move"
            print(f"\n{what} mostly dead: {show_bytes(result.moved_bytes)} of live pictures {moves}.")
        if result.doubles:
            print(f"{plural(result.doubles, 'picture')} stored twice: once is enough.")
        if result.is_done:
            print(f"\n{show_bytes(result.byte_count)} freed.")
        else:
            print(f"\nThis would free {show_bytes(result.byte_count)}: pannier tidy {store} --older-than {older_than} --yes")
    for each in result.kept:
        print_wrapped(f"Stays for now: {each}.")
