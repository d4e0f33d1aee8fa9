"""Differences: the rows in which two manifests are not alike, found by bucket: time is the size of the difference."""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from pannier.array_types import Flags
from pannier.columns import NameColumn, Rows, differs
from pannier.kinds import ChangeKind
from pannier.store.content import BUCKET_SHIFT, BUCKETS
from pannier.store.manifest import Manifest, names_there, rows_there

KINDS: tuple[ChangeKind, ...] = ("added", "removed", "changed", "relabelled", "resplit", "columns")


@dataclass(frozen=True)
class Difference:
    """Which rows of `after` are not in `before` or are otherwise there; `gone` are rows of `before` alone.

    `rows` are rows of `after` that are there in both and differ, `there` the same records in `before`.
    """

    before: Manifest
    after: Manifest
    added: Rows
    gone: Rows
    rows: Rows
    there: Rows
    is_other_picture: Flags
    is_relabelled: Flags
    is_moved: Flags

    @property
    def is_empty(self) -> bool:
        return not (len(self.added) or len(self.gone) or len(self.rows))

    @property
    def kinds(self) -> list[ChangeKind]:
        """What became of each of `rows`: the first that holds of changed, relabelled, resplit, columns."""
        flags = zip(self.is_other_picture.tolist(), self.is_relabelled.tolist(), self.is_moved.tolist(), strict=True)
        return [
            "changed" if other else "relabelled" if relabelled else "resplit" if moved else "columns"
            for other, relabelled, moved in flags
        ]

    @cached_property
    def counts(self) -> dict[str, int]:
        """Records by what became of them; one that was changed and relabelled counts in both."""
        none = ~(self.is_other_picture | self.is_relabelled | self.is_moved)
        numbers = (len(self.added), len(self.gone))
        flags = (self.is_other_picture, self.is_relabelled, self.is_moved, none)
        return dict(zip(KINDS, (*numbers, *(int(flag.sum()) for flag in flags)), strict=True))

    def change_counts(self) -> list[list[Any]]:
        """As a snapshot's document has them: [kind, label, split, records], of removed records as they were before."""
        lines: Counter[tuple[str, str | None, str | None]] = Counter()
        for kinds, manifest, rows in (
            (["added"] * len(self.added), self.after, self.added),
            (self.kinds, self.after, self.rows),
            (["removed"] * len(self.gone), self.before, self.gone),
        ):
            labels, splits = (names_there(manifest, rows, name).to_list() for name in ("label", "split"))
            lines.update(zip(kinds, labels, splits, strict=True))
        return sorted(([*line, count] for line, count in lines.items()), key=lambda line: [str(part or "") for part in line])

    def table(self) -> Any:
        """Every record that differs, in order of keys: key, change, and label, split and sha256 before and after."""
        none_before, none_after = np.full(len(self.added), -1), np.full(len(self.gone), -1)
        before = np.concatenate([none_before, self.there, self.gone])
        after = np.concatenate([self.added, self.rows, none_after])
        kinds = ["added"] * len(self.added) + self.kinds + ["removed"] * len(self.gone)
        columns: dict[str, Any] = {"key": _either(self, before, after), "change": pa.array(kinds, pa.string())}
        for name in ("label", "split"):
            columns[f"{name}_before"] = _names(self.before, before, name)
            columns[name] = _names(self.after, after, name)
        columns["sha256_before"], columns["sha256"] = _pictures(self.before, before), _pictures(self.after, after)
        table = pa.table(columns)
        return table.take(pc.sort_indices(table.column("key").cast(pa.large_binary())))


def differences(
    before: Manifest, after: Manifest, *, labels: bool = True, splits: bool = True, side: bool = True
) -> Difference:
    """How `after` differs from `before`; what is not asked for (labels, splits, side columns) counts as alike.

    Reads the rows of buckets with other digests alone, where both have them.
    """
    buckets = _other_buckets(before, after)
    rows_before, rows_after = (_rows_of(manifest, buckets) for manifest in (before, after))
    old_rows = rows_there(before, after.take(rows_after, ["hash", "key"]))
    is_there = old_rows >= 0
    rows, old_rows = rows_after[is_there], old_rows[is_there]
    is_other = (before.pictures(old_rows) != after.pictures(rows)).any(axis=1)
    none: Flags = np.zeros(len(rows), bool)
    relabelled, moved = (
        differs(names_there(before, old_rows, name), names_there(after, rows, name)) if asked else none
        for name, asked in (("label", labels), ("split", splits))
    )
    described = _side_differs(before, old_rows, after, rows) if side else none
    kept = is_other | relabelled | moved | described
    gone = np.setdiff1d(rows_before, old_rows, assume_unique=True)
    flags = (is_other[kept], relabelled[kept], moved[kept])
    return Difference(before, after, rows_after[~is_there], gone, rows[kept], old_rows[kept], *flags)


def _other_buckets(before: Manifest, after: Manifest) -> Rows:
    if not before.digests or not after.digests:  # of rows that are in no store yet no digests are known
        return np.arange(BUCKETS)
    every = before.digests.keys() | after.digests.keys()
    return np.array(sorted(b for b in every if before.digests.get(b) != after.digests.get(b)), np.int64)


def _rows_of(manifest: Manifest, buckets: Rows) -> Rows:
    """The rows of those buckets."""
    numbers = manifest.hashes >> np.uint64(BUCKET_SHIFT)
    asked = buckets.astype(np.uint64)
    starts, stops = (np.searchsorted(numbers, asked, side=side) for side in ("left", "right"))
    parts = [np.arange(start, stop) for start, stop in zip(starts.tolist(), stops.tolist(), strict=True)]
    return np.concatenate(parts) if parts else np.empty(0, np.int64)


def _side_differs(before: Manifest, there: Rows, after: Manifest, rows: Rows) -> Flags:
    is_other: Flags = np.zeros(len(rows), bool)
    for name in {*before.side_columns, *after.side_columns}:
        columns = [
            manifest.take(which, [name]).column(0) if name in manifest.side_columns else None
            for manifest, which in ((before, there), (after, rows))
        ]
        old, new = (pa.nulls(len(rows)) if column is None else column.combine_chunks() for column in columns)
        if old.type != new.type:
            is_other |= pc.is_valid(old).to_numpy(zero_copy_only=False) | pc.is_valid(new).to_numpy(zero_copy_only=False)
            continue
        same = pc.fill_null(pc.equal(old, new), False).to_numpy(zero_copy_only=False)
        if pa.types.is_floating(new.type):
            is_nan = pc.and_(pc.is_nan(old), pc.is_nan(new))
            same = same | pc.fill_null(is_nan, False).to_numpy(zero_copy_only=False)
        both_null = pc.and_(pc.is_null(old), pc.is_null(new)).to_numpy(zero_copy_only=False)
        is_other |= ~(same | both_null)
    return is_other


def _either(difference: Difference, before: Rows, after: Rows) -> Any:
    keys = [
        manifest.take(rows[rows >= 0], ["key"]).column(0)
        for manifest, rows in ((difference.after, after), (difference.before, before[after < 0]))
    ]
    return pa.chunked_array([chunk for column in keys for chunk in column.chunks], pa.large_string())


def _names(manifest: Manifest, rows: Rows, name: str) -> Any:
    names: NameColumn = names_there(manifest, rows, name)
    return pa.array(names.to_list(), pa.string())


def _pictures(manifest: Manifest, rows: Rows) -> Any:
    digests = iter(manifest.take(rows[rows >= 0], ["sha256"]).column(0).to_pylist())
    return pa.array([next(digests) if row >= 0 else None for row in rows.tolist()], pa.binary(32))
