"""What a user holds: store, snapshot, record, feed, batch. Thin: every verb is done on a lower floor."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, fields
from pathlib import Path
from typing import Any, cast

from pannier.api.treatments import Treatment
from pannier.choices import LabelAs, Last, Progress
from pannier.columns import Rows
from pannier.errors import NotFoundError, did_you_mean
from pannier.feed import batch, feed
from pannier.feed.arrays import Arrays, arrays
from pannier.feed.job import job_of
from pannier.feed.reproducing import read_feed
from pannier.figures.notebook import of_batch, of_record, of_snapshot
from pannier.folders.exporting import export
from pannier.folders.laying_out import LayOutResult
from pannier.hashing import text_hash
from pannier.packing import change as changing
from pannier.packing import pack as packing
from pannier.packing.change import ChangeOptions, change
from pannier.packing.pack import PackOptions, pack, pack_at
from pannier.storage.opening import open_storage, parted_address
from pannier.store import records, state
from pannier.store.choosing import chosen_rows
from pannier.store.facts import Fact, FactsByKey
from pannier.store.left_out import read_left_out
from pannier.store.names import FIRST_TRACK
from pannier.store.snapshots import SHOWN_DIGITS
from pannier.store.state import OpenedStore, State
from pannier.upkeep import copying
from pannier.upkeep.copying import copy
from pannier.upkeep.tidying import DEFAULT_AGE, Tidied, tidy
from pannier.versions.annotating import Annotation, Attachment, annotate, annotations_at, attachments_at, facts_at
from pannier.versions.docket import Docket
from pannier.versions.history import history, record_history
from pannier.versions.naming import add_tag, start_track
from pannier.versions.query import query, table_of


class Record(records.Record):
    __doc__ = records.Record.__doc__

    def _repr_html_(self) -> str:
        return of_record(self)


class Batch(batch.Batch):
    __doc__ = batch.Batch.__doc__

    def _repr_html_(self) -> str:
        return of_batch(self)


class Feed(feed.Feed):
    """Batches of a split of a snapshot, of several ("fold-1,fold-2"), or of all records for None.

    Iterating gives one epoch, the next `for` the next.
    batch_size: records a batch; the last one of an epoch may be smaller (last="keep") or is left out (last="drop").
    seed: of the order and of every random step. subset: a part, as "10%" or 0.1, fair in every class, fixed by the seed;
    a smaller one lies in a larger. where: SQL over the records' columns, for a feed of some of them.
    shuffle, augment: by default for the split "train" alone. rendered: take rendered canvases where there are any (None),
    never (False), or raise where any is missing (True).
    label_as: "number" int64 (N,), "one_hot" float32 (N, classes), "binary" float32 (N, 1) of two classes, "name".
    workers: threads, by default the usable cores. ahead: batches kept ready, by default as the limit allows.
    memory_limit: bytes, "256MiB", "auto" (half of what is free) or None (unlimited): bounds what the feed and its workers
    hold, see `plan`. Batches that the consumer keeps beyond the one in hand are the consumer's.

    Equal content, split, treatment, seed and epoch give equal batches, whatever the workers, `ahead` and limit.
    `notes` are lines worth telling: what is left out of the treatment, what is rendered, what has changed since it was
    measured.
    For one consuming thread. `close` ends all threads and may be called twice; a `with` block does it.
    Raises LimitError, UsageError, NotFoundError at once; DamageError, naming shard, row and key, while feeding.
    """

    _batch_type = Batch

    def __init__(
        self,
        snapshot: Snapshot,
        split: str | None,
        treatment: Treatment | None = None,
        *,
        batch_size: int = 32,
        seed: int = 0,
        subset: str | float | None = None,
        where: str | None = None,
        shuffle: bool | None = None,
        augment: bool | None = None,
        rendered: bool | None = None,
        last: Last = "keep",
        label_as: LabelAs = "number",
        workers: int | None = None,
        ahead: int | None = None,
        memory_limit: str | int | None = "auto",
    ) -> None:
        self.snapshot = snapshot
        job = job_of(
            snapshot,
            split,
            treatment,
            batch_size=batch_size,
            seed=seed,
            subset=subset,
            where=where,
            shuffle=shuffle,
            augment=augment,
            rendered=rendered,
            last=last,
            label_as=label_as,
            workers=workers,
            ahead=ahead,
            memory_limit=memory_limit,
        )
        super().__init__(job, snapshot)


@dataclass(frozen=True, eq=False, repr=False)
class Snapshot(State):
    """A frozen state of a dataset. Safe between threads. Indexing by number, and iteration, go in order of keys."""

    store: Store

    @staticmethod
    def of(state: State, store: Store) -> Snapshot:
        return Snapshot(**{field.name: getattr(state, field.name) for field in fields(State)}, store=store)

    def __repr__(self) -> str:
        return f"<Snapshot {self.id[:SHOWN_DIGITS]}: {len(self)} records, {len(self.classes)} classes, {self.splits}>"

    def __getitem__(self, which: int | str) -> Record:
        if isinstance(which, str):
            return self.record(self.row_of(which))
        if not -len(self) <= which < len(self):
            raise IndexError(f"record {which} of {len(self)}")
        return self.record(int(self.in_key_order[which]))

    def __iter__(self) -> Iterator[Record]:
        return (self.record(int(row)) for row in self.in_key_order)

    def __contains__(self, key: str) -> bool:
        return self.manifest.find(key, text_hash(key)) is not None

    def record(self, row: int) -> Record:
        """The record in a row of the manifest."""
        return Record.of(self.manifest.take([row]), self.storage, self.index)

    @property
    def left_out(self) -> list[dict[str, Any]]:
        """What packing left out to make this snapshot: key, kind and reason of each."""
        return read_left_out(self.storage, self.document["left_out"])

    @property
    def annotations(self) -> list[Annotation]:
        """What was added to this snapshot after it was made: facts and attached files, who and when."""
        return annotations_at(self)

    @property
    def facts(self) -> FactsByKey:
        """Facts by key, what was added later before what was said when it was made."""
        return facts_at(self)

    @property
    def attachments(self) -> list[Attachment]:
        """The files that belong to this snapshot."""
        return attachments_at(self)

    def attachment(self, name: str) -> Attachment:
        """One of them by name. Raises NotFoundError."""
        by_name = {attachment.name: attachment for attachment in self.attachments}
        if name not in by_name:
            raise NotFoundError(f"no attachment {name!r} at this snapshot{did_you_mean(name, by_name)}")
        return by_name[name]

    def annotate(
        self,
        *,
        facts: Mapping[str, Fact] | None = None,
        attach: Mapping[str, str | Path] | None = None,
        detach: Sequence[str] = (),
    ) -> None:
        """Adds facts, and files by the names that they get here, as an entry of their own. Raises UsageError."""
        annotate(self, facts=facts, attach=attach, detach=detach)

    def to_dict(self) -> dict[str, Any]:
        """Plain data for JSON."""
        names = ("content_id", "time", "author", "note", "name", "description", "parents", "classes", "splits", "left_out")
        return {
            "snapshot": self.id,
            **{name: getattr(self, name) for name in names},
            "records": len(self),
            "counts": [{"label": label, "split": split, "records": n} for (label, split), n in self.counts.items()],
            "shares": self.document["shares"],
            "seed": self.document["seed"],
            "dealing": self.dealing.to_document(),
            "byte_count": int(self.manifest.column("byte_count").sum()),
            "facts": self.facts,
            "attachments": [{"name": each.name, "byte_count": each.byte_count} for each in self.attachments],
        }

    def all_but(self, split: str) -> str:
        """All splits but one, as `feed` takes them: what is trained on while that one validates."""
        self.rows_of(split)
        return ",".join(name for name in self.splits if name != split)

    def subset_of(self, split: str | None, part: str | float | None, seed: int = 0, *, where: str | None = None) -> Rows:
        """The manifest's rows of a part of a split, as "10%" or 0.1, fair in every class, fixed by the seed; None: all.

        where: SQL over the records' columns, before the part is taken.
        """
        return chosen_rows(self, split, part, seed, where=where)

    def table(self, split: str | None = None, *, where: str | None = None) -> Any:
        """The records as an Arrow table, in order of keys: key, label, number, split, facts of the picture, side columns."""
        return table_of(self, split, where=where)

    def frame(self, split: str | None = None, *, where: str | None = None) -> Any:
        """The same as a pandas data frame."""
        return self.table(split, where=where).to_pandas()

    def query(self, sql: str, *, after: Snapshot | None = None) -> Any:
        """What SQL over the table `records` gives, as an Arrow table; with `after` over `before` (this one) and `after`.

        Nothing but those tables can be read: no file, no network. Raises UsageError.
        """
        return query(self, sql, after=after)

    def export(self, folder: str | Path, **options: Any) -> LayOutResult:
        """Lays the pictures out in a folder, original bytes; see `pannier.folders.laying_out.lay_out` for the options.

        In a git work tree the folder is ignored, and a docket written beside it.
        """
        return export(self, folder, **options)

    def docket(self, treatment: Treatment | None = None, **options: Any) -> Docket:
        """The docket with which anyone gets the same batches; `.text()` is what goes into a file. See `Docket.of`."""
        return Docket.of(self, treatment=treatment, **options)

    def feed(self, split: str | None, treatment: Treatment | None = None, **options: Any) -> Feed:
        """A feed of batches of one split (None: of every record); see `pannier.Feed` for the options."""
        return Feed(self, split, treatment, **options)

    def arrays(self, split: str | None, treatment: Treatment, **options: Any) -> Arrays:
        """A whole small split in memory: (images, labels, keys); see `pannier.feed.arrays`. Raises LimitError."""
        return arrays(self, split, treatment, **options)

    def _repr_html_(self) -> str:
        return of_snapshot(self)


@dataclass(frozen=True, eq=False, repr=False)
class Store(OpenedStore):
    """One dataset on disk. Safe between threads and processes; holds nothing open but mapped files.

    Made by `create` and `open_store`, not by hand.
    """

    def __repr__(self) -> str:
        return f"<Store {self.path}: {', '.join(self.tracks.all_names()) or 'empty'}>"

    @property
    def path(self) -> Path:
        """Where it lies."""
        return Path(self.storage.address)

    def snapshot(self, name: str = FIRST_TRACK) -> Snapshot:
        """A snapshot by track, tag or the first 6 or more digits of its id. Raises NotFoundError."""
        return Snapshot.of(self.state(name), self)

    def history(self, name: str = FIRST_TRACK, *, key: str | None = None) -> list[Any]:
        """The snapshots that led to one, newest first; of one record those that changed it."""
        return history(self, name) if key is None else record_history(self, key, name)

    def start_track(self, track: str, at: str = FIRST_TRACK, *, note: str = "") -> Snapshot:
        """Starts a track at a snapshot without copying; one that is there takes the snapshot over, if that descends from it.

        Raises ConflictError, UsageError.
        """
        return self.snapshot(start_track(self, track, at, note=note))

    def tag(self, tag: str, at: str = FIRST_TRACK, *, note: str = "", move: bool = False) -> Snapshot:
        """Tags a snapshot. Raises UsageError where the tag names another one, unless it is to `move`."""
        return self.snapshot(add_tag(self, tag, at, note=note, move=move))

    def tidy(
        self, *, older_than: str | float = DEFAULT_AGE, apply: bool = False, progress: Progress | None = None
    ) -> Tidied:
        """What nothing refers to any more, and how much it would free; with `apply` it goes."""
        return tidy(self, older_than=older_than, apply=apply, progress=progress)

    def copy(self, name: str, other: Store, *, track: str | None = None, progress: Progress | None = None) -> Copied:
        """Brings a snapshot with its history into another store, only what that lacks; see `pannier.upkeep.copying`."""
        done = copy(self, name, other, track=track, progress=progress)
        return Copied(**vars(done), snapshot=Snapshot.of(done.state, other))

    def pack(self, source: Any, *, preview: bool = False, progress: Progress | None = None, **options: Any) -> PackResult:
        """Brings a source in as a new snapshot; see `pannier.packing.pack` and its `PackOptions`."""
        return PackResult.of(pack(self, source, PackOptions(**options), preview=preview, progress=progress), self)

    def change(self, *, preview: bool = False, **options: Any) -> ChangeResult:
        """Changes labels, splits, side columns or members as a new snapshot; see `pannier.packing.change.ChangeOptions`."""
        done = change(self, ChangeOptions(**options), preview=preview)
        return ChangeResult(**vars(done), snapshot=Snapshot.of(done.state, self))


@dataclass(kw_only=True)
class PackResult(packing.PackResult):
    """What packing did; `snapshot` is the track's newest, which a preview of a first pack has not."""

    snapshot: Snapshot

    @staticmethod
    def of(done: packing.PackResult, store: Store) -> PackResult:
        snapshot = None if done.state is None else Snapshot.of(done.state, store)
        return PackResult(**vars(done), snapshot=cast(Snapshot, snapshot))


@dataclass(kw_only=True)
class ChangeResult(changing.ChangeResult):
    """What a change did, or would do; `snapshot` is the track's newest."""

    snapshot: Snapshot


@dataclass(kw_only=True)
class Copied(copying.Copied):
    """What copying brought into the other store; `snapshot` is the one there."""

    snapshot: Snapshot


def create(path: str | Path) -> Store:
    """A new store where nothing or an empty folder is. Raises UsageError where something is."""
    return Store.on(state.create_store(path).storage)


def open_store(path: str | Path) -> Store:
    """An existing store. Raises NotFoundError, StoreError for a newer format."""
    return Store.on(state.open_store(path).storage)


def open_or_create(path: str | Path) -> Store:
    """The store at a path, made where nothing or an empty folder is."""
    storage = open_storage(path)
    return open_store(path) if storage.is_there() and not state.is_empty(storage) else create(path)


def open(text: str | Path) -> Snapshot:
    """A snapshot by its address STORE@NAME; bare STORE is STORE@main."""
    path, name = parted_address(str(text))
    return open_store(path).snapshot(name)


def bring_in(
    source: Any, path: str | Path, *, preview: bool = False, progress: Progress | None = None, **options: Any
) -> PackResult:
    """`pack` into the store at a path, made where nothing or an empty folder is; a failed first pack leaves none."""
    opened, done = pack_at(path, source, PackOptions(**options), preview=preview, progress=progress)
    return PackResult.of(done, Store(opened.storage, opened.index))


def from_docket(docket: str | Path | Docket, *, store: str | Path | None = None, **options: Any) -> Feed:
    """The feed that a docket describes.

    docket: a file's path, or a `Docket`. store: where the store is here, else where the docket says. options: as
    `snapshot.feed` takes them, for what the docket leaves open: workers, memory_limit and the like.
    Raises NotFoundError, UsageError where content, class numbers, treatment or decoder differ, or an option contradicts.
    """
    state, split, treatment, feed_options = read_feed(docket, store=store, **options)
    own = None if treatment is None else Treatment(**treatment.said())
    return Feed(Snapshot.of(state, Store(state.storage, state.index)), split, own, **feed_options)
