"""Classes of which there are few come as often as those of which there are many, or count more in the loss.

python examples/balanced_classes.py swatches.store
"""

from __future__ import annotations

import sys
from collections import Counter

import pannier


def main(path: str) -> None:
    snapshot = pannier.open(path)
    for balance in (None, "class"):
        with snapshot.feed("train", size=32, balance=balance, label_as="name") as feed:
            counts = Counter(label for batch in feed for label in batch.labels)
        print(f"balance={balance!r}:", dict(sorted(counts.items())))
    weights = snapshot.class_weights("train")
    print("or weighted:", {name: round(float(weight), 2) for name, weight in zip(snapshot.classes, weights, strict=True)})


if __name__ == "__main__":
    main(*sys.argv[1:2])
