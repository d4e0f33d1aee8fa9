"""train/val/test folders of class folders, one of them misspelt: say what is meant, carve out what is missing.

python examples/split_folders.py season/ season.store
"""

from __future__ import annotations

import sys

import pannier


def main(source: str, path: str) -> None:
    store = pannier.create(path)
    try:
        store.pack(source)
    except pannier.SourceError as error:
        print(f"stopped: {error}")
    result = store.pack(source, rename={"herringbon": "herringbone"}, note="second delivery")
    print(result.snapshot.splits)

    carved = store.change(carve={"test": "20%"}, of="train", seed=7, note="a test set out of train").snapshot
    print(carved.splits, "dealt with seed", carved.dealing.seed)
    frozen = store.change(freeze="test", note="test stays as it is").snapshot
    print("frozen:", frozen.dealing.frozen)


if __name__ == "__main__":
    main(*sys.argv[1:3])
