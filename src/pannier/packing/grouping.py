"""What must lie in one split: exact doubles always, near doubles and groups where it was said; dealing it, and leaks."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Mapping
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from pannier.array_types import Flags
from pannier.columns import Digests, NameColumn, Rows, connected, differs, numbered, order_of_keys
from pannier.dealing.shares import Dealing
from pannier.dealing.splits import deal
from pannier.errors import SourceError
from pannier.hashing import Hashes
from pannier.images.near import Fetch, near_links
from pannier.kinds import LeftOutKind
from pannier.packing.revision import Revision, both_sides
from pannier.sources.rows import LeftOut
from pannier.sources.rules import GROUP
from pannier.store.manifest import Manifest, names_there

# gives the miniatures of pictures by their SHA-256
MiniaturesOf = Callable[[Digests], Fetch]
ClassCounts = Mapping[tuple[str | None, str | None], int]
# so many leaks are named in one message
SHOWN_LEAKS = 20
_Tied = tuple[LeftOutKind, str, str]


@dataclass(frozen=True)
class _Relations:
    """Groups among a revision's rows and what is related to them elsewhere in the manifest, all of which has a split.

    `own` and `others` are the groups' numbers, below `count`; `other_rows` are rows of the manifest.
    """

    own: Rows
    others: Rows
    other_rows: Rows
    other_splits: list[str]
    count: int

    def settled(self) -> list[str | None]:
        """By group: the split in which it is elsewhere, the first one of several."""
        splits: list[str | None] = [None] * self.count
        for group, split in zip(self.others.tolist()[::-1], self.other_splits[::-1], strict=True):
            splits[group] = split
        return splits


@dataclass(frozen=True)
class Settled:
    """What is left to write of a revision; by class how many records it misses its targets by, and the largest set of
    records in it that stay together: the key of one, and their number.
    """

    revision: Revision
    deviation: dict[str | None, int]
    tied: dict[str | None, tuple[str, int]]


def settle(
    revision: Revision, counts: ClassCounts, dealing: Dealing, miniatures: MiniaturesOf, *, anew: bool = False
) -> Settled:
    """Gives splits to the rows that need one, as `dealing` says.

    counts: the manifest's records by (class, split). anew: all rows are dealt but those in frozen splits. Rows that would
    change a frozen split, or tie two splits together, are left out and listed in `left_out`. Raises SourceError where splits
    given from outside leak, or would gain records that are tied to theirs and nothing is said of `ties`.
    """
    revision = _guard_frozen(revision, dealing)
    if dealing.deals and dealing.carved_from is None and not anew:
        codes, _ = revision.manifest.codes("split")
        revision = revision.with_records(np.setdiff1d(np.flatnonzero(codes < 0), revision.there))
    relations = _related(revision, dealing, miniatures)
    is_open = _open_rows(revision, dealing, anew)
    is_open |= _leaving_doubles(revision, relations, is_open) if dealing.deals else False
    revision, relations, is_open = _leave_out_ties(revision, relations, is_open, dealing)
    revision, relations, is_open = _keep_fixed(revision, relations, is_open, dealing)
    if not dealing.leaks_allowed:
        _refuse_leaks(revision, relations, is_open)
    if not is_open.any():
        return Settled(revision, {}, {})
    return _dealt(revision, relations, is_open, counts, dealing)


def _open_rows(revision: Revision, dealing: Dealing, anew: bool) -> Flags:
    """Which rows are to be dealt."""
    none: Flags = np.zeros(len(revision), bool)
    if not dealing.deals:
        return none
    splits = revision.splits
    frozen = np.isin(splits.codes, [i for i, name in enumerate(splits.names) if name in dealing.frozen])
    if dealing.carved_from is not None:
        is_carved = np.array([name == dealing.carved_from for name in [*splits.names, None]], bool)[splits.codes]
        return is_carved & (anew | ~revision.is_there)
    return (splits.codes < 0) | (anew & ~frozen)


def _guard_frozen(revision: Revision, dealing: Dealing) -> Revision:
    """Without what would change a frozen split; a record's new label and side columns are none of that.

    A record that would get another picture keeps the one that it has, and takes what else is new.
    """
    if not dealing.frozen:
        return revision
    before, after = revision.before("split").to_list(), revision.splits.to_list()
    is_other, is_there = revision.is_other_picture, revision.is_there
    kept, stays_as_picture = np.ones(len(revision), bool), np.zeros(len(revision), bool)
    splits = list(after)
    for row, (was, becomes) in enumerate(zip(before, after, strict=True)):
        reason = ""
        if was in dealing.frozen and is_other[row]:
            reason = f"{was} is frozen: the record is not given another picture"
            stays_as_picture[row], splits[row] = True, was
        elif (was in dealing.frozen or becomes in dealing.frozen) and was != becomes and is_there[row]:
            frozen = was if was in dealing.frozen else becomes
            reason, splits[row] = (
                f"{frozen} is frozen: the record stays in {was or 'no split'}, not {becomes or 'none'}",
                was,
            )
        elif becomes in dealing.frozen and was != becomes:
            reason = f"{becomes} is frozen: it gains no record"
        if reason:
            revision.left_out.append(LeftOut(revision.key(row), "frozen", reason))
            kept[row] = stays_as_picture[row] or splits[row] != after[row]
    if splits != after or stays_as_picture.any():
        is_undone = np.array([split != said for split, said in zip(splits, after, strict=True)], bool) | stays_as_picture
        revision = replace(revision, splits=NameColumn.of(pa.array(splits, pa.string()))).with_pictures_of(stays_as_picture)
        kept &= ~is_undone | _says_more(revision)
    gone_splits = names_there(revision.manifest, revision.gone, "split").to_list()
    stays = np.array([split in dealing.frozen for split in gone_splits], bool)
    kept_splits = [split for split in gone_splits if split in dealing.frozen]
    for key, split in zip(_keys_of(revision.manifest, revision.gone[stays]), kept_splits, strict=True):
        revision.left_out.append(LeftOut(key, "frozen", f"{split} is frozen: the record is not removed"))
    revision.gone = revision.gone[~stays]
    return revision if kept.all() else revision.only(kept)


def _leaving_doubles(revision: Revision, relations: _Relations, is_open: Flags) -> Flags:
    """Records whose new picture is already in another split: they are dealt there, keeping their split would leak."""
    leaving: Flags = np.zeros(len(revision), bool)
    candidates = np.flatnonzero(revision.is_other_picture & ~is_open & (revision.splits.codes >= 0))
    if not len(candidates):
        return leaving
    settled = relations.settled()
    for row in order_of_keys(revision.table.column("key")).tolist():
        if revision.splits.codes[row] >= 0 and not is_open[row]:
            settled[relations.own[row]] = settled[relations.own[row]] or revision.splits[row]
    for row in candidates.tolist():
        leaving[row] = settled[relations.own[row]] != revision.splits[row]
    return leaving


def _leave_out_ties(
    revision: Revision, relations: _Relations, is_open: Flags, dealing: Dealing
) -> tuple[Revision, _Relations, Flags]:
    """Open rows whose group lies in a frozen split, or in two splits, are not dealt: nothing else would keep those apart.

    What is there already stays as it is.
    """
    tied = _tied(revision, relations, is_open, dealing)
    is_tied: Flags = np.zeros(len(revision), bool)
    for row in np.flatnonzero(is_open).tolist() if tied else ():
        tie = tied.get(int(relations.own[row]))
        if tie is not None:
            kind, key, where = tie
            revision.left_out.append(LeftOut(revision.key(row), kind, f"goes with {key} in {where}"))
            is_tied[row] = True
    return _without(is_tied, revision, relations, is_open)


def _says_more(revision: Revision) -> Flags:
    """Which rows of records that are there change their label, a side column or their key."""
    changed: Flags = revision.changes_side | differs(revision.before("label"), revision.labels) | revision.is_moved
    return changed & revision.is_there


def _without(
    is_tied: Flags, revision: Revision, relations: _Relations, is_open: Flags
) -> tuple[Revision, _Relations, Flags]:
    """Some rows are not dealt: new records are left out; those that are there keep split and picture, and take the rest."""
    if not is_tied.any():
        return revision, relations, is_open
    stays = is_tied & revision.is_there
    before, after = revision.before("split").to_list(), revision.splits.to_list()
    splits = [was if stay else becomes for was, becomes, stay in zip(before, after, stays.tolist(), strict=True)]
    revision = replace(revision, splits=NameColumn.of(pa.array(splits, pa.string()))).with_pictures_of(stays)
    kept = ~is_tied | (stays & _says_more(revision))
    own = relations.own.copy()
    own[stays] = relations.count + np.arange(stays.sum())  # with their old pictures, they are not part of the group
    relations = replace(relations, own=own[kept], count=relations.count + int(stays.sum()))
    return revision.only(kept), relations, (is_open & ~stays)[kept]


def _keep_fixed(
    revision: Revision, relations: _Relations, is_open: Flags, dealing: Dealing
) -> tuple[Revision, _Relations, Flags]:
    """A split that neither shares nor counts name is what a rule, table or folder says it is, and gains nothing unasked."""
    if not dealing.deals or dealing.ties == "follow":
        return revision, relations, is_open
    dealt = {*dealing.open_shares, *dealing.open_counts, *dealing.frozen}
    found: dict[int, tuple[str, str]] = {}  # by group: a record that fixes it, and its split
    at = [i for i, split in enumerate(relations.other_splits) if split not in dealt]
    for i, key in zip(at, _keys_of(revision.manifest, relations.other_rows[at]) if at else [], strict=True):
        found.setdefault(int(relations.others[i]), (key, relations.other_splits[i]))
    given = np.flatnonzero(~is_open & (revision.splits.codes >= 0))
    for row in given[[revision.splits[row] not in dealt for row in given.tolist()]].tolist():
        found.setdefault(int(relations.own[row]), (revision.key(row), revision.splits[row] or ""))
    is_tied: Flags = np.zeros(len(revision), bool)
    for row in np.flatnonzero(is_open).tolist() if found else ():
        is_tied[row] = int(relations.own[row]) in found
    ties = [
        LeftOut(revision.key(row), "tie", "goes with {} in {}, which is fixed".format(*found[int(relations.own[row])]))
        for row in np.flatnonzero(is_tied).tolist()
    ]
    if ties and dealing.ties is None:
        ties.sort()
        where = " and ".join(sorted({split for _, split in found.values()}))
        shown = "; ".join(f"{tie.key} {tie.reason}" for tie in ties[:3])
        raise SourceError(
            f"{where} is fixed from outside, and {len(ties)} more record{'s' if len(ties) > 1 else ''} would come to it by "
            f"groups or doubles: {shown}; say `ties` follow to have them there, or `ties` leave-out"
        )
    revision.left_out += ties
    return _without(is_tied, revision, relations, is_open)


def _tied(revision: Revision, relations: _Relations, is_open: Flags, dealing: Dealing) -> dict[int, _Tied]:
    """By group that cannot be dealt: the kind of reason, the key of a record in it that has a split, and where that is."""
    splits: dict[int, dict[str, int]] = {}  # by group and split a row: of the manifest, or below 0 of the revision
    elsewhere = (relations.others.tolist(), relations.other_splits, relations.other_rows.tolist())
    for group, split, row in zip(*elsewhere, strict=True):
        splits.setdefault(group, {}).setdefault(split, row)
    frozen_codes = [i for i, name in enumerate(revision.splits.names) if name in dealing.frozen]
    for row in np.flatnonzero(~is_open & np.isin(revision.splits.codes, frozen_codes)).tolist():
        splits.setdefault(int(relations.own[row]), {}).setdefault(revision.splits[row] or "", -1 - row)
    tied: dict[int, _Tied] = {}
    for group, found in splits.items():
        frozen = sorted(set(found) & set(dealing.frozen))
        if frozen or (len(found) > 1 and not dealing.leaks_allowed):
            row = found[frozen[0]] if frozen else next(iter(found.values()))
            key = revision.key(-1 - row) if row < 0 else _keys_of(revision.manifest, np.array([row]))[0]
            where = f"frozen {frozen[0]}" if frozen else " and ".join(sorted(found))
            tied[group] = ("frozen" if frozen else "tie", key, where)
    return tied


def _refuse_leaks(revision: Revision, relations: _Relations, is_open: Flags) -> None:
    """Raises SourceError where a group lies in two splits that were given from outside."""
    splits = revision.splits
    is_given = (splits.codes >= 0) & ~is_open
    sizes = np.bincount(relations.own[is_given], minlength=relations.count)
    sizes = sizes + np.bincount(relations.others, minlength=relations.count)
    first: dict[int, tuple[str, str, Any]] = {}
    if len(relations.others):
        keys = _keys_of(revision.manifest, relations.other_rows)
        digests = revision.manifest.pictures(relations.other_rows)
        everything = zip(relations.others.tolist(), keys, relations.other_splits, digests, strict=True)
        for group, key, split, digest in everything:
            first.setdefault(group, (key, split, digest.tobytes()))
    rows = order_of_keys(revision.table.column("key"))
    digests, groups = revision.digests, _group_values(revision)
    leaks: list[str] = []
    for row in rows[is_given[rows] & (sizes[relations.own[rows]] > 1)].tolist():
        own = (revision.key(row), splits[row] or "", digests[row].tobytes())
        other, there, digest = first.setdefault(int(relations.own[row]), own)
        if there != own[1]:
            both = f"{other!r} in {there} and {own[0]!r} in {own[1]}"
            if digest == own[2]:
                leaks.append(f"one picture is in two splits: {both}")
            elif groups is not None and groups[row].as_py() is not None:
                leaks.append(f"group {groups[row].as_py()!r} is in two splits: {both}")
            else:
                leaks.append(f"near doubles are in two splits: {both}")
    if leaks:
        again = (
            "deal all records again with `shares` of pannier change" if len(revision.manifest) else "`resplit` with `shares`"
        )
        raise SourceError(f"{_all_of(leaks)}: give each one split, {again}, or say `allow_leaks`")


def _all_of(leaks: list[str]) -> str:
    more = [f"and {len(leaks) - SHOWN_LEAKS:,} more"] if len(leaks) > SHOWN_LEAKS else []
    return leaks[0] if len(leaks) == 1 else f"{len(leaks):,} leaks: " + "; ".join([*leaks[:SHOWN_LEAKS], *more])


def _dealt(revision: Revision, relations: _Relations, is_open: Flags, counts: ClassCounts, dealing: Dealing) -> Settled:
    """The rows with splits for the open ones. How far each class is from its targets, which groups may keep it from."""
    order = order_of_keys(revision.table.column("key"))
    settled = relations.settled()
    given = revision.splits.take(order).to_list()
    own, opened = relations.own[order], is_open[order]
    for group, split, each in zip(own.tolist(), given, opened.tolist(), strict=True):
        if not each and split is not None:
            settled[group] = settled[group] or split
    labels, turns = revision.labels.take(order).to_list(), _turns(own, revision.digests[order], relations.count)
    there = _others_by_class_and_split(revision, counts)
    splits = deal(labels, given, opened, own, settled, turns, dealing, there=there)
    names = list(dict.fromkeys(split for split in splits.splits if split is not None))
    numbers = {name: number for number, name in enumerate(names)}
    codes = np.full(len(order), -1, np.int32)
    codes[order] = [-1 if split is None else numbers[split] for split in splits.splits]
    revision.splits = NameColumn(codes, names)
    first = dict(zip(own[::-1].tolist(), order[::-1].tolist(), strict=True))
    tied = {label: (revision.key(first[group]), size) for label, (group, size) in splits.largest.items()}
    return Settled(revision, splits.deviation, tied)


def _turns(groups: Rows, digests: Digests, count: int) -> Hashes:
    """By group: the first 8 bytes of the smallest SHA-256 among its rows, as a number."""
    prefixes = np.ascontiguousarray(digests[:, :8]).view(">u8").ravel().astype(np.uint64)
    turns = np.full(count, np.iinfo(np.uint64).max, np.uint64)
    np.minimum.at(turns, groups, prefixes)
    return turns


def _others_by_class_and_split(revision: Revision, counts: ClassCounts) -> ClassCounts:
    """The manifest's records that are not among the rows, and stay."""
    others = Counter(counts)
    for rows in (revision.there[revision.is_there], revision.gone):
        labels, splits = (names_there(revision.manifest, rows, name).to_list() for name in ("label", "split"))
        others.subtract(zip(labels, splits, strict=True))
    return others


def _related(revision: Revision, dealing: Dealing, miniatures: MiniaturesOf) -> _Relations:
    """Groups among the rows, and with the manifest's other records that have a split."""
    manifest = revision.manifest
    codes, names = manifest.codes("split")
    is_other = codes >= 0
    is_other[np.concatenate([revision.there[revision.is_there], revision.gone])] = False
    digests = revision.digests
    related = [manifest.find_pictures(digests) if len(manifest) else np.empty(0, np.int64)]
    groups = _group_values(revision)
    their_groups = manifest.values(GROUP) if GROUP in manifest.side_columns else None
    if groups is not None and their_groups is not None:
        related.append(np.flatnonzero(pc.is_in(their_groups, value_set=groups.drop_null()).to_numpy(zero_copy_only=False)))
    links = np.empty((0, 2), np.int64)
    others = np.flatnonzero(is_other)
    if dealing.near is not None and len(revision):
        their_digests = manifest.pictures(others) if len(others) else digests[:0]
        links = _near(np.concatenate([digests, their_digests]), len(revision), dealing, miniatures)
        related.append(others[links[links >= len(revision)] - len(revision)])
        at = np.append(others, 0)[np.maximum(links - len(revision), 0)] + len(revision)
        links = np.where(links >= len(revision), at, links)
    rows = np.unique(np.concatenate(related))
    rows = rows[is_other[rows]]
    links = np.where(links >= len(revision), np.searchsorted(rows, links - len(revision)) + len(revision), links)
    splits = [names[code] for code in codes[rows].tolist()]
    if len(rows):
        digests = np.concatenate([digests, manifest.pictures(rows)])
    edges = [links, _equal(numbered(digests)[0])]
    if groups is not None:
        values = [*groups.to_pylist(), *(their_groups.take(pa.array(rows)).to_pylist() if their_groups is not None else [])]
        edges.append(_equal(np.array(NameColumn.of(pa.array(values, pa.string())).codes, np.int64)))
    numbers, count = connected(len(digests), np.concatenate(edges))
    return _Relations(numbers[: len(revision)], numbers[len(revision) :], rows, splits, count)


def _near(digests: Digests, asked: int, dealing: Dealing, miniatures: MiniaturesOf) -> Rows:
    """Links (n, 2) between near doubles, of which one end is among the first `asked`: each picture compared once."""
    firsts = np.sort(numbered(digests)[1])
    if len(firsts) < 2 or dealing.near is None:
        return np.empty((0, 2), np.int64)
    known = digests[firsts]
    ours = int((firsts < asked).sum())
    return firsts[near_links(miniatures(known), known, dealing.near, dealing.unlike, asked=ours).pairs]


def _group_values(revision: Revision) -> Any | None:
    """The rows' values of the side column that keeps groups together; None where there is none."""
    if GROUP not in revision.table.column_names and GROUP not in revision.manifest.side_columns:
        return None
    ours, theirs = both_sides(revision.table, revision.there, revision.manifest, GROUP)
    return pc.if_else(pa.array(revision.takes_side), pc.coalesce(ours, theirs), theirs).cast(pa.string())


def _equal(numbers: Rows) -> Rows:
    """Links (n, 2) from each row to the first with its number; -1 is no number."""
    rows = np.flatnonzero(numbers >= 0)
    _, first, inverse = np.unique(numbers[rows], return_index=True, return_inverse=True)
    links = np.stack([rows[first[inverse]], rows], axis=1)
    return links[links[:, 0] != links[:, 1]]


def _keys_of(manifest: Manifest, rows: Rows) -> list[str]:
    keys: list[str] = manifest.take(rows, ["key"]).column(0).to_pylist()
    return keys
