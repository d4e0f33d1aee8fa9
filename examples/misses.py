"""Predictions come back as a side column: where was the model wrong? Asked in SQL, looked at, and fed again.

python examples/misses.py swatches.store misses.png
"""

from __future__ import annotations

import sys

import pannier


def main(path: str, figure: str) -> None:
    store = pannier.open_store(path)
    snapshot = store.snapshot()
    names = snapshot.classes
    predictions = [  # a stand-in for a model that mistakes every seventh picture
        {"key": record.key, "predicted": names[(names.index(record.label) + (i % 7 == 0)) % len(names)]}
        for i, record in enumerate(snapshot)
        if record.label is not None
    ]
    scored = store.change(from_=predictions, note="what the model says", facts={"run": "weave-3"}).snapshot

    confused = scored.query("""
        SELECT label, predicted, count(*) AS n FROM records WHERE predicted <> label GROUP BY ALL ORDER BY n DESC, label""")
    print(confused.to_pandas().to_string(index=False))
    scored.sheet(figure, pictures=24, where="predicted <> label")
    with scored.feed("train", pannier.Treatment(64), where="predicted <> label", seed=3) as feed:
        print(feed.records, "misses to train on again, in", len(feed), "batches")


if __name__ == "__main__":
    main(*sys.argv[1:3])
