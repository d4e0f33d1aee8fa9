"""pannier treatment"""

from __future__ import annotations

import pannier
from pannier.cli import options as opt
from pannier.cli.terminal import print_json


def treatment(
    file: str = opt.argument(..., "A TOML file that says how a picture becomes an array.", metavar="FILE"),
    new: bool = opt.flag("--new", "Write a commented one to begin with."),
    json: opt.AsJson = False,
) -> int:
    """A treatment in words: steps, sizes, costs; with --new a commented file to begin with.

    [dim]$[/dim] pannier treatment cloth.toml --new
    [dim]$[/dim] pannier treatment cloth.toml
    """
    from pannier.images.treatment_file import write_new

    if new:
        write_new(file)
    loaded = pannier.Treatment.from_file(file)
    if json:
        digests = {"identity": loaded.identity, "fixed_part": loaded.fixed_part, "varying_part": loaded.varying_part}
        frame = loaded.frame
        around = {
            "canvas": list(frame.canvas),
            "view": list(frame.view),
            "shape": list(loaded.shape),
            "varies": list(loaded.varies),
        }
        print_json(loaded.model_dump(mode="json") | around | digests)
        return 0
    if new:
        print(f"{file} is written; change it, and look: pannier look STORE KEY --treatment {file}\n")
    print(loaded.explain())
    return 0
