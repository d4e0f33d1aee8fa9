"""One flat folder whose file names say everything, as twill_loom3_0042.jpg; pictures of one loom stay in one split.

python examples/names_that_carry_labels.py heap/ heap.store
"""

from __future__ import annotations

import sys

import pannier


def main(source: str, path: str) -> None:
    result = pannier.create(path).pack(
        source,
        label_pattern="{label}_loom{loom}_{number}",
        where="number IS NOT NULL",
        columns="CAST(loom AS INT) as loom",
        group_by="label || loom",
        shares={"train": 60, "val": 40},
    )
    snapshot = result.snapshot
    print(snapshot)
    for item in result.left_out:
        print(f"  left out: {item.key} ({item.reason})")
    missed = {label: records for label, records in result.deviation.items() if records}
    print("what groups cost:", missed or "nothing")
    print(snapshot[0].key, snapshot[0].side)


if __name__ == "__main__":
    main(*sys.argv[1:3])
