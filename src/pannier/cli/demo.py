"""pannier demo"""

from __future__ import annotations

from pannier.cli import options as opt


def demo(
    directory: str = opt.argument("swatches", "Where to; nothing or an empty folder.", metavar="[DIR]"),
    swatches: int = opt.value(300, "How many swatches the archive holds.", min=60),
    seed: int = opt.value(7, "Seed of all that is drawn."),
) -> int:
    """All of it on made-up data: draws an archive of weaves, then takes every step, saying each command first.

    [dim]$[/dim] pannier demo swatches --swatches 300
    """
    from pannier.demo.tour import run_tour

    return run_tour(directory, swatches, seed)
