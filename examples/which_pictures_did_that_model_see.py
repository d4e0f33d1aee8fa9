"""Which pictures did that model see? A snapshot with a name, facts and the model beside it, and a docket to get it all back.

python examples/which_pictures_did_that_model_see.py archive/ season/ swatches.store weave.docket
"""

from __future__ import annotations

import sys
from pathlib import Path

import numpy as np

import pannier


def main(first: str, second: str, path: str, docket: str) -> None:
    store = pannier.create(path)
    snapshot = store.pack(first, shares={"train": 75, "val": 25}, seed=7, note="first six weaves").snapshot
    store.tag("spring", note="what the first model saw")
    treatment = pannier.Treatment(size=64, flip="horizontal").measured(snapshot, "train")
    Path(docket).write_text(snapshot.docket("train", treatment, seed=7, batch_size=16).text())

    with pannier.from_docket(docket) as feed:  # training: here a mean picture stands in for a model
        model = np.mean([batch.images.mean(axis=0) for batch in feed], axis=0)
    np.save("model.npy", model)
    snapshot.attach(facts={"epochs": 1, "accuracy": 0.5}, files={"results/model.npy": "model.npy"})

    store.pack(second, note="a second season", allow_missing_classes=True)
    changed = store.change(where="key LIKE 'twill/000%'", set={"label": "satin"}, note="put right").snapshot
    found = pannier.compare(snapshot, changed)
    print({kind: number for kind, number in found.counts.items() if number})
    for step in store.history():
        print(step.id[:8], step.records, step.totals, step.note, step.names, step.facts)

    with pannier.from_docket(docket) as feed:  # the same batches as then, whatever has happened since
        again = np.mean([batch.images.mean(axis=0) for batch in feed], axis=0)
    print("the same batches:", np.array_equal(model, again))
    print("the model beside them:", [each.name for each in store.snapshot("spring").attachments])


if __name__ == "__main__":
    main(*sys.argv[1:5])
