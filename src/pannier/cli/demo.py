"""pannier demo"""

from __future__ import annotations

from pannier.cli import options as opt


def demo(
    directory: str = opt.argument("swatches", "Where to; nothing or an empty folder.", metavar="[DIR]"),
    swatches: int = opt.value(300, "How many swatches the archive holds.", min=60),
    seed: int = opt.value(7, "Seed of all that is drawn."),
    remote: bool = opt.flag("--remote", "The steps of a store in a bucket, on a stand-in for its server."),
    only_draw: bool = opt.flag("--only-draw", "Draw the made-up data, and take no step."),
) -> int:
    """All of it on made-up data: draws an archive of weaves, then takes every step, saying each command first.

    [dim]$[/dim] pannier demo swatches --swatches 300
    [dim]$[/dim] pannier demo there --remote
    [dim]$[/dim] pannier demo tour --only-draw
    """
    from pannier.cli.entry import status_of
    from pannier.demo.tour import run_tour

    return run_tour(directory, swatches, seed, None if only_draw else status_of, remote=remote)
