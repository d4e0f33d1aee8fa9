"""Packing: a source becomes a snapshot. What came in, what was there, what was left out and why, is all said."""

from __future__ import annotations

import os
from collections.abc import Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING, Any, Literal

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from pannier.columns import Rows, order_by_hash
from pannier.errors import SourceError, UsageError
from pannier.hashing import Hashes, checked_seed, text_hash
from pannier.images.facts import MAX_PIXELS
from pannier.machine import usable_cores
from pannier.sources.checking import Checker, Progress
from pannier.sources.opening import READING_OPTIONS, as_source
from pannier.sources.rows import Chosen, LeftOut, Source, check_same_classes, classes_by_split
from pannier.sources.rules import Rules, read_rules, rows_without_label
from pannier.sources.several import choose
from pannier.splits import Shares, read_shares
from pannier.store.commit import Proposal, commit
from pannier.store.ingest import ingest
from pannier.store.manifest import COLUMNS, FACTS, SCHEMA, Manifest
from pannier.store.merging import Counts, merge, refuse_both_sides_changed
from pannier.store.names import FIRST_TRACK, checked_name
from pannier.store.shards import DEFAULT_SHARD_BYTES

if TYPE_CHECKING:
    from pannier.store.snapshot import Snapshot
    from pannier.store.store import Store


# what a source passed over that is listed with what was left out; the rest is no picture, or only to know
PASSED_OVER = ("unreadable", "link", "malformed", "no picture")


@dataclass(kw_only=True)
class PackResult(Counts):
    """What packing did. `snapshot` is the track's newest; `is_new` says whether packing made it."""

    snapshot: Snapshot
    is_new: bool
    left_out: list[LeftOut] = field(default_factory=list)
    skipped: int = 0
    new_pictures: int = 0
    new_bytes: int = 0


def pack(
    store: Store,
    source: Any,
    *,
    shares: str | Mapping[str, float | str] | None = None,
    seed: int | None = None,
    note: str = "",
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
    **rules: Any,
) -> PackResult:
    """Brings a source in as the next snapshot of a track.

    shares: deals records to splits, e.g. {"train": 75, "val": 15, "test": 10}; kept for later packs, as is `seed`.
    rules: label, where, label_pattern, key, split_by, keep and rename: SQL expressions over the source's columns, see
    `pannier.sources.rules.Rules`; for a table also picture, root, encoding and separator, see `pannier.sources.tables`.
    `unlabeled` keeps or leaves out what gets no label.
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
    source = as_source(source, keep_splits=not resplit, **{name: rules.pop(name, None) for name in READING_OPTIONS})
    if source.fixed_splits and dealt is not None:
        raise UsageError("the source has split folders already; say --resplit to deal its pictures anew by the shares")
    said = read_rules(**rules)
    chosen, passed = rows_to_pack(source, said, choose(source, said), unlabeled, allow_missing_classes)
    taken = set(chosen.side.column_names if chosen.side else ()) & set(COLUMNS)
    if taken:
        raise UsageError(f"--keep {min(taken)}: every record has that already; give the side column another name")
    prefix = into.strip("/") + "/" if into else ""
    chosen, hashes = _in_order_of_hashes(chosen, prefix)
    workers = workers or usable_cores()
    if strict:
        with Checker(source, workers, max_pixels) as checker:
            _refuse_any([each for each in checker.check_all(chosen) if isinstance(each, LeftOut)], passed)
    if shards:
        shard_bytes = max(1, -(-int(chosen.byte_counts.sum()) // shards))
    head = store.tracks.head(track)
    ingested = ingest(
        store.directory,
        store.index,
        source,
        chosen,
        workers=workers,
        max_pixels=max_pixels,
        shard_bytes=shard_bytes,
        progress=progress,
    )
    incoming = _incoming(ingested.pictures.table(), chosen, hashes, prefix)
    if not len(incoming):
        raise SourceError(f"none of the {len(chosen)} pictures in {source.name} can be used: {_examples(ingested.left_out)}")
    left_out = passed + [LeftOut(prefix + item.key, item.kind, item.reason) for item in ingested.left_out]
    packing = _Packing(store, incoming, left_out, dealt, seed, note, relabel, head.snapshot if head else None)
    snapshot, is_new = commit(store, track, packing.propose)
    assert snapshot is not None
    return PackResult(
        **vars(packing.counts),
        snapshot=snapshot,
        is_new=is_new,
        left_out=left_out,
        skipped=sum(item.kind == "skipped" for item in source.passed),
        new_pictures=ingested.new_pictures,
        new_bytes=ingested.new_bytes,
    )


def rows_to_pack(
    source: Source, rules: Rules, rows: Chosen, unlabeled: str, allow_missing_classes: bool
) -> tuple[Chosen, list[LeftOut]]:
    """The rows to bring in, and those left out for want of a label or because they cannot be read."""
    if not len(rows):
        if rows.funnel:
            raise SourceError(f"no picture of {source.name} is left by --where {rows.funnel[-1][0]}")
        raise SourceError(f"no picture found in {source.name}: it holds nothing that is a picture by its content")
    if unlabeled == "leave" and rules.are_by_folder and getattr(source, "is_flat", False):
        raise SourceError(
            f"all pictures lie in {source.name} itself, so no folder gives their label: say where it is with "
            "--label-pattern or --label, sort them into class folders, or bring them in without labels by --unlabeled keep"
        )
    left_out = [item for item in source.passed if item.kind in PASSED_OVER] + rows.left_out
    chosen = rows
    if unlabeled == "leave":
        unlabelled = rows_without_label(rows)
        chosen = rows.take(np.setdiff1d(np.arange(len(rows)), unlabelled))
        without = rows.keys.take(unlabelled).to_pylist()
        reason = "it lies in no class folder" if rules.are_by_folder else "the rule for labels gives it none"
        left_out += [LeftOut(key, "no label", reason) for key in without]
        if not len(chosen):
            raise SourceError(f"no picture of {source.name} gets a label: {_examples(left_out)}")
    if (source.fixed_splits or rules.split_by) and not allow_missing_classes:
        classes = classes_by_split(chosen)
        if len(classes) > 1:
            check_same_classes(classes)
    return chosen, left_out


def _in_order_of_hashes(chosen: Chosen, prefix: str) -> tuple[Chosen, Hashes]:
    """The rows in order of the hashes of their keys to be, equal ones by key, and those hashes."""
    hashes = np.fromiter((text_hash(prefix + row.key) for row in chosen), np.uint64, len(chosen))
    order = order_by_hash(hashes, chosen.keys)
    return chosen.take(order), hashes[order]


def _incoming(pictures: Any, chosen: Chosen, hashes: Hashes, prefix: str) -> Any:
    """The pictures that are in the store now, as manifest rows, with labels and splits as the source has them."""
    numbers = pictures.column("number").to_numpy()
    keys = chosen.keys.take(numbers)
    columns: dict[str, Any] = {
        "hash": hashes[numbers],
        "key": pc.binary_join_element_wise(pa.scalar(prefix, keys.type), keys, pa.scalar("", keys.type)),
        "label": chosen.labels.take(numbers).to_arrow(),
        "split": chosen.splits.take(numbers).to_arrow(),
    }
    columns |= {name: pictures.column(name) for name in FACTS}
    table = pa.table([columns[name] for name in SCHEMA.names], schema=SCHEMA)
    for name, values in _side_columns(chosen, numbers).items():
        table = table.append_column(name, values)
    return table


def _side_columns(chosen: Chosen, numbers: Rows) -> dict[str, Any]:
    if chosen.side is None:
        return {}
    return {name: chosen.side.column(name).take(pa.array(numbers)) for name in chosen.side.column_names}


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
        incoming: Any,
        left_out: list[LeftOut],
        shares: Shares | None,
        seed: int | None,
        note: str,
        relabel: bool,
        seen: str | None,
    ) -> None:
        self._store, self._incoming, self._left_out = store, incoming, left_out
        self._shares, self._seed, self._note, self._relabel = shares, seed, note, relabel
        self._seen = seen
        self.counts = Counts()

    def propose(self, parent: Snapshot | None) -> Proposal | None:
        if parent is not None and parent.id != self._seen:
            seen = self._store.snapshot(self._seen).manifest if self._seen else Manifest.empty()
            refuse_both_sides_changed(self._incoming, parent.manifest, seen)
        shares, seed = self._dealing(parent)
        merged = merge(self._incoming, parent, relabel=self._relabel, shares=shares, seed=seed)
        self.counts = merged.counts
        if merged.changes is None:
            return None
        return Proposal(
            changes=merged.changes,
            note=self._note,
            shares=[[name, f"{share.numerator}/{share.denominator}"] for name, share in shares.items()] if shares else None,
            seed=seed if shares else None,
            left_out=self._left_out,
            change_counts=merged.change_counts,
        )

    def _dealing(self, parent: Snapshot | None) -> tuple[Shares | None, int]:
        """The shares and seed to deal by: given ones, else those recorded before."""
        before = parent.document if parent else {}
        shares = self._shares
        if shares is None and before.get("shares"):
            shares = read_shares(dict(before["shares"]))
        seed = self._seed if self._seed is not None else before.get("seed")
        return shares, seed or 0


def bring_in(source: Any, path: str | Path, **options: Any) -> PackResult:
    """`pack` into the store at a path, made where nothing or an empty folder is; a failed first pack leaves none."""
    from pannier.store.store import FORMAT_FILE, open_or_create

    folder = Path(path)
    was_there = folder.exists()
    was_store = (folder / FORMAT_FILE).exists()
    said = {name: options.pop(name, None) for name in READING_OPTIONS}
    found = as_source(source, keep_splits=not options.get("resplit", False), **said)
    store = open_or_create(path)
    try:
        return pack(store, found, **options)
    except BaseException:
        if not was_store and sorted(os.listdir(folder)) == [FORMAT_FILE]:
            (folder / FORMAT_FILE).unlink()
            if not was_there:
                folder.rmdir()
        raise
