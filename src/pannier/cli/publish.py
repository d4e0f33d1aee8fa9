"""pannier publish"""

from __future__ import annotations

import pannier
from pannier.cli import options as opt
from pannier.cli.terminal import plural, print_json


def publish(store: str = opt.argument(..., "The store.", metavar="STORE"), json: opt.AsJson = False) -> int:
    """Write the listing by which a web server gives a store out, read-only: anyone opens it as https://HOST/PATH.

    They see the store as it is now, until it is published again. Any server that gives out files in ranges will do.

    [dim]$[/dim] pannier publish swatches.store
    [dim]$[/dim] pannier feed https://mill.example/swatches.store --split train --size 96 --cache /scratch
    """
    opened = pannier.open_store(store)
    count = opened.publish()
    if json:
        print_json({"path": opened.address, "files": count})
    else:
        print(f"{opened.address}: listing.json names {plural(count, 'file')}.")
    return 0
