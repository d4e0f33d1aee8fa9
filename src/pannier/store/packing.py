"""Packing: a source becomes a snapshot. What came in, what was there, what was left out and why, is all said."""

from __future__ import annotations

import os
from collections import Counter, defaultdict
from collections.abc import Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING, Any, Literal

import numpy as np
import pyarrow as pa

from pannier.errors import ConflictError, SourceError, UsageError
from pannier.hashing import checked_seed, text_hash
from pannier.images.facts import MAX_PIXELS
from pannier.machine import usable_cores
from pannier.sources.checking import Checker, Progress
from pannier.sources.folders import FolderSource, as_source, is_flat
from pannier.sources.rows import (
    NO_COLUMNS,
    LeftOut,
    Row,
    Rules,
    Source,
    check_same_classes,
    column_rule,
    no_value,
    read_rename,
)
from pannier.splits import Shares, deal, read_shares
from pannier.store.commit import Proposal, commit
from pannier.store.ingest import Ingested, Stored, ingest
from pannier.store.manifest import COLUMNS, REMOVED, SCHEMA
from pannier.store.names import FIRST_TRACK, checked_name
from pannier.store.shards import DEFAULT_SHARD_BYTES

if TYPE_CHECKING:
    from pannier.store.snapshot import Snapshot
    from pannier.store.store import Store


@dataclass
class PackResult:
    """What packing did. `snapshot` is the track's newest; `is_new` says whether packing made it."""

    snapshot: Snapshot
    is_new: bool
    added: int = 0
    changed: int = 0
    unchanged: int = 0
    relabelled: int = 0
    differing: list[str] = field(default_factory=list)
    left_out: list[LeftOut] = field(default_factory=list)
    skipped: int = 0
    new_pictures: int = 0
    new_bytes: int = 0
    deviation: dict[str | None, int] = field(default_factory=dict)


@dataclass(frozen=True)
class Wish:
    """One record as the source has it."""

    label: str | None
    split: str | None
    stored: Stored


def pack(
    store: Store,
    source: str | Path | Source,
    *,
    shares: str | Mapping[str, float | str] | None = None,
    seed: int | None = None,
    note: str = "",
    label: str = "parent",
    rename: str | Mapping[str, str] | list[str] | None = None,
    unlabeled: Literal["leave", "keep"] = "leave",
    into: str = "",
    resplit: bool = False,
    relabel: bool = False,
    allow_missing_classes: bool = False,
    strict: bool = False,
    track: str = FIRST_TRACK,
    shard_bytes: int = DEFAULT_SHARD_BYTES,
    shards: int | None = None,
    max_pixels: int = MAX_PIXELS,
    workers: int | None = None,
    progress: Progress | None = None,
) -> PackResult:
    """Brings a source in as the next snapshot of a track.

    shares: deals records to splits, e.g. {"train": 75, "val": 15, "test": 10}; kept for later packs, as is `seed`.
    label: the source's column that gives labels; `rename` maps class names; `unlabeled` keeps or leaves out the rest.
    into: a prefix for all keys. resplit: deal although the source has splits. relabel: the source's labels win.
    strict: refuse instead of leaving out; nothing is written then. shard_bytes or shards: how large, or how many.
    progress: called with (pictures done, pictures in all).
    Holds at most a few blocks and pictures in memory. Raises SourceError, UsageError, ConflictError, StoreError.
    """
    checked_name(track)
    dealt = read_shares(shares) if shares is not None else None
    seed = None if seed is None else checked_seed(seed)
    if unlabeled not in ("leave", "keep"):
        raise UsageError(f"unlabeled = {unlabeled!r}: must be 'leave' or 'keep'")
    if shards is not None and shards < 1:
        raise UsageError(f"shards = {shards}: must be 1 or more")
    source = as_source(source, keep_splits=not resplit)
    if source.fixed_splits and dealt is not None:
        raise UsageError("the source has split folders already; say --resplit to deal its pictures anew by the shares")
    rules = Rules(
        column_rule(label, source),
        column_rule("split", source) if source.fixed_splits else no_value,
        read_rename(rename),
    )
    rows, passed = _chosen(source, rules, unlabeled, allow_missing_classes)
    prefix = into.strip("/") + "/" if into else ""
    labels = {row.key: (rules.label_of(row), rules.split_of(row)) for row in rows}
    rows = [Row(row.key, row.byte_count, NO_COLUMNS) for row in rows]  # the rules have read them: let them go
    rows.sort(key=lambda row: text_hash(prefix + row.key))
    workers = workers or usable_cores()
    if strict:
        with Checker(source, workers, max_pixels) as checker:
            _refuse_any([each for each in checker.check_all(rows) if isinstance(each, LeftOut)], passed)
    if shards:
        shard_bytes = max(1, -(-sum(row.byte_count for row in rows) // shards))
    head = store.tracks.head(track)
    seen = head.snapshot if head else None
    ingested = ingest(
        store.directory,
        store.index,
        source,
        rows,
        workers=workers,
        max_pixels=max_pixels,
        shard_bytes=shard_bytes,
        progress=progress,
    )
    if not ingested.pictures:
        raise SourceError(f"none of the {len(rows)} pictures in {source.name} can be used: {_examples(ingested.left_out)}")
    wishes = {prefix + key: Wish(*labels[key], stored) for key, stored in ingested.pictures.items()}
    left_out = passed + [LeftOut(prefix + item.key, item.kind, item.reason) for item in ingested.left_out]
    packing = _Packing(store, wishes, left_out, dealt, seed, note, relabel, seen)
    snapshot, is_new = commit(store, track, packing.propose)
    assert snapshot is not None
    return packing.result(snapshot, is_new, ingested, sum(item.kind == "skipped" for item in source.passed))


def _chosen(source: Source, rules: Rules, unlabeled: str, allow_missing_classes: bool) -> tuple[list[Row], list[LeftOut]]:
    """The rows to bring in, and those left out for want of a label or because they cannot be read."""
    rows = list(source.rows())
    if not rows:
        raise SourceError(f"no picture found in {source.name}: it holds nothing that is a picture by its content")
    if isinstance(source, FolderSource) and is_flat(source) and unlabeled == "leave":
        raise SourceError(
            f"all pictures lie in {source.name} itself, so no folder gives their label: sort them into class folders, "
            "or say --unlabeled keep to bring them in without labels"
        )
    chosen = [row for row in rows if unlabeled == "keep" or rules.label_of(row) is not None]
    left_out = [item for item in source.passed if item.kind in ("unreadable", "link")]
    labelled = {row.key for row in chosen}
    left_out += [LeftOut(row.key, "no label", "it lies in no class folder") for row in rows if row.key not in labelled]
    if source.fixed_splits and not allow_missing_classes:
        classes: dict[str, set[str]] = defaultdict(set)
        for row in chosen:
            name, split = rules.label_of(row), rules.split_of(row)
            if split is not None and name is not None:
                classes[split].add(name)
        if len(classes) > 1:
            check_same_classes(classes)
    return chosen, left_out


def _refuse_any(unusable: list[LeftOut], passed: list[LeftOut]) -> None:
    broken = [item for item in [*passed, *unusable] if item.kind != "no label"]
    if broken:
        count = f"{len(broken)} picture{'s' if len(broken) > 1 else ''}"
        raise SourceError(f"--strict: {count} cannot be used and nothing was written: {_examples(broken)}")


def _examples(items: list[LeftOut]) -> str:
    shown = "; ".join(f"{item.key} ({item.reason})" for item in items[:3])
    return shown + (f"; and {len(items) - 3} more" if len(items) > 3 else "")


class _Packing:
    """One pack's records, laid on top of whatever the track's head is when it is their turn."""

    def __init__(
        self,
        store: Store,
        wishes: dict[str, Wish],
        left_out: list[LeftOut],
        shares: Shares | None,
        seed: int | None,
        note: str,
        relabel: bool,
        seen: str | None,
    ) -> None:
        self._store, self._wishes, self._left_out = store, wishes, left_out
        self._shares, self._seed, self._note, self._relabel = shares, seed, note, relabel
        self._seen = seen
        self._outcome: dict[str, Any] = {}

    def propose(self, parent: Snapshot | None) -> Proposal | None:
        there = _records_of(parent, self._wishes)
        if parent is not None and parent.id != self._seen:
            self._refuse_both_sides_changed(there)
        shares, seed = self._dealing(parent)
        rows, counts = self._merged(there)
        if not rows:
            self._outcome = counts | {"deviation": {}}
            return None
        elsewhere = _doubles_elsewhere(rows, parent)
        if shares:
            _follow_doubles(rows, there, elsewhere)
        _refuse_double_in_two_splits(rows, elsewhere)
        deviation = _deal_missing(rows, parent, elsewhere, shares, seed) if shares else {}
        self._outcome = counts | {"deviation": deviation}
        return Proposal(
            changes=_change_table(rows),
            note=self._note,
            shares=[[name, f"{share.numerator}/{share.denominator}"] for name, share in shares.items()] if shares else None,
            seed=seed if shares else None,
            left_out=self._left_out,
            change_counts=_change_counts(rows, there),
        )

    def result(self, snapshot: Snapshot, is_new: bool, ingested: Ingested, skipped: int) -> PackResult:
        return PackResult(
            snapshot=snapshot,
            is_new=is_new,
            left_out=self._left_out,
            skipped=skipped,
            new_pictures=ingested.new_pictures,
            new_bytes=ingested.new_bytes,
            **self._outcome,
        )

    def _dealing(self, parent: Snapshot | None) -> tuple[Shares | None, int]:
        """The shares and seed to deal by: given ones, else those recorded before."""
        before = parent.document if parent else {}
        shares = self._shares
        if shares is None and before.get("shares"):
            shares = read_shares(dict(before["shares"]))
        seed = self._seed if self._seed is not None else before.get("seed")
        return shares, seed or 0

    def _refuse_both_sides_changed(self, there: Mapping[str, dict[str, Any]]) -> None:
        first = _records_of(self._store.snapshot(self._seen), self._wishes) if self._seen else {}
        for key, record in there.items():
            ours = self._wishes[key].stored.sha256
            theirs_before = first[key]["sha256"] if key in first else None
            if record["sha256"] != ours and record["sha256"] != theirs_before:
                raise ConflictError(
                    f"record {key!r} was given other bytes by somebody else while this was packing; their snapshot stands "
                    "and these pictures are stored: run the same command again to have yours on top"
                )

    def _merged(self, there: Mapping[str, dict[str, Any]]) -> tuple[dict[str, dict[str, Any]], dict[str, Any]]:
        """The rows that are new or changed, by key, and how many of each kind there were."""
        rows: dict[str, dict[str, Any]] = {}
        counts: dict[str, Any] = {"added": 0, "changed": 0, "unchanged": 0, "relabelled": 0, "differing": []}
        for key, wish in self._wishes.items():
            old = there.get(key)
            if old is None:
                rows[key] = _row(key, wish, wish.label, wish.split)
                counts["added"] += 1
                continue
            differs = wish.label != old["label"] or (wish.split is not None and wish.split != old["split"])
            label, split = old["label"], old["split"] if old["split"] is not None else wish.split
            if differs and self._relabel:
                label, split = wish.label, wish.split if wish.split is not None else old["split"]
                counts["relabelled"] += 1
            elif wish.label != old["label"] or (wish.split is not None and wish.split != split):
                counts["differing"].append(key)
            is_new_picture = wish.stored.sha256 != old["sha256"]
            if is_new_picture or label != old["label"] or split != old["split"]:
                rows[key] = old | _row(key, wish, label, split)
                counts["changed"] += is_new_picture
            if not is_new_picture:
                counts["unchanged"] += 1
        return rows, counts


def _records_of(snapshot: Snapshot | None, keys: Mapping[str, Any]) -> dict[str, dict[str, Any]]:
    """The rows that a snapshot has under those keys."""
    if snapshot is None or not len(snapshot):
        return {}
    manifest = snapshot.manifest
    wanted = np.array([text_hash(key) for key in keys], np.uint64)
    rows = np.flatnonzero(np.isin(manifest.hashes, wanted))
    return {row["key"]: row for row in manifest.take(rows).to_pylist() if row["key"] in keys}


def _row(key: str, wish: Wish, label: str | None, split: str | None) -> dict[str, Any]:
    facts = wish.stored.facts
    return {
        "hash": text_hash(key),
        "key": key,
        "label": label,
        "split": split,
        "sha256": wish.stored.sha256,
        "crc32": wish.stored.crc32,
        "byte_count": wish.stored.byte_count,
        "width": facts.width,
        "height": facts.height,
        "format": facts.format,
        "mode": facts.mode,
        "turn": facts.turn,
        "progressive": facts.progressive,
    }


def _doubles_elsewhere(rows: Mapping[str, dict[str, Any]], parent: Snapshot | None) -> dict[bytes, tuple[str, str]]:
    """The (key, split) of records in the parent, not among `rows`, that have one of their pictures."""
    if parent is None or not len(parent):
        return {}
    found = parent.manifest.take(parent.manifest.find_pictures(row["sha256"] for row in rows.values()))
    records = zip(*(found.column(name).to_pylist() for name in ("sha256", "key", "split")), strict=True)
    return {sha256: (key, split) for sha256, key, split in records if split is not None and key not in rows}


def _follow_doubles(
    rows: Mapping[str, dict[str, Any]],
    there: Mapping[str, dict[str, Any]],
    elsewhere: Mapping[bytes, tuple[str, str]],
) -> None:
    """A record whose new picture is already in another split is dealt there: keeping its split would leak."""
    splits = {sha256: split for sha256, (_, split) in elsewhere.items()}
    for key in sorted(rows, key=str.encode):
        row, old = rows[key], there.get(key)
        is_elsewhere = row["split"] is not None and splits.setdefault(row["sha256"], row["split"]) != row["split"]
        if is_elsewhere and old is not None and old["sha256"] != row["sha256"]:
            row["split"] = None


def _refuse_double_in_two_splits(rows: Mapping[str, dict[str, Any]], elsewhere: Mapping[bytes, tuple[str, str]]) -> None:
    """One picture in two splits, both given from outside, would leak."""
    first = dict(elsewhere)
    given = [(row["sha256"], key, row["split"]) for key, row in rows.items() if row["split"] is not None]
    for sha256, key, split in sorted(given, key=lambda item: item[1].encode()):
        other, there = first.setdefault(sha256, (key, split))
        if there != split:
            raise SourceError(
                f"one picture is in two splits: {other!r} in {there} and {key!r} in {split}; remove one of them, or deal "
                "anew with --resplit --shares"
            )


def _deal_missing(
    rows: dict[str, dict[str, Any]],
    parent: Snapshot | None,
    elsewhere: Mapping[bytes, tuple[str, str]],
    shares: Shares,
    seed: int,
) -> dict[str | None, int]:
    """Gives a split to the rows that have none; records that are there and have none are dealt too, and become rows."""
    if parent is not None:
        codes, _ = parent.manifest.codes("split")
        without = parent.manifest.take(np.flatnonzero(codes < 0)).to_pylist()
        rows.update({old["key"]: old for old in without if old["key"] not in rows})
    there = Counter(parent.counts) if parent is not None else Counter()
    there.subtract((old["label"], old["split"]) for old in _records_of(parent, rows).values())
    keys = sorted(rows, key=str.encode)
    if all(rows[key]["split"] is not None for key in keys):
        return {}  # nothing to deal, so nothing that dealing could have missed
    dealt = deal(
        [rows[key]["label"] for key in keys],
        [rows[key]["sha256"] for key in keys],
        [rows[key]["split"] for key in keys],
        shares,
        seed,
        there=there,
        fixed={sha256: split for sha256, (_, split) in elsewhere.items()},
    )
    for key, split in zip(keys, dealt.splits, strict=True):
        rows[key]["split"] = split
    return dealt.deviation


def _change_table(rows: Mapping[str, dict[str, Any]]) -> Any:
    ordered = sorted(rows.values(), key=lambda row: (row["hash"], row["key"].encode()))
    side = sorted({name for row in ordered for name in row} - set(COLUMNS))
    arrays = [pa.array([row[field.name] for row in ordered], field.type) for field in SCHEMA]
    arrays += [pa.array([row.get(name) for row in ordered]) for name in side]
    arrays.append(pa.array([False] * len(ordered), REMOVED.type))
    fields = [*SCHEMA, *(pa.field(name, arrays[len(SCHEMA) + i].type) for i, name in enumerate(side)), REMOVED]
    return pa.table(arrays, schema=pa.schema(fields))


def _change_counts(rows: Mapping[str, dict[str, Any]], there: Mapping[str, dict[str, Any]]) -> list[list[Any]]:
    """What changed by kind, class and split: [kind, label, split, records]."""
    counts: Counter[tuple[str, str | None, str | None]] = Counter()
    for key, row in rows.items():
        old = there.get(key)
        if old is None:
            kind = "added"
        elif old["sha256"] != row["sha256"]:
            kind = "changed"
        else:
            kind = "relabelled" if old["label"] != row["label"] else "moved"
        counts[kind, row["label"], row["split"]] += 1
    return [[*list(key), counts[key]] for key in sorted(counts, key=lambda key: tuple(str(part or "") for part in key))]


def bring_in(source: str | Path, path: str | Path, **options: Any) -> PackResult:
    """`pack` into the store at a path, made where nothing or an empty folder is; a failed first pack leaves none."""
    from pannier.store.store import FORMAT_FILE, open_or_create

    folder = Path(path)
    was_there = folder.exists()
    was_store = (folder / FORMAT_FILE).exists()
    found = FolderSource(source, keep_splits=not options.get("resplit", False))
    store = open_or_create(path)
    try:
        return pack(store, found, **options)
    except BaseException:
        if not was_store and sorted(os.listdir(folder)) == [FORMAT_FILE]:
            (folder / FORMAT_FILE).unlink()
            if not was_there:
                folder.rmdir()
        raise
