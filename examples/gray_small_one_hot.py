"""Small gray pictures, light evened out, labels one-hot, a whole split in memory: for a first quick model.

python examples/gray_small_one_hot.py swatches.store
"""

from __future__ import annotations

import sys

import pannier


def main(path: str) -> None:
    snapshot = pannier.open(path)
    treatment = pannier.Treatment(28, color="gray", tone="equalize", values="signed", dtype="float32", layout="hwc")
    images, labels, keys = snapshot.arrays("train", treatment, label_as="one_hot", memory_limit="64MiB")
    print(images.shape, images.dtype, float(images.min()), float(images.max()))
    print(labels.shape, "classes:", ", ".join(snapshot.classes))
    print(keys[0], snapshot.classes[int(labels[0].argmax())])


if __name__ == "__main__":
    main(*sys.argv[1:2])
