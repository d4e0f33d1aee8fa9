"""One treatment for training, testing and a single new picture; measured, saved, rendered once.

python examples/one_treatment.py swatches.store cloth.toml
"""

from __future__ import annotations

import sys

import numpy as np

import pannier


def main(path: str, file: str) -> None:
    snapshot = pannier.open(path)
    treatment = pannier.Treatment(48, fit="cover", turn=10, zoom=1.2, shift=0.05, flip="both", contrast=0.2)
    treatment.measured(snapshot, "train").save(file)

    same = pannier.Treatment.from_file(file)  # as another program would read it
    made = snapshot.render(None, same)
    print(f"{made.missing} pictures rendered, {made.there} were there")
    with snapshot.feed("train", same, seed=3) as training, snapshot.feed("test", same) as testing:
        print(*training.notes, *testing.notes, sep="\n")
        varied, plain = next(iter(training)), next(iter(testing))
        print("training", varied.images.shape, "testing", plain.images.shape)

    new = snapshot[plain.keys[0]].picture()  # stands for a picture that no store has seen
    assert np.allclose(same(new), plain.images[0], atol=0.2)
    print("a new picture is prepared as the test split is")


if __name__ == "__main__":
    main(*sys.argv[1:3])
