"""Pictures in arrays, x_train and y_train as people save them: kept without loss, labels named by a table.

python examples/arrays.py digits.npz names.csv digits.store
"""

from __future__ import annotations

import sys

import numpy as np

import pannier


def main(arrays: str, names: str, path: str) -> None:
    snapshot = pannier.create(path).pack(arrays, label="y", class_names=names, columns="array,index").snapshot
    print(snapshot)
    first = snapshot.query('SELECT key FROM records WHERE "array" = \'x_train\' AND "index" = 0')
    record = snapshot[first.column("key")[0].as_py()]
    with np.load(arrays) as held:
        print("the same pixels:", np.array_equal(record.picture(), held["x_train"][0]))
    with snapshot.feed("train", pannier.Treatment(size=16), batch_size=8, subset="50%") as feed:
        for batch in feed:
            print(batch.images.shape, batch.labels)


if __name__ == "__main__":
    main(*sys.argv[1:4])
