"""Merging: what records that are brought in make of a snapshot. Labels, splits, doubles; whole columns at a time."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from pannier.columns import Codes, Digests, Names, Rows, all_names, digests_of, numbered, order_by_hash, order_of_keys
from pannier.errors import ConflictError, SourceError, UsageError
from pannier.splits import Shares, deal
from pannier.store.manifest import COLUMNS, REMOVED, SCHEMA, Manifest

if TYPE_CHECKING:
    from pannier.store.snapshot import Snapshot


@dataclass
class Counts:
    """What became of the records that were brought in. `differing` keys have another label or split in the source."""

    added: int = 0
    changed: int = 0
    unchanged: int = 0
    relabelled: int = 0
    differing: list[str] = field(default_factory=list)
    deviation: dict[str | None, int] = field(default_factory=dict)


@dataclass
class Merged:
    """What is to be written: manifest rows with `removed`, or None for nothing; and the tale of it."""

    changes: Any | None
    counts: Counts
    change_counts: list[list[Any]]


@dataclass
class _Rows:
    """The rows that are new or changed, in order of (hash of key, key).

    `there`: their rows in the parent, -1 for none. `takes_side`: whether the source's side columns win over the parent's.
    """

    table: Any
    there: Rows
    takes_side: np.ndarray[Any, np.dtype[np.bool_]]
    labels: Names
    splits: Names

    @property
    def digests(self) -> Digests:
        return digests_of(self.table.column("sha256"))

    def key(self, row: int) -> str:
        key: str = self.table.column("key")[row].as_py()
        return key


@dataclass(frozen=True)
class _Elsewhere:
    """Records of the parent, not among the rows, that have a split and one of their pictures."""

    digests: Digests
    keys: list[str]
    splits: list[str]


def merge(incoming: Any, parent: Snapshot | None, *, relabel: bool, shares: Shares | None, seed: int) -> Merged:
    """`incoming` are manifest rows in order of (hash of key, key), as the source has them. Raises SourceError."""
    manifest = parent.manifest if parent is not None else Manifest.empty()
    there = rows_there(manifest, incoming)
    rows, counts = _new_or_changed(incoming, there, manifest, relabel)
    if not len(rows.table):
        return Merged(None, counts, [])
    elsewhere = _elsewhere(rows, manifest)
    if shares:
        _follow_doubles(rows, manifest, elsewhere)
    _refuse_double_in_two_splits(rows, elsewhere)
    if shares:
        rows = _with_undealt(rows, manifest)
        counts.deviation = _deal(rows, parent, elsewhere, shares, seed)
    return Merged(_changes(rows, manifest), counts, _change_counts(rows, manifest))


def rows_there(manifest: Manifest, table: Any) -> Rows:
    """For each row of a table with `hash` and `key`: the row of the manifest with that key, -1 for none."""
    hashes, keys = table.column("hash").to_numpy(), table.column("key")
    found = np.full(len(hashes), -1, np.int64)
    open_rows, at = np.arange(len(hashes)), np.searchsorted(manifest.hashes, hashes)
    while len(open_rows):  # once, but for keys whose hashes are alike
        is_candidate = at < len(manifest)
        is_candidate[is_candidate] = manifest.hashes[at[is_candidate]] == hashes[open_rows[is_candidate]]
        open_rows, at = open_rows[is_candidate], at[is_candidate]
        if not len(open_rows):
            break
        theirs, ours = manifest.take(at, ["key"]).column(0), keys.take(pa.array(open_rows))
        same = pc.equal(theirs, ours).to_numpy(zero_copy_only=False)
        found[open_rows[same]] = at[same]
        open_rows, at = open_rows[~same], at[~same] + 1
    return found


def refuse_both_sides_changed(incoming: Any, head: Manifest, seen: Manifest) -> None:
    """Raises ConflictError where a key was given other bytes since `seen`, by somebody else than us."""
    in_head, in_seen = rows_there(head, incoming), rows_there(seen, incoming)
    rows = np.flatnonzero(in_head >= 0)
    ours = digests_of(incoming.column("sha256"))[rows]
    theirs = _digests(head, in_head[rows])
    before = np.zeros_like(theirs)
    known = in_seen[rows] >= 0
    before[known] = _digests(seen, in_seen[rows][known])
    changed = (theirs != ours).any(axis=1) & ((theirs != before).any(axis=1) | ~known)
    if changed.any():
        key = incoming.column("key")[int(rows[np.argmax(changed)])].as_py()
        raise ConflictError(
            f"record {key!r} was given other bytes by somebody else while this was packing; their snapshot stands "
            "and these pictures are stored: run the same command again to have yours on top"
        )


def _digests(manifest: Manifest, rows: Rows) -> Digests:
    return digests_of(manifest.take(rows, ["sha256"]).column(0))


def _names_there(manifest: Manifest, there: Rows, column: str) -> Names:
    """A column of names of the parent for rows of which some are not there: those have none."""
    codes, names = manifest.codes(column)
    return Names(np.append(codes, np.int32(-1))[there], names)


def _new_or_changed(incoming: Any, there: Rows, manifest: Manifest, relabel: bool) -> tuple[_Rows, Counts]:
    """A record that is there keeps its label and split, unless `relabel` is said; what it lacks it gets."""
    label_names, labels, old_labels = _alike(incoming, there, manifest, "label")
    split_names, splits, old_splits = _alike(incoming, there, manifest, "split")
    is_there = there >= 0
    is_other_picture = is_there.copy()
    ours, theirs = digests_of(incoming.column("sha256"))[is_there], _digests(manifest, there[is_there])
    is_other_picture[is_there] = (ours != theirs).any(axis=1)

    label, split = np.where(is_there, old_labels, labels), np.where(is_there & (old_splits >= 0), old_splits, splits)
    other_side = _side_differs(incoming, there, manifest)
    differs = is_there & ((labels != old_labels) | ((splits >= 0) & (splits != split)) | other_side)
    counts = Counts(
        added=int((~is_there).sum()),
        changed=int(is_other_picture.sum()),
        unchanged=int((is_there & ~is_other_picture).sum()),
    )
    if relabel:
        counts.relabelled = int(differs.sum())
        label, split = np.where(differs, labels, label), np.where(differs & (splits >= 0), splits, split)
    else:
        counts.differing = incoming.column("key").take(pa.array(np.flatnonzero(differs))).to_pylist()
    takes_side = ~is_there | is_other_picture | (other_side & relabel)
    chosen = np.flatnonzero(takes_side | (label != old_labels) | (split != old_splits))
    rows = _Rows(
        incoming.take(pa.array(chosen)),
        there[chosen],
        takes_side[chosen],
        Names(label[chosen].astype(np.int32), label_names),
        Names(split[chosen].astype(np.int32), split_names),
    )
    return rows, counts


def _alike(incoming: Any, there: Rows, manifest: Manifest, column: str) -> tuple[list[str], Codes, Codes]:
    """A column of names as the source and as the parent has it, both numbered by the same names."""
    ours, theirs = Names.of(incoming.column(column)), _names_there(manifest, there, column)
    names = all_names(ours, theirs)
    return names, ours.numbered_by(names), theirs.numbered_by(names)


def _elsewhere(rows: _Rows, manifest: Manifest) -> _Elsewhere:
    if not len(manifest):
        return _Elsewhere(rows.digests[:0], [], [])
    found = manifest.find_pictures(rows.digests)
    codes, names = manifest.codes("split")
    found = found[(codes[found] >= 0) & ~np.isin(found, rows.there)]
    keys = manifest.take(found, ["key"]).column(0).to_pylist()
    return _Elsewhere(_digests(manifest, found), keys, [names[code] for code in codes[found].tolist()])


def _follow_doubles(rows: _Rows, manifest: Manifest, elsewhere: _Elsewhere) -> None:
    """A record whose new picture is already in another split is dealt there: keeping its split would leak."""
    is_other = np.zeros(len(rows.there), bool)
    known = np.flatnonzero(rows.there >= 0)
    is_other[known] = (rows.digests[known] != _digests(manifest, rows.there[known])).any(axis=1)
    if not is_other.any():
        return
    groups, firsts = numbered(np.concatenate([elsewhere.digests, rows.digests]))
    names = all_names(rows.splits, Names(np.empty(0, np.int32), list(dict.fromkeys(elsewhere.splits))))
    own = rows.splits.numbered_by(names)
    others = np.array([names.index(split) for split in elsewhere.splits], np.int32)
    settled = np.full(len(firsts), -1, np.int32)
    with_split = order_of_keys(rows.table.column("key"))
    with_split = with_split[own[with_split] >= 0][::-1]  # the last assignment stands: so that of the first key does
    settled[groups[len(others) :][with_split]] = own[with_split]
    settled[groups[: len(others)]] = others
    leaks = is_other & (own >= 0) & (settled[groups[len(others) :]] != own)
    rows.splits = Names(np.where(leaks, np.int32(-1), own), names)


def _refuse_double_in_two_splits(rows: _Rows, elsewhere: _Elsewhere) -> None:
    """One picture in two splits, both given from outside, would leak."""
    groups, firsts = numbered(np.concatenate([elsewhere.digests, rows.digests]))
    count = len(elsewhere.keys)
    first: dict[int, tuple[str, str]] = {}
    for group, *where in zip(groups[:count].tolist(), elsewhere.keys, elsewhere.splits, strict=True):
        first[group] = (where[0], where[1])
    is_double = np.bincount(groups, minlength=len(firsts))[groups[count:]] > 1
    for row in order_of_keys(rows.table.column("key")).tolist():
        split = rows.splits[row]
        if not is_double[row] or split is None:
            continue
        other, there = first.setdefault(int(groups[count + row]), (rows.key(row), split))
        if there != split:
            raise SourceError(
                f"one picture is in two splits: {other!r} in {there} and {rows.key(row)!r} in {split}; remove one of them, "
                "or deal anew with --resplit --shares"
            )


def _with_undealt(rows: _Rows, manifest: Manifest) -> _Rows:
    """The rows, and the records there that have no split: they are dealt too."""
    codes, _ = manifest.codes("split")
    without = np.setdiff1d(np.flatnonzero(codes < 0), rows.there)
    if not len(without):
        return rows
    taken = manifest.take(without, SCHEMA.names)
    table = pa.concat_tables([rows.table, taken.cast(SCHEMA)], promote_options="default").unify_dictionaries()
    there = np.concatenate([rows.there, without])
    labels = Names.of(taken.column("label"))
    label_names = all_names(rows.labels, labels)
    joined = Names(np.concatenate([rows.labels.numbered_by(label_names), labels.numbered_by(label_names)]), label_names)
    splits = Names(np.concatenate([rows.splits.codes, np.full(len(without), -1, np.int32)]), rows.splits.names)
    takes_side = np.append(rows.takes_side, np.zeros(len(without), bool))
    return _Rows(table, there, takes_side, joined, splits)


def _deal(rows: _Rows, parent: Snapshot | None, elsewhere: _Elsewhere, shares: Shares, seed: int) -> dict[str | None, int]:
    """Gives a split to the rows that have none. How far each class is from its shares, which doubles may keep it from."""
    if (rows.splits.codes >= 0).all():
        return {}  # nothing to deal, so nothing that dealing could have missed
    order = order_of_keys(rows.table.column("key"))
    dealt = deal(
        rows.labels.take(order).to_list(),
        rows.digests[order],
        rows.splits.take(order).to_list(),
        shares,
        seed,
        there=_others_by_class_and_split(rows, parent),
        elsewhere=(elsewhere.digests, elsewhere.splits),
    )
    names = list(dict.fromkeys(dealt.splits))
    numbers = {name: number for number, name in enumerate(names)}
    codes = np.empty(len(order), np.int32)
    codes[order] = [numbers[split] for split in dealt.splits]
    rows.splits = Names(codes, names)
    return dealt.deviation


def _others_by_class_and_split(rows: _Rows, parent: Snapshot | None) -> Mapping[tuple[str | None, str | None], int]:
    """The parent's records that are not among the rows."""
    if parent is None:
        return {}
    counts = Counter(parent.counts)
    there = rows.there[rows.there >= 0]
    labels, splits = (_names_there(parent.manifest, there, name).to_list() for name in ("label", "split"))
    counts.subtract(zip(labels, splits, strict=True))
    return counts


def _side_names(table: Any) -> list[str]:
    return [name for name in table.column_names if name not in COLUMNS]


def _both_sides(table: Any, there: Rows, manifest: Manifest, name: str) -> tuple[Any, Any]:
    """A side column as the source and as the parent has it for some rows, NULL where it has none. Raises UsageError."""
    is_there = there >= 0
    ours = table.column(name).combine_chunks() if name in table.column_names else None
    theirs = None
    if name in manifest.side_columns:
        values = manifest.take(there[is_there], [name]).column(0).combine_chunks()
        theirs = values.take(pa.array(np.cumsum(is_there) - 1, mask=~is_there))
    if ours is not None and theirs is not None and ours.type != theirs.type:
        if not pa.types.is_null(ours.type):
            raise UsageError(
                f"side column {name!r} holds {theirs.type} in the store and {ours.type} in the source: cast it, as in "
                f"--keep 'CAST({name} AS ...) as {name}', or keep it under another name"
            )
        ours = None
    kind = ours.type if ours is not None else theirs.type  # type: ignore[union-attr]
    nothing = pa.nulls(len(there), kind)
    return nothing if ours is None else ours, nothing if theirs is None else theirs


def _side_differs(incoming: Any, there: Rows, manifest: Manifest) -> np.ndarray[Any, np.dtype[np.bool_]]:
    """Records that are there, and of which the source says something else in a side column."""
    differs = np.zeros(len(there), bool)
    for name in _side_names(incoming):
        ours, theirs = _both_sides(incoming, there, manifest, name)
        is_other = pc.or_(pc.is_null(theirs), pc.fill_null(pc.not_equal(ours, theirs), False))
        differs |= pc.and_(pc.is_valid(ours), is_other).to_numpy(zero_copy_only=False).astype(bool)
    return differs & (there >= 0)


def _changes(rows: _Rows, manifest: Manifest) -> Any:
    """The rows as a change of a manifest; what side columns the parent has for them stays."""
    table = rows.table
    for name, values in (("label", rows.labels), ("split", rows.splits)):
        table = table.set_column(table.schema.get_field_index(name), SCHEMA.field(name), values.to_arrow())
    for name in sorted({*_side_names(table), *manifest.side_columns}):
        ours, theirs = _both_sides(table, rows.there, manifest, name)
        values = pc.if_else(pa.array(rows.takes_side), pc.coalesce(ours, theirs), theirs)
        table = table.drop_columns([name]) if name in table.column_names else table
        table = table.append_column(name, values)
    table = table.append_column(REMOVED, pa.array(np.zeros(len(table), bool)))
    return table.take(pa.array(order_by_hash(table.column("hash").to_numpy(), table.column("key"))))


def _change_counts(rows: _Rows, manifest: Manifest) -> list[list[Any]]:
    """What changed by kind, class and split: [kind, label, split, records]."""
    kinds = ["added", "changed", "relabelled", "moved", "described"]
    is_there = rows.there >= 0
    kind = np.zeros(len(is_there), np.int64)
    there = rows.there[is_there]
    is_other_label = _names_there(manifest, there, "label").numbered_by(rows.labels.names) != rows.labels.codes[is_there]
    is_other_split = _names_there(manifest, there, "split").numbered_by(rows.splits.names) != rows.splits.codes[is_there]
    kind[is_there] = np.where(is_other_label, 2, np.where(is_other_split, 3, 4))
    is_other_picture = np.zeros(len(is_there), bool)
    is_other_picture[is_there] = (rows.digests[is_there] != _digests(manifest, there)).any(axis=1)
    kind[is_other_picture] = 1
    table, counts = np.unique(np.stack([kind, rows.labels.codes, rows.splits.codes]), axis=1, return_counts=True)
    labels, splits = [*rows.labels.names, None], [*rows.splits.names, None]
    lines = [
        [kinds[k], labels[label], splits[split], count]
        for (k, label, split), count in zip(table.T.tolist(), counts.tolist(), strict=True)
    ]
    return sorted(lines, key=lambda line: tuple(str(part or "") for part in line[:3]))
