"""pannier demo"""

from __future__ import annotations

from typing import Annotated

import typer


def demo(
    directory: Annotated[str, typer.Argument(metavar="[DIR]", help="Where to; nothing or an empty folder.")] = "swatches",
    swatches: Annotated[int, typer.Option(min=60, help="How many swatches the archive holds.")] = 300,
    seed: Annotated[int, typer.Option(help="Seed of all that is drawn.")] = 7,
) -> int:
    """All of it on made-up data: draws an archive of weaves, then takes every step, saying each command first.

    [dim]$[/dim] pannier demo swatches --swatches 300
    """
    from pannier.demo.tour import run_tour

    return run_tour(directory, swatches, seed)
