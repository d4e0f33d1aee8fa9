"""A dirty table that names its pictures: SQL over its columns says which rows, which label and what is kept.

python examples/table_with_rules.py register.csv cloth.store
"""

from __future__ import annotations

import sys
from typing import Any

import pannier


def main(table: str, path: str) -> None:
    rules: dict[str, Any] = {
        "picture": "'archive/' || weave || '/' || number || '.jpg'",
        "label": "CASE WHEN warp_per_cm >= 24 THEN 'fine' ELSE 'coarse' END",
        "where": ["warp_per_cm = weft_per_cm", "finish IS NOT NULL"],
    }
    findings = pannier.survey(table, **rules)
    for condition, rows in findings.funnel:
        print(f"  {rows} of {findings.rows} rows are left by {condition}")

    result = pannier.create(path).pack(table, **rules, columns="finish, loom", shares={"train": 75, "val": 25}, seed=7)
    print(result.snapshot)
    print("left out:", dict(sorted({item.kind: item.key for item in result.left_out}.items())))
    print(result.snapshot[0].key, result.snapshot[0].side)


if __name__ == "__main__":
    main(*sys.argv[1:3])
