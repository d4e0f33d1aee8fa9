"""Packing: a source becomes a snapshot. What came in, what was there, what was left out and why, is all said."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Mapping, Sequence
from concurrent.futures import Executor
from dataclasses import dataclass, field, fields, replace
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa

from pannier.choices import Doubtful, Progress, Relabel, Unlabeled, checked_choice
from pannier.columns import Rows, keys_below, order_by_hash
from pannier.dealing.shares import Dealing, DealingOptions
from pannier.errors import SourceError, UsageError
from pannier.hashing import Hashes, text_hash
from pannier.images.facts import MAX_PIXELS
from pannier.images.near import USUAL_DISTANCE
from pannier.images.recode import read_recoding
from pannier.machine import usable_cores
from pannier.packing.commit import Proposal, commit
from pannier.packing.doubts import doubts_in, without_doubtful
from pannier.packing.grouping import settle
from pannier.packing.ingest import Ingested, Keeper, ingest
from pannier.packing.merging import Counts, merge, refuse_both_sides_changed, rows_gone
from pannier.packing.pieces import ingest_by
from pannier.packing.recipe import dealt_otherwise, followed, named, of_source, recipe_of, with_recipe
from pannier.packing.seen import Seen
from pannier.packing.snapshot_source import SnapshotSource, snapshot_source
from pannier.results import Result, plain
from pannier.sources.checking import Checker, Checking
from pannier.sources.opening import ReadingOptions, as_source
from pannier.sources.rows import Chosen, LeftOut, Source
from pannier.sources.rules import RuleOptions, rows_without_label
from pannier.sources.selection import Selection, examples, select
from pannier.sources.several import choose
from pannier.storage.layout import FORMAT_FILE, LEASES
from pannier.storage.memory import MemoryStorage
from pannier.storage.opening import open_storage
from pannier.storage.protocol import Far
from pannier.store.facts import Fact, read_facts
from pannier.store.leases import WRITER, holding
from pannier.store.manifest import Manifest
from pannier.store.manifest_files import COLUMNS, FACTS, SCHEMA, SOURCE_SAID
from pannier.store.miniatures import KeptMiniatures
from pannier.store.names import FIRST_STRAND, checked_name
from pannier.store.shards import DEFAULT_SHARD_BYTES
from pannier.store.snapshots import count_document
from pannier.store.state import OpenedStore, State, create_store, is_empty, open_store
from pannier.units import read_bytes
from pannier.versions.differing import Difference, differences
from pannier.versions.doubles import Double, near_pairs

FIRST_ROWS = 20
# of a dataset of up to so many pictures, new near-duplicates in two splits are looked for unasked
MOST_COMPARED = 10_000


@dataclass(frozen=True, kw_only=True)
class TakingOptions(DealingOptions, RuleOptions, ReadingOptions):
    """What is said of a source that is taken in.

    Of the source: picture, root, encoding, separator, null (cells that mean nothing, "NULL,n/a") and shape (of pixel values,
    "48x48") for tables, labels (a table beside the pictures), include, exclude and hidden for folders and archives. Rules,
    SQL over the source's columns: label, where, label_pattern, key, split_by, columns and rename, see `Rules`; class_names:
    names for numeric labels, a table's path or a dict. unlabeled, only_classes, per_class: see `Selection`.

    shares: deals records to splits, e.g. {"train": 75, "val": 15, "test": 10}; counts, carve and of, folds, group_by, near
    (0 to 12), freeze and allow_leaks: see `Dealing`. All of it, and `seed`, is kept for later packs.
    classes: the classes in order of their numbers.
    resplit: deal although the source has splits.
    doubtful: "leave-out" or "keep": what becomes of rows that harm training, as one picture under two labels.
    strict: refuse instead of leaving out; nothing is written then.
    memory_limit: bytes, "256MiB", "auto" (half of what is free) or None (unlimited): bounds what reading and checking take;
    a picture that needs more is left out. progress: called with (pictures done, pictures in all).
    """

    unlabeled: Unlabeled = "leave"
    classes: str | Sequence[str] = ()
    only_classes: str | Sequence[str] = ()
    per_class: int | None = None
    resplit: bool = False
    doubtful: Doubtful | None = None
    allow_missing_classes: bool = False
    strict: bool = False
    max_pixels: int = MAX_PIXELS
    workers: int | None = None
    progress: Progress | None = field(default=None, compare=False)


@dataclass(frozen=True, kw_only=True)
class PackOptions(TakingOptions):
    """What is said of a pack: of its source as `TakingOptions` tells, and of the snapshot.

    longest_side (pixels), encode ("jpeg:90", "png", "webp:80"): pictures are recoded before they are stored.
    name, description: of the dataset, kept along the strand. facts: of this snapshot, e.g. {"camera": "B"}.
    prefix: of all keys. remove_missing: records below it that the source does not have are removed.
    relabel: "source" or "store": whose word goes where a source and a correction have both changed a record.
    executor: of `concurrent.futures`, or a cluster's own, whose workers read, check and store; they reach the store and the
    source's files by the same paths as this process. `workers` are threads of each then, by default one.
    What is not said of a source that was packed before is as it was said then; forget: it is not.
    reread: read again what has not changed since. shard_size: bytes, or "256MiB". preview: all of it but writing.
    """

    note: str = ""
    name: str | None = None
    description: str | None = None
    facts: Mapping[str, Fact] | str | Sequence[str] | None = None
    longest_side: int | None = None
    encode: str | None = None
    prefix: str = ""
    remove_missing: bool = False
    relabel: Relabel | None = None
    forget: bool = False
    reread: bool = False
    strand: str = FIRST_STRAND
    shard_size: str | int = DEFAULT_SHARD_BYTES
    preview: bool = False
    executor: Executor | None = field(default=None, compare=False)

    @property
    def above(self) -> str:
        """What all keys begin with."""
        parts = self.prefix.strip("/").split("/")
        if self.prefix and not {"", ".", ".."}.isdisjoint(parts):
            raise UsageError(f"`prefix` {self.prefix}: write names of folders, for example season/b", argument="prefix")
        return "/".join(parts) + "/" if self.prefix else ""

    def selection(self, seed: int) -> Selection:
        wanted = (self.unlabeled, names_in(self.only_classes), self.per_class, seed)
        return Selection(*wanted, self.allow_missing_classes, names_in(self.classes))

    def about(self) -> dict[str, Any]:
        """What the snapshot's document takes as it is."""
        texts = {"note": self.note, "name": self.name, "description": self.description}
        return {**texts, "classes": names_in(self.classes), "facts": read_facts(self.facts)}


@dataclass(kw_only=True, eq=False, repr=False)
class PackResult(Result, Counts):
    """What packing did, or with `preview` would do. `state` is the strand's newest; `is_new` says whether packing made it.

    `funnel` tells how many of all `rows` of the source each condition left, `origins` by class what its labels were before
    renaming. `notes`: how tables were read. `recipe` is what was followed of an earlier pack of this source, `otherwise`
    what was said otherwise now: (option, before, now). `straddling`: near-duplicates of new pictures that lie in two splits;
    `is_compared` says whether those were looked for, as in datasets of up to 10,000 pictures where nothing else keeps them
    together. Of a preview `first` are the first rows as (key, label, split),
    `counts` how many there are by (class, split).
    """

    state: State | None
    is_new: bool
    left_out: list[LeftOut] = field(default_factory=list)
    funnel: list[tuple[str, int]] = field(default_factory=list)
    rows: int = 0
    skipped: int = 0
    without_label: int = 0
    new_pictures: int = 0
    new_bytes: int = 0
    first: list[tuple[str, str | None, str | None]] = field(default_factory=list)
    counts: dict[tuple[str | None, str | None], int] = field(default_factory=dict)
    origins: dict[str, dict[str, int]] = field(default_factory=dict)
    notes: list[str] = field(default_factory=list)
    recipe: dict[str, Any] = field(default_factory=dict)
    otherwise: list[tuple[str, Any, Any]] = field(default_factory=list)
    straddling: list[Double] = field(default_factory=list)
    is_compared: bool = True

    def to_dict(self) -> dict[str, Any]:
        """Plain data for JSON."""
        told_plainly = {each.name: getattr(self, each.name) for each in fields(PackResult) if each.name != "state"}
        told = self.state.told_briefly() if self.state is not None else {}
        return (
            told
            | told_plainly
            | {
                "deviation": [{"label": label, "records": count} for label, count in self.deviation.items()],
                "tied": [{"label": label, "key": key, "records": size} for label, (key, size) in self.tied.items()],
                "funnel": [{"where": where, "rows": count} for where, count in self.funnel],
                "otherwise": [dict(zip(("option", "before", "now"), each, strict=True)) for each in self.otherwise],
                "doubts": plain(self.doubts),
                "straddling": [each.to_dict() for each in self.straddling],
                "conflicts": [each.to_dict() for each in self.conflicts],
                "left_out": [item._asdict() for item in self.left_out],
                "first": [{"key": key, "label": label, "split": split} for key, label, split in self.first],
                "counts": [{"label": label, "split": split, "records": n} for (label, split), n in self.counts.items()],
            }
        )


def pack(
    store: OpenedStore, source: Any, options: PackOptions, keeper: Callable[[Source], Keeper] | None = None
) -> PackResult:
    """Brings a source in as the next snapshot of a strand.

    source: a path of a folder, archive, table, arrays or TOML file that names several; STORE@NAME; a list of paths; a data
    frame, Arrow table or dicts, one a row; a dict of arrays. keeper: what takes pictures in place of shards. Holds at most a
    few blocks and pictures in memory. Raises SourceError, UsageError, ConflictError, StoreError.
    """
    packing = _Packing(store, source, options, keeper)
    if options.preview:
        return packing.run(source)
    with holding(store.storage, WRITER):
        return packing.run(source)


def pack_at(address: str | Path, source: Any, options: PackOptions) -> tuple[OpenedStore, PackResult]:
    """`pack` into the store at an address, made where nothing or an empty folder is; a failed first pack leaves none."""
    storage = open_storage(address)
    was_there = storage.is_there()
    is_first = not was_there or is_empty(storage)
    if not is_first or options.preview:
        store = OpenedStore.on(MemoryStorage()) if is_first else open_store(str(address))
        return store, pack(store, source, options)
    store = create_store(str(address))
    try:
        return store, pack(store, source, options)
    except BaseException:
        if {*storage.list("")} <= {FORMAT_FILE, LEASES} and not storage.list(LEASES):
            storage.remove(FORMAT_FILE)
            storage.prune("")
            if not was_there:
                storage.discard()
        raise


def names_in(names: str | Sequence[str]) -> tuple[str, ...]:
    """Names parted by commas, or in a list."""
    return tuple(name.strip() for name in (names.split(",") if isinstance(names, str) else names) if name.strip())


class _Packing:
    """One pack: what was said of it, what is to be brought in, laid on top of whatever the strand's head is at its turn."""

    def __init__(
        self, store: OpenedStore, source: Any, options: PackOptions, keeper: Callable[[Source], Keeper] | None
    ) -> None:
        checked_name(options.strand)
        self._keeper = keeper
        head = store.strands.head(options.strand)
        self._known = store.state_of(head.snapshot) if head else None
        self._named = named(source)
        before = (
            None if self._known is None or options.forget else of_source(self._known.recipes, self._named, options.prefix)
        )
        options, self._otherwise = followed(options, before)
        self._followed = before
        self._recipe = None if self._named is None else recipe_of(self._named, options)
        self._store, self._options, self._preview = store, options, options.preview
        self._said = options.read_dealing()
        self._about = options.about()
        self._recoding = read_recoding(options.longest_side, options.encode)
        if options.relabel is not None:
            checked_choice("relabel", options.relabel, Relabel)
        if options.doubtful is not None:
            checked_choice("doubtful", options.doubtful, Doubtful)
        dealt = self._known.dealing if self._known is not None else Dealing()
        self._dealing = self._said.upon(dealt)
        self._otherwise += dealt_otherwise(self._said, dealt)
        way = f"{self._recoding.text if self._recoding else ''} {options.max_pixels}"
        self._seen = Seen(store.storage, way, forget=options.reread)
        self._miniatures = KeptMiniatures(store.storage, store.index, keeps=not options.preview)
        self._workers = options.workers or usable_cores()
        self._passed: list[LeftOut] = []
        self._done = Counts()
        self._left_out: list[LeftOut] = []
        self._after: Manifest | None = None
        self._difference: Difference | None = None
        self._compares = False

    def run(self, source: Any) -> PackResult:
        opened = self._opened(source)
        everything, chosen, hashes = self._selected(opened)
        if self._options.strict:
            self._refuse_any(opened, chosen)
        is_far = isinstance(self._store.storage, Far) and self._known is not None  # whose pictures would come from there
        self._compares = self._has_splits(chosen) and len(chosen) + self._known_records <= MOST_COMPARED and not is_far
        ingested = self._ingested(opened, chosen)
        self._incoming = _incoming(ingested.pictures.table(), chosen, hashes, self._options.above)
        if not len(self._incoming):
            unusable = examples(ingested.left_out)
            raise SourceError(f"none of the {len(chosen)} pictures in {opened.name} can be used: {unusable}")
        prefix = self._options.above
        self._passed += [LeftOut(prefix + item.key, item.kind, item.reason) for item in ingested.left_out]
        self._source_keys = keys_below(prefix, chosen.keys)
        state, is_new = self._committed()
        straddling = self._straddling(state) if is_new and self._compares else []
        return PackResult(
            **vars(self._done),
            state=state,
            is_new=is_new,
            left_out=self._left_out,
            funnel=chosen.funnel,
            rows=len(opened.table()) if chosen.funnel else len(everything),
            skipped=sum(item.kind == "skipped" for item in opened.passed),
            without_label=len(rows_without_label(everything)),
            new_pictures=ingested.new_pictures,
            new_bytes=ingested.new_bytes,
            first=self._first(chosen),
            counts=self._counts(state),
            origins=_origins(chosen),
            notes=list(getattr(opened, "notes", ())),
            recipe=self._followed or {},
            otherwise=self._otherwise,
            straddling=straddling,
            is_compared=self._compares or not is_new or not self._has_splits(chosen),
        )

    @property
    def _known_records(self) -> int:
        return 0 if self._known is None else len(self._known)

    def _has_splits(self, chosen: Chosen) -> bool:
        """Whether records lie in splits, and near-duplicates in two of them unless they are looked for."""
        if self._dealing.near is not None or self._dealing.leaks_allowed or self._preview or self._keeper is not None:
            return False
        return self._dealing.deals or bool(chosen.splits.names) or (self._known is not None and len(self._known.splits) > 1)

    def _straddling(self, state: State | None) -> list[Double]:
        """New pictures that are near-duplicates of others in another split."""
        if state is None or self._difference is None or len(state.splits) < 2:
            return []
        rows = np.append(self._difference.added, self._difference.rows[self._difference.is_other_picture])
        return near_pairs(state, self._miniatures.fetch, USUAL_DISTANCE, state.manifest.pictures(rows)) if len(rows) else []

    def _counts(self, state: State | None) -> dict[tuple[str | None, str | None], int]:
        if self._after is None:
            return {} if state is None else state.counts
        return {(label, split): count for label, split, count in count_document(self._after)}

    def _opened(self, source: Any) -> Source:
        """The source, where what is said of it goes together with what it is."""
        options = self._options
        opened = self._source_of(source)
        laid_out = getattr(opened, "laid_out", None)
        if options.remove_missing and laid_out is not None and laid_out.where:
            raise UsageError(
                f"{opened.name} holds a part of a snapshot alone (exported `where` {laid_out.where}): `remove_missing` "
                "would remove all other records; leave it out, or export the whole of it"
            )
        if opened.fixed_splits and self._said.shares is not None and options.carve is None:
            raise UsageError(
                "the source has splits already; say `resplit` to deal its pictures anew by the shares, or carve a "
                "split out of one of them with `carve` val=15% `of` train"
            )
        return opened

    def _source_of(self, source: Any) -> Source:
        """A snapshot where a store is named, with its side columns unless others are said; else what `as_source` reads."""
        options = self._options
        how: dict[str, Any] = {"keep_splits": not options.resplit, "is_known": self._seen.is_known}
        how["most_bytes"] = options.most_bytes
        opened = as_source(source, elsewhere=snapshot_source, **how, **options.reading())
        if isinstance(opened, SnapshotSource) and not options.columns:
            self._options = replace(options, columns=opened.side_columns)
        return opened

    def _selected(self, source: Source) -> tuple[Chosen, Chosen, Hashes]:
        """(all rows that rules leave, those to bring in by order of the hashes of their keys to be, those hashes)."""
        rules = self._options.read_rules(self._dealing.group_by)
        try:
            everything = choose(source, rules)
        except UsageError as error:
            if error.argument != "group_by" or self._options.group_by:
                raise
            what = f"groups are kept since an earlier pack, and {error}; give this source a `group_by` of its own"
            raise UsageError(what) from None
        chosen, self._passed = select(source, rules, everything, self._options.selection(self._dealing.seed))
        taken = set(chosen.side.column_names if chosen.side else ()) & {*COLUMNS, SOURCE_SAID.name}
        if taken:
            raise UsageError(f"`columns` {min(taken)}: every record has that already; give the side column another name")
        texts = (self._options.above + key for key in chosen.key_texts())
        hashes = np.fromiter(map(text_hash, texts), np.uint64, len(chosen))
        order = order_by_hash(hashes, chosen.keys)
        return everything, chosen.take(order), hashes[order]

    def _refuse_any(self, source: Source, chosen: Chosen) -> None:
        """Raises SourceError where something cannot be used."""
        with Checker(source, Checking(self._workers, self._options.max_pixels, self._options.most_bytes)) as checker:
            unusable = [each for each in checker.check_all(chosen.rows(source)) if isinstance(each, LeftOut)]
        broken = [item for item in [*self._passed, *unusable] if item.kind != "no label"]
        if broken:
            count = f"{len(broken)} picture{'s' if len(broken) > 1 else ''}"
            raise SourceError(f"`strict`: {count} cannot be used and nothing was written: {examples(broken)}")

    def _ingested(self, source: Source, chosen: Chosen) -> Ingested:
        shard_bytes = read_bytes(self._options.shard_size)
        most = (self._options.max_pixels, self._options.most_bytes)
        how = Checking(self._workers, *most, self._recoding, self._dealing.near is not None or self._compares)
        if self._options.executor is not None and not self._preview:
            how = replace(how, workers=self._options.workers or 1)
            given = (self._store, source, chosen, how, self._seen, shard_bytes, self._options.progress)
            return ingest_by(self._options.executor, *given)
        kept = (self._seen, self._miniatures, None if self._preview else shard_bytes)
        return ingest(self._store, source, chosen, how, *kept, self._options.progress, self._keeper)

    def _committed(self) -> tuple[State | None, bool]:
        """The strand's newest snapshot, and whether it was made now."""
        if not self._preview:
            state, is_new, difference = commit(self._store, self._options.strand, self.propose)
        else:
            state, is_new, proposal = self._known, False, self.propose(self._known)
            before = self._known.manifest if self._known is not None else Manifest.empty()
            self._after = proposal.upon(before) if proposal is not None else before
            difference = differences(before, self._after)
        self._difference = difference
        self._done.count(difference, self._store.index.likeness)
        return state, is_new

    def propose(self, parent: State | None) -> Proposal | None:
        """What the pictures make of a snapshot; None where nothing is new."""
        manifest = parent.manifest if parent is not None else Manifest.empty()
        if parent is not None and (self._known is None or parent.id != self._known.id):
            known = self._known.manifest if self._known is not None else Manifest.empty()
            refuse_both_sides_changed(self._incoming, manifest, known)
        before = parent.dealing if parent is not None else Dealing()
        dealing = self._said.upon(before)
        gone = rows_gone(manifest, self._source_keys, self._options.above) if self._tells_what_is_gone(parent) else None
        how: dict[str, Any] = {"likeness": self._store.index.likeness, "relabel": self._options.relabel, "gone": gone}
        others = [each["source"] for each in parent.recipes] if parent is not None else []
        acting = dealing.acting(before, () if parent is None else parent.splits)
        how["frozen"] = acting.frozen
        how["is_another"] = bool(others) and self._named is not None and self._named not in others
        revision, self._done = merge(self._incoming, manifest, **how)
        if gone is not None:
            absent = np.setdiff1d(gone, revision.there[revision.is_moved])
            if self._options.remove_missing:
                revision.gone = absent
            else:
                self._done.absent = len(absent)
                self._done.absent_keys = sorted(manifest.take(absent[:FIRST_ROWS], ["key"]).column("key").to_pylist())
        classes = [] if parent is None else parent.classes
        if self._options.doubtful == "leave-out":
            revision = without_doubtful(revision, classes)
        is_newly_near = parent is not None and dealing.near not in (None, before.near)
        if is_newly_near:  # which holds for what is there, too, or is refused
            touched = np.concatenate([revision.there[revision.is_there], revision.gone])
            revision = revision.with_records(np.setdiff1d(np.arange(len(manifest)), touched))
        if not revision.is_empty or self._said.deals:
            counts = {} if parent is None else parent.counts
            settled = settle(revision, counts, acting, self._miniatures.fetch)
            revision, self._done.deviation, self._done.tied = settled.revision, settled.deviation, settled.tied
        revision = revision.only(revision.is_change) if is_newly_near else revision
        self._done.doubts = doubts_in(revision, classes)
        if self._options.strict and self._done.doubts and self._options.doubtful is None:
            raise SourceError(f"`strict`: nothing was written: {'; '.join(each.in_words for each in self._done.doubts[:3])}")
        self._left_out = self._passed + revision.left_out
        if revision.is_empty and not self._says_something(parent, dealing):
            return None
        recipes = with_recipe(parent.recipes if parent is not None else (), self._recipe)
        return Proposal(revision.changes(), dealing=dealing, left_out=self._left_out, recipes=recipes, **self._about)

    def _tells_what_is_gone(self, parent: State | None) -> bool:
        """Whether a key that the source has no more is gone, and does not belong to another source of the strand."""
        if parent is None or self._options.remove_missing:
            return parent is not None
        below = [each for each in parent.recipes if (each.get("prefix") or "") == self._options.prefix]
        return bool(below) and all(each["source"] == self._named for each in below)

    def _first(self, chosen: Chosen) -> list[tuple[str, str | None, str | None]]:
        """The first rows that a preview brings in, with their labels and splits to be."""
        if self._after is None:
            return []
        keys = [self._options.above + key for key in chosen.keys[:FIRST_ROWS].to_pylist()]
        rows = [row for key in keys if (row := self._after.find(key, text_hash(key))) is not None]
        table = self._after.take(rows, ["key", "label", "split"]).to_pylist()
        return sorted((row["key"], row["label"], row["split"]) for row in table)

    def _says_something(self, parent: State | None, dealing: Dealing) -> bool:
        """Whether there is something to keep though no record changes: a split was frozen, the dataset named."""
        if parent is None:
            return False
        renamed = any(self._about[said] not in (None, getattr(parent, said)) for said in ("name", "description"))
        before = of_source(parent.recipes, self._named, self._options.prefix)
        is_other_way = before is not None and before != self._recipe
        seed = dealing.seed if dealing.deals else parent.dealing.seed  # which without shares is of choosing records alone
        return renamed or is_other_way or replace(dealing, seed=seed) != parent.dealing


def _origins(chosen: Chosen) -> dict[str, dict[str, int]]:
    """By class what its labels were before renaming, the most frequent first."""
    origins: dict[str, Counter[str]] = {}
    assert chosen.raw_labels is not None
    pairs = Counter(zip(chosen.labels.to_list(), chosen.raw_labels.to_list(), strict=True))
    for (label, raw), count in pairs.items():
        if label is not None and raw is not None:
            origins.setdefault(label, Counter())[raw] = count
    return {
        label: dict(sorted(before.items(), key=lambda item: (-item[1], item[0])))
        for label, before in sorted(origins.items())
    }


def _incoming(pictures: Any, chosen: Chosen, hashes: Hashes, prefix: str) -> Any:
    """The pictures that are in the store now, as manifest rows, with labels and splits as the source has them."""
    numbers = pictures.column("number").to_numpy()
    columns: dict[str, Any] = {
        "hash": hashes[numbers],
        "key": keys_below(prefix, chosen.keys.take(numbers)),
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
