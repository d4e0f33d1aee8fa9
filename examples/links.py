"""A table with links: gather the pictures that a rule wants, then pack the table that lies beside them.

python examples/links.py register.csv daylight/ cloth.store
"""

from __future__ import annotations

import sys

import pannier

FINE = "CASE WHEN warp_per_cm >= 24 THEN 'fine' ELSE 'coarse' END"
AGREE = "abs(warp_per_cm - weft_per_cm) <= 1"


def main(table: str, folder: str, path: str, link: str = "daylight") -> None:
    gathered = pannier.gather(table, folder, link=link, where=AGREE, pause="50ms")
    print(f"{gathered.came} pictures came, {gathered.there_before} were there, {len(gathered.failed)} did not come")
    for failed in gathered.failed[:3]:
        print(f"  {failed.link}: {failed.reason}")

    findings = pannier.survey(gathered.table, label=FINE, quick=True)
    for column in findings.columns:
        print(f"  {column.name:<14} {column.type:<14} {column.empty:>4} empty")

    snapshot = (
        pannier.create(path)
        .pack(gathered.table, label=FINE, columns="fiber, finish, loom", shares={"train": 75, "val": 25}, seed=7)
        .snapshot
    )
    print(snapshot)


if __name__ == "__main__":
    main(*sys.argv[1:5])
