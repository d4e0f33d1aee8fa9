"""A folder, not packed, dealt to train and val; a class is learned as its mean picture, and tried after every epoch.

python examples/train_and_validate.py photographs/
"""

from __future__ import annotations

import sys

import numpy as np

import pannier


def main(folder: str) -> None:
    snapshot = pannier.unpacked(folder, shares="train=75,val=25", seed=7)
    treatment = pannier.Treatment(16, flip="horizontal", turn=10)
    sums, counts = np.zeros((len(snapshot.classes), *treatment.shape)), np.zeros(len(snapshot.classes))
    with snapshot.feeds(treatment, batch_size=16, seed=7, balance="class", memory_limit="256MiB") as feeds:
        for number, epoch in enumerate(feeds["train"].epochs(3)):
            for images, labels in epoch:
                np.add.at(sums, labels, images)
                np.add.at(counts, labels, 1)
            means = sums / np.maximum(counts, 1)[:, None, None, None]
            right = 0
            for images, labels in feeds["val"]:
                distances = ((images[:, None] - means) ** 2).sum(axis=(2, 3, 4))
                right += int((distances.argmin(axis=1) == labels).sum())
            print(f"epoch {number}: {right} of {feeds['val'].records} in val are nearest to their class")


if __name__ == "__main__":
    main(*sys.argv[1:2])
