"""pannier stats"""

from __future__ import annotations

from typing import TYPE_CHECKING

import pannier
from pannier.cli import options as opt
from pannier.cli.terminal import draw_into, print_json, print_table, progress_bar
from pannier.errors import UsageError

if TYPE_CHECKING:
    from pannier.feeding.statistics import Statistics


@opt.reads_afar
@opt.takes_treatment
def stats(
    store: opt.Store,
    split: str | None = opt.value(None, "Of this split; by default of train.", "SPLIT", "--split"),
    treatment: opt.TreatmentOptions = opt.NO_TREATMENT,
    save: bool = opt.flag("--save", "Put mean and std into the treatment file, with what they are of."),
    workers: opt.Workers = None,
    cluster: opt.Cluster = None,
    memory_limit: opt.MemoryLimit = "auto",
    figure: opt.Figure = None,
    json: opt.AsJson = False,
) -> int:
    """Mean, deviation, extremes and histogram of a split by channel, through a treatment's very size, fit, color and tone.

    [dim]$[/dim] pannier stats swatches.store --split train --treatment cloth.toml --save
    [dim]$[/dim] pannier stats swatches.store --split train --size 96 --figure values.png
    """
    from pannier.executors import workers_at
    from pannier.feeding.statistics import measure_values

    if save and treatment.file is None:
        raise UsageError("--save needs a file to put them into: --treatment FILE")
    snapshot = pannier.open(store)
    through = treatment.as_said()
    chosen = split if split is not None else opt.measured_split(snapshot)
    with progress_bar("stats") as bar, workers_at(cluster) as executor:
        bounds: opt.Said = {"workers": workers, "memory_limit": memory_limit, "progress": bar, "executor": executor}
        statistics = measure_values(snapshot, chosen, through, **bounds)
    print_json(statistics.to_dict()) if json else _print(statistics)
    if save and treatment.file:
        statistics.treatment(pannier.Treatment).save(treatment.file)
        if not json:
            print(f'\n{treatment.file} has them, with values = "standard"')
    if figure:
        title = f"{snapshot.store.path.name}, {chosen or 'all records'}: values by channel"
        draw_into(figure, statistics, title=title)
    return 0


def _names(found: Statistics) -> tuple[str, ...]:
    return ("gray",) if len(found.counts) == 1 else ("red", "green", "blue")


def _print(found: Statistics) -> None:
    print(f"{found.split or 'all records'}, {found.through_in_words}: every pixel counted\n")
    rows = [
        [name, f"{mean:.6f}", f"{std:.6f}", f"{mean * 255:.2f}", f"{std * 255:.2f}", str(low), str(high)]
        for name, mean, std, low, high in zip(_names(found), found.mean, found.std, found.lowest, found.highest, strict=True)
    ]
    print_table(["channel", "mean", "std", "mean 0..255", "std 0..255", "lowest", "highest"], rows)
    dark, light = found.at_the_ends
    if max(dark, light) > 0.02:
        ends = [f"{share:.1%} are {value}" for share, value in ((dark, 0), (light, 255)) if share > 0.02]
        print(f"\nOf all values {' and '.join(ends)}: cut off, or padding that counts as pixels")
