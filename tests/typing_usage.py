"""Typed usage as a user would write it; checked by mypy, never run."""

import numpy as np

import pannier


def train() -> None:
    store = pannier.create("swatches.store")
    result = store.pack("archive/", shares={"train": 75, "val": 15, "test": 10}, seed=7, note="first six weaves")
    snapshot = result.snapshot
    treatment = pannier.Treatment(size=(96, 96), fit="cover", values="standard").measured(snapshot, "train")
    array: np.ndarray[tuple[int, ...], np.dtype[np.float32]] = treatment("new/picture.jpg")
    print(array.shape, snapshot.splits["train"], snapshot.classes[0], snapshot["twill/0042.jpg"].picture().shape)
    with snapshot.feed("train", treatment, batch_size=32, seed=7, memory_limit="256MiB") as feed:
        for epoch in feed.epochs(12):
            for batch in epoch:
                keys: list[str] = batch.keys
                print(batch.images, batch.labels, keys)
