"""From a folder of labelled pictures to normalized batches, in a screenful.

python examples/folder_to_batches.py archive/ swatches.store
"""

from __future__ import annotations

import sys
from pathlib import Path

import pannier


def main(source: str, path: str) -> None:
    findings = pannier.survey(source)
    print(f"{findings.pictures} usable pictures of {len(findings.classes)} classes")
    for problem in findings.problems:
        print(f"  {problem.kind}: {problem.count}, e.g. {problem.examples[0]}")

    store = pannier.open_store(path) if Path(path).exists() else pannier.create(path)
    snapshot = store.pack(source, shares={"train": 75, "val": 15, "test": 10}, seed=7).snapshot
    print(snapshot)

    treatment = pannier.Treatment(size=96, flip="horizontal").measured(snapshot, "train")
    print(f"mean {treatment.mean}, std {treatment.std}")

    with snapshot.feed("train", treatment, batch_size=32, seed=7, memory_limit="128MiB") as feed:
        for number, epoch in enumerate(feed.epochs(2), 1):
            pictures = sum(len(batch) for batch in epoch)
            print(f"epoch {number}: {pictures} pictures, {feed.meter.pictures_per_second:,.0f} a second")

    with snapshot.feed("val", treatment, batch_size=32) as feed:  # neither shuffled nor mirrored
        batch = next(iter(feed))
        print(batch.images.shape, batch.images.dtype, batch.labels[:5], batch.keys[:2])


if __name__ == "__main__":
    main(*sys.argv[1:3])
