"""A Parquet table with the pictures inside, in a struct column beside their names; hand labels come in later.

python examples/bytes_in_a_table.py swatches.parquet swatches.store
"""

from __future__ import annotations

import sys

import pannier


def main(table: str, path: str) -> None:
    store = pannier.create(path)
    snapshot = store.pack(table, picture="image", label="weave", shares={"train": 80, "val": 20}).snapshot
    print(snapshot)

    key = snapshot[0].key
    checked = [{"key": key, "label": "basket", "checked_by": "the weaver"}]
    result = store.change(from_=checked, note="checked by hand")
    print(result.changes, result.snapshot[key].label, result.snapshot[key].side)


if __name__ == "__main__":
    main(*sys.argv[1:3])
