"""pannier docket"""

from __future__ import annotations

import os
import sys
from typing import Literal

import pannier
from pannier import choices
from pannier.cli.options import NO_TREATMENT, Split, Store, Subset, TreatmentOptions, option, takes_treatment


@takes_treatment
def docket(
    store: Store,
    treatment: TreatmentOptions = NO_TREATMENT,
    split: Split = None,
    batch_size: int | None = option(None, "Pictures a batch.", min=1),
    seed: int | None = option(None, "Seed of order and chance.", min=0),
    order: Literal["shuffled", "by key"] | None = option(None, "By default train is shuffled."),
    last: choices.Last | None = option(None, "What becomes of a last, smaller batch."),
    subset: Subset = None,
    label_as: choices.LabelAs | None = option(None, "How labels come; by default as numbers."),
    store_as: str | None = option(None, "How the docket names the store; by default relative to here.", "PATH"),
) -> int:
    """Write a docket to standard output: with it and the store, anyone gets the same batches.

    [dim]$[/dim] pannier docket swatches.store@spring --treatment cloth.toml --seed 7 --split train > weave.docket
    [dim]$[/dim] pannier feed --docket weave.docket
    """
    from pannier.versions.docket import relative_to

    snapshot = pannier.open(store)
    treated = treatment.treatment(snapshot) if treatment.are_said else None
    made = snapshot.docket(
        treated,
        store=store_as or relative_to(snapshot.store.path.absolute(), os.getcwd()),
        split=split,
        batch_size=batch_size,
        seed=seed,
        order=order,
        last=last,
        subset=subset,
        label_as=label_as,
    )
    sys.stdout.write(made.text())
    return 0
