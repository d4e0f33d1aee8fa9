"""pannier measure"""

from __future__ import annotations

from typing import TYPE_CHECKING

import pannier
from pannier.cli import options as opt
from pannier.cli.terminal import draw_into, live_bar, plural, print_json, print_table, print_wrapped
from pannier.errors import UsageError
from pannier.units import show_bytes

if TYPE_CHECKING:
    from pannier.measuring.sweep import Trial


_HOW = {
    "batch_size": opt.Declared(int, "Pictures a batch.", default=32),
    "seed": opt.Declared(int, "Seed of order and chance.", default=0),
    "subset": opt.text("A part, as 10%, fair in every class, fixed by the seed.", "PART"),
    "rounds": opt.Declared(int, "How many times all take turns.", default=12),
    "slice_seconds": opt.Declared(float, "How long each turn is.", default=0.4),
}


@opt.takes_treatment
@opt.takes("how", _HOW)
def measure(
    store: opt.Store,
    split: opt.Split = None,
    treatment: opt.TreatmentOptions = opt.NO_TREATMENT,
    how: opt.Said = opt.NOTHING,
    workers: str = opt.value("1,2", "Numbers of workers to try, as 1,2,4.", "N,..."),
    memory_limit: str = opt.value("none", "Limits to try, as 64MiB,128MiB,none.", "BYTES,..."),
    figure: opt.Figure = None,
    json: opt.AsJson = False,
) -> int:
    """Measure throughput under memory limits that the system enforces, against the machine's own ceiling.

    Exit status 1 where every trial failed. The default split is train, or all records where there is none.

    [dim]$[/dim] pannier measure swatches.store --size 96 --workers 2 --memory-limit 64MiB,none
    """
    from pannier.measuring.sweep import measure as sweep

    counts = workers.split(",")
    if not all(count.strip().isdigit() for count in counts):
        raise UsageError(f"--workers {workers}: write numbers, as 1,2,4")
    snapshot = pannier.open(store)
    with live_bar("measure") as bar:
        measurement = sweep(
            snapshot,
            treatment.treatment(snapshot),
            split or opt.measured_split(snapshot),
            workers=[int(count) for count in counts],
            memory_limit=[limit.strip() for limit in memory_limit.split(",")],
            progress=lambda done, total: bar.show(done, total, lambda: "rounds"),
            **how,
        )
    print_json(measurement.to_dict()) if json else _print(measurement)
    if figure:
        draw_into(figure, measurement)
    return 0 if any(trial.status == "ok" for trial in measurement.trials) else 1


def _print(found: pannier.Measurement) -> None:
    header = ["workers", "limit", "pictures/s", "10-90 %", "of ceiling", "peak memory"]
    rows = []
    for trial in [*found.ceiling, *found.trials]:
        is_ceiling = trial in found.ceiling
        limit = "none" if trial.memory_limit_bytes is None else show_bytes(trial.memory_limit_bytes)
        row = [str(trial.workers), "ceiling" if is_ceiling else limit, "-", "-", "-", "-"]
        if trial.pictures_per_second is not None:
            rate = trial.pictures_per_second
            spread, share = f"{rate.low:,.0f}-{rate.high:,.0f}", f"{trial.share_of_ceiling or 0:.2f}"
            row[2:5] = [f"{rate.median:,.0f}", spread, share]
        if trial.status != "ok":
            row[2] = trial.status.replace("_", " ")
        if trial.peak_bytes is not None:
            row[5] = show_bytes(trial.peak_bytes)
        rows.append(row)
    print_table(header, rows, left=0)
    if any((trial.share_of_ceiling or 0) > 1 for trial in found.trials):
        print("\nOver 1.00: threads share caches that the bare processes of the ceiling do not, or the machine drifted.")
    failed = [trial for trial in found.trials if trial.status != "ok"]
    if failed:
        print()
    for trial in failed:
        print_wrapped(f"{_cell(trial)}: {trial.reason}")


def _cell(trial: Trial) -> str:
    limit = "no limit" if trial.memory_limit_bytes is None else show_bytes(trial.memory_limit_bytes)
    return f"{plural(trial.workers, 'worker')}, {limit}"
