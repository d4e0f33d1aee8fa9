"""pannier docket"""

from __future__ import annotations

import os
import sys
from typing import Literal

import pannier
from pannier import choices
from pannier.cli import options as opt

_HOW = {
    "batch_size": opt.number("Pictures a batch."),
    "seed": opt.number("Seed of order and chance."),
    "order": opt.Declared(Literal["shuffled", "by key"] | None, "By default train is shuffled."),
    "last": opt.Declared(choices.Last | None, "What becomes of a last, smaller batch."),
    "label_as": opt.Declared(choices.LabelAs | None, "How labels come; by default as numbers."),
}


@opt.takes_treatment
@opt.takes("how", _HOW)
def docket(
    store: opt.Store,
    treatment: opt.TreatmentOptions = opt.NO_TREATMENT,
    split: opt.Split = None,
    how: opt.Said = opt.NOTHING,
    subset: opt.Subset = None,
    store_as: str | None = opt.value(None, "How the docket names the store; by default relative to here.", "PATH"),
) -> int:
    """Write a docket to standard output: with it and the store, anyone gets the same batches.

    [dim]$[/dim] pannier docket swatches.store@spring --treatment cloth.toml --seed 7 --split train > weave.docket
    [dim]$[/dim] pannier feed --docket weave.docket
    """
    from pannier.versions.docket import relative_to

    snapshot = pannier.open(store)
    treated = treatment.treatment(snapshot) if treatment.are_said else None
    where = store_as or relative_to(snapshot.store.path.absolute(), os.getcwd())
    sys.stdout.write(snapshot.docket(treated, store=where, split=split, subset=subset, **how).text())
    return 0
