"""Differences: the rows in which two manifests are not alike, found by bucket: time is the size of the difference."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from pannier.array_types import Flags
from pannier.columns import NameColumn, Rows, differs, numbered
from pannier.kinds import ChangeKind
from pannier.store.content import BUCKET_SHIFT, BUCKETS
from pannier.store.manifest import Manifest, names_there, rows_there
from pannier.store.snapshots import sorted_counts

KINDS: tuple[ChangeKind, ...] = ("added", "removed", "changed", "moved", "relabelled", "resplit", "columns")


@dataclass(frozen=True)
class Difference:
    """Which rows of `after` are not in `before` or are otherwise there; `gone` are rows of `before` alone.

    `rows` are rows of `after` that are there in both and differ, `there` the same records in `before`; `is_moved` says which
    of them had another key there.
    """

    before: Manifest
    after: Manifest
    added: Rows
    gone: Rows
    rows: Rows
    there: Rows
    is_other_picture: Flags
    is_moved: Flags
    is_relabelled: Flags
    is_resplit: Flags

    @property
    def is_empty(self) -> bool:
        return not (len(self.added) or len(self.gone) or len(self.rows))

    @property
    def kinds(self) -> list[ChangeKind]:
        """What became of each of `rows`: the first that holds of changed, relabelled, resplit, moved, columns."""
        kinds: list[ChangeKind] = ["columns"] * len(self.rows)
        told: tuple[tuple[ChangeKind, Flags], ...] = (
            ("moved", self.is_moved),
            ("resplit", self.is_resplit),
            ("relabelled", self.is_relabelled),
            ("changed", self.is_other_picture),
        )
        for kind, flags in told:
            for row in np.flatnonzero(flags).tolist():
                kinds[row] = kind
        return kinds

    @cached_property
    def counts(self) -> dict[str, int]:
        """Records by what became of them; one that was moved and relabelled counts in both."""
        numbers = (len(self.added), len(self.gone))
        told = (self.is_other_picture, self.is_moved, self.is_relabelled, self.is_resplit)
        flags = (*told, ~np.any(told, axis=0))
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

    def counts_upon(self, counts: Sequence[Sequence[Any]]) -> list[list[Any]]:
        """The counts of `after`, in its document's form, from those of `before`."""
        found = Counter({(label, split): number for label, split, number in counts})
        for manifest, rows, sign in (
            (self.before, np.append(self.there, self.gone), -1),
            (self.after, np.append(self.rows, self.added), 1),
        ):
            labels, splits = (names_there(manifest, rows, name).to_list() for name in ("label", "split"))
            for each, number in Counter(zip(labels, splits, strict=True)).items():
                found[each] += sign * number
        return sorted_counts(found)

    def table(self) -> Any:
        """Every record that differs, in order of keys: key, change, and label, split and sha256 before and after; of what
        was moved the key before.
        """
        none_before, none_after = np.full(len(self.added), -1), np.full(len(self.gone), -1)
        before = np.concatenate([none_before, self.there, self.gone])
        after = np.concatenate([self.added, self.rows, none_after])
        kinds = ["added"] * len(self.added) + self.kinds + ["removed"] * len(self.gone)
        columns: dict[str, Any] = {"key": _either(self, before, after), "change": pa.array(kinds, pa.string())}
        for name in ("label", "split"):
            columns[f"{name}_before"] = _names(self.before, before, name)
            columns[name] = _names(self.after, after, name)
        columns["sha256_before"], columns["sha256"] = _pictures(self.before, before), _pictures(self.after, after)
        keys = iter(self.before.take(self.there[self.is_moved], ["key"]).column(0).to_pylist())
        moved = np.concatenate([np.zeros(len(self.added), bool), self.is_moved, np.zeros(len(self.gone), bool)])
        columns["key_before"] = pa.array([next(keys) if each else None for each in moved.tolist()], pa.string())
        table = pa.table(columns)
        return table.take(pc.sort_indices(table.column("key").cast(pa.large_binary())))


def differences(
    before: Manifest, after: Manifest, *, labels: bool = True, splits: bool = True, side: bool = True, by_key: bool = False
) -> Difference:
    """How `after` differs from `before`; what is not asked for (labels, splits, side columns) counts as alike.

    A picture that left its key and is under a new one has moved; `by_key`: that is one removed and one added.

    Reads the rows of buckets with other digests alone, where both have them.
    """
    rows_before, rows_after = _candidates(before, after)
    old_rows = rows_there(before, after.take(rows_after, ["hash", "key"]))
    is_there = old_rows >= 0
    added, gone = rows_after[~is_there], np.setdiff1d(rows_before, old_rows[is_there], assume_unique=True)
    rows, old_rows = rows_after[is_there], old_rows[is_there]
    to = came_from = np.empty(0, np.int64)
    if not by_key:
        left = (before.pictures(old_rows) != after.pictures(rows)).any(axis=1)
        to, came_from = _moves(before, np.append(gone, old_rows[left]), after, np.append(added, rows[left]))
        is_new, is_gone = np.isin(old_rows, came_from) & left, np.isin(rows, to) & left
        added = np.setdiff1d(np.append(added, rows[is_new]), to)
        gone = np.setdiff1d(np.append(gone, old_rows[is_gone]), came_from)
        stays = ~(is_new | is_gone)
        rows, old_rows = np.append(rows[stays], to), np.append(old_rows[stays], came_from)
    is_moved = np.arange(len(rows)) >= len(rows) - len(to)
    is_other = (before.pictures(old_rows) != after.pictures(rows)).any(axis=1)
    none: Flags = np.zeros(len(rows), bool)
    relabelled, resplit = (
        differs(names_there(before, old_rows, name), names_there(after, rows, name)) if asked else none
        for name, asked in (("label", labels), ("split", splits))
    )
    described = _side_differs(before, old_rows, after, rows) if side else none
    kept = is_other | is_moved | relabelled | resplit | described
    flags = (is_other[kept], is_moved[kept], relabelled[kept], resplit[kept])
    return Difference(before, after, added, gone, rows[kept], old_rows[kept], *flags)


def _moves(before: Manifest, gone: Rows, after: Manifest, added: Rows) -> tuple[Rows, Rows]:
    """Rows of `after` with a picture that has left its key in `before`, and the rows in which that was: as many of each."""
    if not len(gone) or not len(added):
        return added[:0], gone[:0]
    numbers, _ = numbered(np.concatenate([before.pictures(gone), after.pictures(added)]))
    offered: dict[int, list[int]] = {}
    for row, number in zip(gone[::-1].tolist(), numbers[: len(gone)][::-1].tolist(), strict=True):
        offered.setdefault(number, []).append(row)
    pairs = [
        (row, offered[number].pop())
        for row, number in zip(added.tolist(), numbers[len(gone) :].tolist(), strict=True)
        if offered.get(number)
    ]
    both = np.array(pairs, np.int64).reshape(-1, 2)
    return both[:, 0], both[:, 1]


def _candidates(before: Manifest, after: Manifest) -> tuple[Rows, Rows]:
    """Rows of both, all that differ among them: of buckets with other digests; on one base, those of the deltas alone."""
    buckets = _other_buckets(before, after)
    if not before.has_base_of(after):
        return _rows_of(before, buckets), _rows_of(after, buckets)
    told = pa.concat_tables([manifest.delta_rows.select(["hash", "key"]) for manifest in (before, after)])
    told = told.take(pa.array(np.flatnonzero(np.isin(told.column("hash").to_numpy() >> np.uint64(BUCKET_SHIFT), buckets))))
    rows = (np.unique(rows_there(manifest, told)) for manifest in (before, after))
    rows_before, rows_after = (each[each >= 0] for each in rows)
    return rows_before, rows_after


def _other_buckets(before: Manifest, after: Manifest) -> Rows:
    if not before.digests or not after.digests:  # of rows that are in no store yet no digests are known
        return np.arange(BUCKETS)
    every = before.digests.keys() | after.digests.keys()
    return np.array(sorted(b for b in every if before.digests.get(b) != after.digests.get(b)), np.int64)


def _rows_of(manifest: Manifest, buckets: Rows) -> Rows:
    """The rows of those buckets."""
    starts, stops = manifest.bucket_borders(buckets)
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
