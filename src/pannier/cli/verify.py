"""pannier verify"""

from __future__ import annotations

import pannier
from pannier.cli import options as opt
from pannier.cli.terminal import live_bar, plural, print_json, print_wrapped
from pannier.units import show_bytes

_SHOWN_KEYS = 5


def verify(
    store: str = opt.argument(..., "A store.", metavar="STORE"),
    quick: bool = opt.flag("--quick", "Structure alone: no picture is read."),
    sample: str | None = opt.value(None, "Read a part of the pictures, as 5%, fixed by the seed.", "PART"),
    seed: int = opt.value(0, "Seed of the part."),
    repair: bool = opt.flag("--repair", "Make again what is derived, then look again."),
    repair_from: str | None = opt.value(None, "And bring back what another copy of the store has.", "OTHER"),
    against: str | None = opt.value(None, "Is it a whole backup of that store? What it lacks is damage.", "ORIGINAL"),
    cluster: opt.Cluster = None,
    json: opt.AsJson = False,
) -> int:
    """Read every byte of a store and list all that is wrong, what it harms and what to do.

    Exit status 1 where something is damaged. What an ended writer left lying about is information.

    [dim]$[/dim] pannier verify swatches.store
    [dim]$[/dim] pannier verify swatches.store --repair-from mill.store
    [dim]$[/dim] pannier verify backup.store --against swatches.store
    """
    from pannier.executors import workers_at
    from pannier.upkeep.verify import verify as look

    with live_bar("verify") as bar, workers_at(cluster) as executor:

        def step(done: int, total: int) -> None:
            bar.show(done, total, lambda: f"{show_bytes(int(done / bar.elapsed))}/s")

        options: opt.Said = {"quick": quick, "sample": sample, "seed": seed, "repair": repair, "repair_from": repair_from}
        options |= {"against": against, "executor": executor}
        findings = look(store, progress=step, **options)
    damage = [finding for finding in findings if finding.is_damage]
    if json:
        print_json([finding.to_dict() for finding in findings])
    else:
        _print(findings)
        read = "its structure is whole; no picture was read" if quick else "every byte is as it was written"
        read = f"structure and {sample} of the pictures are as they were written" if sample and not quick else read
        read += f", and it holds all of {against}" if against else ""
        print(f"{store}: {plural(len(damage), 'finding')} of damage." if damage else f"{store}: {read}.")
    return 1 if damage else 0


def _print(findings: list[pannier.Finding]) -> None:
    for finding in findings:
        mark = "damaged" if finding.is_damage else "note"
        print_wrapped(f"{mark}: {finding.file}: {finding.problem}", indent="    ")
        if finding.is_damage:
            keys = ", ".join(finding.keys[:_SHOWN_KEYS]) + (", ..." if len(finding.keys) > _SHOWN_KEYS else "")
            print(f"    harms: {finding.harms}" + (f" ({keys})" if len(finding.keys) > 1 else ""))
            print(f"    to do: {finding.advice}")
