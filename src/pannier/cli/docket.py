"""pannier docket"""

from __future__ import annotations

import os
import sys
from pathlib import Path

import pannier
from pannier import choices
from pannier.cli import options as opt
from pannier.files import write_whole

_HOW = {
    "batch_size": opt.number("Pictures a batch."),
    "seed": opt.number("Seed of order and chance."),
    "subset": opt.text("A part, as 10%, fair in every class, fixed by the seed.", "PART"),
    "where": opt.text("Only records for which this SQL holds.", "EXPR"),
    "shuffle": opt.switch("By default train is shuffled, other splits are not.", names=("--shuffle/--no-shuffle",)),
    "augment": opt.switch("By default train gets the random steps, others do not.", names=("--augment/--no-augment",)),
    "last": opt.Declared(choices.Last | None, "What becomes of a last, smaller batch."),
    "steps": opt.number("Batches an epoch; by default every record comes once."),
    "label_as": opt.Declared(choices.LabelAs | None, "How labels come; by default as numbers."),
}


@opt.takes_treatment
@opt.takes("how", _HOW)
def docket(
    store: opt.Store,
    file: str | None = opt.argument(None, "Where it goes; by default standard output.", metavar="[FILE]"),
    treatment: opt.TreatmentOptions = opt.NO_TREATMENT,
    split: str | None = opt.value(None, "The split to feed; use all for every record.", "SPLIT", "--split"),
    how: opt.Said = opt.NOTHING,
    store_as: str | None = opt.value(None, "How it names the store; by default relative to FILE, or to here.", "PATH"),
) -> int:
    """Write a docket: with it and the store, anyone gets the same batches.

    [dim]$[/dim] pannier docket swatches.store@spring weave.docket --treatment cloth.toml --seed 7 --split train
    [dim]$[/dim] pannier feed --docket weave.docket
    """
    from pannier.versions.docket import relative_to

    snapshot = pannier.open(store)
    treated = treatment.treatment(snapshot) if treatment.are_said else None
    where = store_as or relative_to(snapshot.storage.address, Path(file).absolute().parent if file else os.getcwd())
    how = {name: value for name, value in treatment.feeding.items() if name in _HOW} | how
    text = snapshot.docket(split, treated, store=where, **how).text()
    if file is None:
        sys.stdout.write(text)
    else:
        write_whole(file, text)
        print(f"{file} is written; whoever has the store gets the same: pannier feed --docket {file}")
    return 0
