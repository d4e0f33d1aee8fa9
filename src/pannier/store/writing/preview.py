"""The look before packing: what rules make of a source. Reads no picture."""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass
from typing import Any

from pannier.shares import split_rank
from pannier.sources.opening import READING_OPTIONS, as_source
from pannier.sources.rules import Rules, read_rules, rows_without_label
from pannier.sources.selection import Selection, select
from pannier.sources.several import choose
from pannier.store.writing.commit import number_classes
from pannier.store.writing.packing import names_in

FIRST_ROWS = 20


@dataclass
class Preview:
    """What rules would make of a source: the first rows as (key, label, split), counts by (class, split).

    `funnel` is how many of all `rows` each condition leaves; `origins` by class what its labels were before renaming.
    """

    rows: int
    funnel: list[tuple[str, int]]
    without_label: int
    first: list[tuple[str, str | None, str | None]]
    counts: dict[tuple[str | None, str | None], int]
    origins: dict[str, dict[str, int]]

    @property
    def classes(self) -> list[str]:
        return number_classes([], {label for label, _ in self.counts if label is not None})

    @property
    def splits(self) -> list[str]:
        return sorted({split for _, split in self.counts if split is not None}, key=split_rank)

    def to_dict(self) -> dict[str, Any]:
        """Plain data for JSON."""
        return {
            "rows": self.rows,
            "funnel": [{"where": where, "rows": count} for where, count in self.funnel],
            "without_label": self.without_label,
            "first": [{"key": key, "label": label, "split": split} for key, label, split in self.first],
            "counts": [{"label": label, "split": split, "rows": n} for (label, split), n in self.counts.items()],
            "origins": self.origins,
        }


def preview(source: Any, **options: Any) -> Preview:
    """What `pack` with the same options would bring in, as far as rules decide it; reads no picture and packs nothing."""
    reading = {name: options.get(name) for name in READING_OPTIONS}
    source = as_source(source, keep_splits=not options.get("resplit", False), **reading)
    said = read_rules(**{name: options[name] for name in Rules.__dataclass_fields__ if name in options})
    everything = choose(source, said)
    chosen, _ = select(
        source,
        said,
        everything,
        Selection(
            options.get("unlabeled", "leave"),
            names_in(options.get("only_classes") or ()),
            options.get("per_class"),
            options.get("seed") or 0,
            options.get("allow_missing_classes", False),
            names_in(options.get("classes") or ()),
        ),
    )
    prefix = options.get("into", "").strip("/")
    start = prefix + "/" if prefix else ""
    labels, splits = chosen.labels.to_list(), chosen.splits.to_list()
    origins: dict[str, Counter[str]] = {}
    assert chosen.raw_labels is not None
    for (label, raw), count in Counter(zip(labels, chosen.raw_labels.to_list(), strict=True)).items():
        if label is not None and raw is not None:
            origins.setdefault(label, Counter())[raw] = count
    keys = chosen.keys[:FIRST_ROWS].to_pylist()
    return Preview(
        len(source.table()),
        chosen.funnel,
        len(rows_without_label(everything)),
        [(start + key, label, split) for key, label, split in zip(keys, labels, splits, strict=False)],
        dict(Counter(zip(labels, splits, strict=True))),
        {label: dict(found.most_common()) for label, found in sorted(origins.items())},
    )
