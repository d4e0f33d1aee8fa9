"""Packing: a source becomes a snapshot. What came in, what was there, what was left out and why, is all said."""

from __future__ import annotations

import contextlib
import os
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING, Any, Literal

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from pannier.columns import Rows, order_by_hash
from pannier.errors import SourceError, UsageError
from pannier.hashing import Hashes, text_hash
from pannier.images.facts import MAX_PIXELS
from pannier.images.recode import read_recoding
from pannier.machine import usable_cores
from pannier.shares import Dealing, SaidDealing, read_dealing
from pannier.sources.checking import Checker, Progress
from pannier.sources.opening import READING_OPTIONS, as_source
from pannier.sources.rows import Chosen, LeftOut, Source
from pannier.sources.rules import Rules, read_rules
from pannier.sources.selection import Selection, examples, select
from pannier.sources.several import choose
from pannier.store.facts import Fact, read_facts
from pannier.store.leases import FOLDER as LEASES
from pannier.store.leases import writes
from pannier.store.manifest import COLUMNS, FACTS, SCHEMA, Manifest
from pannier.store.names import FIRST_TRACK, checked_name
from pannier.store.shards import DEFAULT_SHARD_BYTES
from pannier.store.writing.commit import Proposal, commit
from pannier.store.writing.grouping import settle
from pannier.store.writing.ingest import ingest
from pannier.store.writing.merging import Counts, merge, refuse_both_sides_changed, rows_gone
from pannier.store.writing.seen import Seen

if TYPE_CHECKING:
    from pannier.store.snapshot import Snapshot
    from pannier.store.store import Store


@dataclass(kw_only=True)
class PackResult(Counts):
    """What packing did. `snapshot` is the track's newest; `is_new` says whether packing made it.

    `funnel` tells how many of all `rows` of the source each condition left.
    """

    snapshot: Snapshot
    is_new: bool
    left_out: list[LeftOut] = field(default_factory=list)
    funnel: list[tuple[str, int]] = field(default_factory=list)
    rows: int = 0
    skipped: int = 0
    new_pictures: int = 0
    new_bytes: int = 0


@writes
def pack(
    store: Store,
    source: Any,
    *,
    shares: str | Mapping[str, float | str] | None = None,
    seed: int | None = None,
    count: str | Mapping[str, int] | None = None,
    carve: str | Mapping[str, float | str] | None = None,
    of: str | None = None,
    folds: int | None = None,
    group_by: str | None = None,
    near: int | None = None,
    freeze: str | Sequence[str] = (),
    allow_leaks: bool = False,
    note: str = "",
    name: str | None = None,
    description: str | None = None,
    facts: Mapping[str, Fact] | str | Sequence[str] | None = None,
    unlabeled: Literal["leave", "keep"] = "leave",
    classes: str | Sequence[str] = (),
    class_names: str | Path | Mapping[str, str] | None = None,
    only_classes: str | Sequence[str] = (),
    per_class: int | None = None,
    longest_side: int | None = None,
    encode: str | None = None,
    into: str = "",
    mirror: bool = False,
    resplit: bool = False,
    relabel: bool = False,
    allow_missing_classes: bool = False,
    strict: bool = False,
    thorough: bool = False,
    track: str = FIRST_TRACK,
    shard_bytes: int = DEFAULT_SHARD_BYTES,
    shards: int | None = None,
    max_pixels: int = MAX_PIXELS,
    workers: int | None = None,
    progress: Progress | None = None,
    **rules: Any,
) -> PackResult:
    """Brings a source in as the next snapshot of a track.

    source: a path of a folder, archive, table, arrays or TOML file that names several; a list of paths; a data frame, Arrow
    table or dicts, one a row; a dict of arrays. rules: label, where, label_pattern, key, split_by, keep and rename, SQL over
    the source's columns, see `pannier.sources.rules.Rules`; picture, root, encoding and separator for tables, include and
    exclude for folders and archives.

    shares: deals records to splits, e.g. {"train": 75, "val": 15, "test": 10}; count, carve and of, folds, group_by, near
    (bits), freeze and allow_leaks: see `pannier.shares.Dealing`. All of it, and `seed`, is kept for later packs.
    classes: the classes in order of their numbers. class_names: names for numeric labels, a table's path or a dict.
    unlabeled, only_classes, per_class: see `pannier.sources.selection.Selection`.
    longest_side (pixels), encode ("jpeg:90", "png", "webp:80"): pictures are recoded before they are stored.
    name, description: of the dataset, kept along the track. facts: of this snapshot, e.g. {"camera": "B"}.
    into: a prefix for all keys. mirror: records below it that the source does not have are removed.
    resplit: deal although the source has splits. relabel: the source's labels win.
    strict: refuse instead of leaving out; nothing is written then. thorough: read again what has not changed since.
    shard_bytes or shards: how large, or how many. progress: called with (pictures done, pictures in all).

    Holds at most a few blocks and pictures in memory. Raises SourceError, UsageError, ConflictError, StoreError.
    """
    checked_name(track)
    said = read_dealing(
        shares=shares,
        seed=seed,
        count=count,
        carve=carve,
        of=of,
        folds=folds,
        freeze=freeze,
        near=near,
        group_by=group_by,
        allow_leaks=allow_leaks,
    )
    if shards is not None and shards < 1:
        raise UsageError(f"shards = {shards}: must be 1 or more")
    recoding = read_recoding(longest_side, encode)
    head = store.tracks.head(track)
    before = store.snapshot(head.snapshot) if head else None
    dealing = said.upon(before.dealing if before is not None else Dealing())
    seen = Seen(store.directory, f"{recoding.text if recoding else ''} {max_pixels}", forget=thorough)
    reading = {option: rules.pop(option, None) for option in READING_OPTIONS}
    source = as_source(source, keep_splits=not resplit, is_known=seen.is_known, **reading)
    laid_out = getattr(source, "laid_out", None)
    if mirror and laid_out is not None and laid_out.where:
        raise UsageError(
            f"{source.name} holds a part of a snapshot alone (exported --where {laid_out.where}): with --mirror all other "
            "records would be removed; leave --mirror out, or export the whole of it"
        )
    if source.fixed_splits and (said.shares is not None and carve is None):
        raise UsageError(
            "the source has split folders already; say --resplit to deal its pictures anew by the shares, or carve a split "
            "out of one of them with --carve val=15% --of train"
        )
    read = read_rules(**rules, class_names=class_names, group_by=dealing.group_by)
    selection = Selection(
        unlabeled, names_in(only_classes), per_class, dealing.seed, allow_missing_classes, names_in(classes)
    )
    chosen, passed = select(source, read, _chosen(source, read, group_by), selection)
    taken = set(chosen.side.column_names if chosen.side else ()) & set(COLUMNS)
    if taken:
        raise UsageError(f"--keep {min(taken)}: every record has that already; give the side column another name")
    prefix = into.strip("/") + "/" if into else ""
    chosen, hashes = _in_order_of_hashes(chosen, prefix)
    workers = workers or usable_cores()
    if strict:
        with Checker(source, workers, max_pixels) as checker:
            _refuse_any([each for each in checker.check_all(chosen.rows(source)) if isinstance(each, LeftOut)], passed)
    if shards:
        shard_bytes = max(1, -(-int(source.byte_counts(chosen.numbers).sum()) // shards))
    ingested = ingest(
        store.directory,
        store.index,
        source,
        chosen,
        workers=workers,
        max_pixels=max_pixels,
        shard_bytes=shard_bytes,
        recoding=recoding,
        seen=seen,
        progress=progress,
    )
    incoming = _incoming(ingested.pictures.table(), chosen, hashes, prefix)
    if not len(incoming):
        raise SourceError(f"none of the {len(chosen)} pictures in {source.name} can be used: {examples(ingested.left_out)}")
    packing = _Packing(
        store,
        incoming,
        passed + [LeftOut(prefix + item.key, item.kind, item.reason) for item in ingested.left_out],
        said,
        relabel=relabel,
        seen=before,
        source_keys=_below(prefix, chosen.keys) if mirror else None,
        prefix=prefix,
        about={
            "note": note,
            "name": name,
            "description": description,
            "classes": names_in(classes),
            "facts": read_facts(facts),
        },
    )
    snapshot, is_new = commit(store, track, packing.propose)
    assert snapshot is not None
    return PackResult(
        **vars(packing.counts),
        snapshot=snapshot,
        is_new=is_new,
        left_out=packing.left_out,
        funnel=chosen.funnel,
        rows=len(source.table()) if chosen.funnel else len(chosen),
        skipped=sum(item.kind == "skipped" for item in source.passed),
        new_pictures=ingested.new_pictures,
        new_bytes=ingested.new_bytes,
    )


def _chosen(source: Source, rules: Rules, said_group: str | None) -> Chosen:
    """The rows that rules leave; says so where groups are kept by a rule of earlier packs that this source cannot follow."""
    try:
        return choose(source, rules)
    except UsageError as error:
        if rules.group_by and not said_group and str(error).startswith("--group-by"):
            what = f"groups are kept since an earlier pack, and {error}; give this source a --group-by of its own"
            raise UsageError(what) from None
        raise


def names_in(names: str | Sequence[str]) -> tuple[str, ...]:
    """Names parted by commas, or in a list."""
    return tuple(name.strip() for name in (names.split(",") if isinstance(names, str) else names) if name.strip())


def _in_order_of_hashes(chosen: Chosen, prefix: str) -> tuple[Chosen, Hashes]:
    """The rows in order of the hashes of their keys to be, equal ones by key, and those hashes."""
    hashes = np.fromiter((text_hash(prefix + key) for key in chosen.key_texts()), np.uint64, len(chosen))
    order = order_by_hash(hashes, chosen.keys)
    return chosen.take(order), hashes[order]


def _incoming(pictures: Any, chosen: Chosen, hashes: Hashes, prefix: str) -> Any:
    """The pictures that are in the store now, as manifest rows, with labels and splits as the source has them."""
    numbers = pictures.column("number").to_numpy()
    keys = chosen.keys.take(numbers)
    columns: dict[str, Any] = {
        "hash": hashes[numbers],
        "key": _below(prefix, keys),
        "label": chosen.labels.take(numbers).to_arrow(),
        "split": chosen.splits.take(numbers).to_arrow(),
    }
    columns |= {name: pictures.column(name) for name in FACTS}
    table = pa.table([columns[name] for name in SCHEMA.names], schema=SCHEMA)
    for name, values in _side_columns(chosen, numbers).items():
        table = table.append_column(name, values)
    return table


def _below(prefix: str, keys: Any) -> Any:
    return pc.binary_join_element_wise(pa.scalar(prefix, keys.type), keys, pa.scalar("", keys.type))


def _side_columns(chosen: Chosen, numbers: Rows) -> dict[str, Any]:
    if chosen.side is None:
        return {}
    return {name: chosen.side.column(name).take(pa.array(numbers)) for name in chosen.side.column_names}


def _refuse_any(unusable: list[LeftOut], passed: list[LeftOut]) -> None:
    broken = [item for item in [*passed, *unusable] if item.kind != "no label"]
    if broken:
        count = f"{len(broken)} picture{'s' if len(broken) > 1 else ''}"
        raise SourceError(f"--strict: {count} cannot be used and nothing was written: {examples(broken)}")


class _Packing:
    """One pack's records, laid on top of whatever the track's head is when it is their turn."""

    def __init__(
        self,
        store: Store,
        incoming: Any,
        left_out: list[LeftOut],
        said: SaidDealing,
        *,
        relabel: bool,
        seen: Snapshot | None,
        source_keys: Any | None,
        prefix: str,
        about: dict[str, Any],
    ) -> None:
        self._store, self._incoming, self._left_out_before = store, incoming, left_out
        self._said, self._relabel, self._seen = said, relabel, seen
        self._source_keys, self._prefix, self._about = source_keys, prefix, about
        self.left_out = left_out
        self.counts = Counts()

    def propose(self, parent: Snapshot | None) -> Proposal | None:
        manifest = parent.manifest if parent is not None else Manifest.empty()
        if parent is not None and (self._seen is None or parent.id != self._seen.id):
            seen = self._seen.manifest if self._seen is not None else Manifest.empty()
            refuse_both_sides_changed(self._incoming, manifest, seen)
        before = parent.dealing if parent is not None else Dealing()
        dealing = self._said.upon(before)
        revision, self.counts = merge(self._incoming, manifest, relabel=self._relabel)
        if self._source_keys is not None:
            revision.gone = rows_gone(manifest, self._source_keys, self._prefix)
        if not revision.is_empty or self._said.deals:
            counts = {} if parent is None else parent.counts
            acting = dealing.acting(before, () if parent is None else parent.splits)
            revision, self.counts.deviation = settle(revision, counts, acting, self._store.perceptual_hashes)
        self.counts.removed = len(revision.gone)
        self.counts.added = int((~revision.is_there).sum())
        self.left_out = self._left_out_before + revision.left_out
        if revision.is_empty and not self._says_something(parent, dealing):
            return None
        return Proposal(
            changes=revision.changes(),
            dealing=dealing,
            left_out=self.left_out,
            change_counts=revision.change_counts(),
            **self._about,
        )

    def _says_something(self, parent: Snapshot | None, dealing: Dealing) -> bool:
        """Whether there is something to keep though no record changes: a split was frozen, the dataset named."""
        if parent is None:
            return False
        renamed = any(self._about[field] not in (None, getattr(parent, field)) for field in ("name", "description"))
        return renamed or dealing.frozen != parent.dealing.frozen


def bring_in(source: Any, path: str | Path, **options: Any) -> PackResult:
    """`pack` into the store at a path, made where nothing or an empty folder is; a failed first pack leaves none."""
    from pannier.store.store import FORMAT_FILE, open_or_create

    folder = Path(path)
    was_there = folder.exists()
    was_store = (folder / FORMAT_FILE).exists()
    store = open_or_create(path)
    try:
        return pack(store, source, **options)
    except BaseException:
        if not was_store and {*os.listdir(folder)} <= {FORMAT_FILE, LEASES} and not any((folder / LEASES).glob("*")):
            (folder / FORMAT_FILE).unlink()
            with contextlib.suppress(OSError):
                (folder / LEASES).rmdir()
            if not was_there:
                folder.rmdir()
        raise
