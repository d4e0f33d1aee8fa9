"""Look before you train: one picture through every step, a batch described, values checked.

python examples/look_before_you_train.py swatches.store look.png
"""

from __future__ import annotations

import sys

import pannier


def main(path: str, figure: str) -> None:
    snapshot = pannier.open(path)
    treatment = pannier.Treatment(64, turn=8, zoom=[0.9, 1.15], brightness=0.2, flip="horizontal")
    treatment = treatment.measured(snapshot, "train" if "train" in snapshot.splits else None)
    print(treatment.explain())

    record = snapshot[0]
    steps = record.stages(treatment, seed=7)
    pannier.draw(steps, figure, title=record.key)
    for step in steps:
        print(f"{step.name:<12} {step.shape:<12} {step.array.dtype}  {step.lowest:.3g} to {step.highest:.3g}")

    split = "train" if "train" in snapshot.splits else None
    with snapshot.feed(split, treatment, batch_size=16, seed=7) as feed:
        found = feed.describe()
        print(found.labels, found.warnings or "nothing looks wrong")
        assert not found.unmet("dtype=float32,layout=chw,range=-8..8")


if __name__ == "__main__":
    main(*sys.argv[1:3])
