"""What a user holds: store, snapshot, record, feed, batch. Thin: every verb is done on a lower floor."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from concurrent.futures import Executor
from dataclasses import dataclass, field, fields
from pathlib import Path
from typing import Any, cast, overload

from pannier.api.feeding import FedState
from pannier.api.treatments import Treatment, as_treatment
from pannier.choices import LabelAs, Last, Layout, Progress
from pannier.columns import Rows, to_frame
from pannier.errors import NotFoundError, did_you_mean
from pannier.feeding.rendering import (
    Rendered,
    list_renderings,
    remove_rendering,
)
from pannier.folders.exporting import export
from pannier.folders.laying_out import LayOutResult
from pannier.hashing import text_hash
from pannier.images.seen import Stage, stages
from pannier.packing import change as changing
from pannier.packing import pack as packing
from pannier.packing import two_sides
from pannier.packing.change import ChangeOptions, change
from pannier.packing.pack import PackOptions, pack
from pannier.packing.two_sides import MergeOptions, merge
from pannier.pages.notebook import of_record, of_snapshot, of_store
from pannier.results import Listed
from pannier.spelling import spelled_method
from pannier.storage.web import publish_listing
from pannier.store import records
from pannier.store.choosing import chosen_rows
from pannier.store.facts import Fact, FactsByKey
from pannier.store.left_out import read_left_out
from pannier.store.names import FIRST_STRAND
from pannier.store.snapshots import SHOWN_DIGITS
from pannier.store.state import OpenedStore, State
from pannier.upkeep import copying
from pannier.upkeep.copying import copy, copy_all
from pannier.upkeep.findings import Finding
from pannier.upkeep.tidying import DEFAULT_AGE, Tidied, tidy
from pannier.upkeep.verify import verify
from pannier.versions import naming
from pannier.versions.attaching import Addition, Attachment, additions_at, attach, attachments_at, facts_at
from pannier.versions.docket import Docket
from pannier.versions.doubles import Doubles, doubles
from pannier.versions.history import history, record_history
from pannier.versions.query import query, table_of
from pannier.versions.reasons import Reason, why


class Record(records.Record):
    __doc__ = records.Record.__doc__

    def stages(self, treatment: Treatment, *, seed: int = 0, epoch: int = 0, variations: int = 3) -> list[Stage]:
        """The picture after every step of a treatment, with so many random variations, from that epoch on."""
        how: dict[str, Any] = {"seed": seed, "epoch": epoch, "times": variations}
        return stages(treatment, self.bytes(), self.key, box=self.box(treatment), **how)

    def _repr_html_(self) -> str:
        return of_record(self)


@dataclass(frozen=True, eq=False, repr=False)
class Snapshot(FedState):
    """A frozen state of a dataset. Safe between threads. Indexing by number, and iteration, go in order of keys."""

    store: Store

    @staticmethod
    def of(state: State, store: Store) -> Snapshot:
        return Snapshot(**{field.name: getattr(state, field.name) for field in fields(State)}, store=store)

    def __repr__(self) -> str:
        return f"<Snapshot {self.id[:SHOWN_DIGITS]}: {len(self)} records, {len(self.classes)} classes, {self.splits}>"

    @overload
    def __getitem__(self, which: int | str) -> Record: ...

    @overload
    def __getitem__(self, which: slice) -> list[Record]: ...

    def __getitem__(self, which: int | str | slice) -> Record | list[Record]:
        """A record by its place in order of keys, or by its key; or several, as `snapshot[3:9]`."""
        if isinstance(which, slice):
            return [self.record(row) for row in self.in_key_order[which].tolist()]
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
        return Record.of(self.manifest.alone(row), self.storage, self.index)

    @property
    def left_out(self) -> list[dict[str, Any]]:
        """What packing left out to make this snapshot: key, kind and reason of each."""
        return read_left_out(self.storage, self.document["left_out"])

    @property
    def additions(self) -> list[Addition]:
        """What was added to this snapshot after it was made: facts and attached files, who and when."""
        return additions_at(self)

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

    def attach(
        self,
        *,
        facts: Mapping[str, Fact] | None = None,
        files: Mapping[str, str | Path] | None = None,
        remove: Sequence[str] = (),
    ) -> None:
        """Adds facts, and files by the names that they get here, as an entry of their own. Raises UsageError."""
        attach(self, facts=facts, files=files, remove=remove)

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
        """The same as a pandas data frame. Raises UsageError where pandas is not installed."""
        return to_frame(self.table(split, where=where))

    def why(self, key: str) -> Reason:
        """Why the record with that key is in its split: by hand, a rule, shares, or tied to others. Raises NotFoundError."""
        return why(self.store, self, key)

    def doubles(
        self, near: int | None = None, *, progress: Progress | None = None, executor: Executor | None = None
    ) -> Doubles:
        """Records that show one picture, or nearly: resized, turned, mirrored, brightened, cropped by up to a tenth a side.

        near: how unlike they may be, 0 to 12; by default as the snapshot was dealt, or 6. progress: called with (pictures
        compared, pictures in all). executor: whose workers decode what has no miniature yet. `Store.change(unlike=...)`
        declares pairs that are none. Raises UsageError.
        """
        return doubles(self, near, progress, executor)

    def query(self, sql: str, *, after: Snapshot | None = None) -> Any:
        """What SQL over the table `records` gives, as an Arrow table; with `after` over `before` (this one) and `after`.

        Nothing but those tables can be read: no file, no network. Raises UsageError.
        """
        return query(self, sql, after=after)

    def export(
        self,
        folder: str | Path,
        *,
        layout: Layout = "class",
        where: str | None = None,
        hard_links: bool = False,
        docket: str | Path | None = None,
        overwrite: bool = False,
        workers: int | None = None,
        preview: bool = False,
        progress: Progress | None = None,
    ) -> LayOutResult:
        """Lays the pictures out in a folder, original bytes, or brings one that was laid out before up to this snapshot.

        layout: "class" folders, "split" folders of those, or one "flat" folder. where: SQL, for some of the records.
        hard_links: files are links to one copy of each picture in the store. docket: a file that is to say what lies there,
        for `pannier.restore`. overwrite: undo what was changed there by hand, which is refused else. preview: say what would
        be written and removed.
        Interrupted, it goes on when it is called again. Raises UsageError, SourceError, DamageError, PannierError.
        """
        how: dict[str, Any] = {"layout": layout, "where": where, "hard_links": hard_links, "overwrite": overwrite}
        return export(self, folder, docket=docket, workers=workers, preview=preview, progress=progress, **how)

    def docket(
        self,
        split: str | None = None,
        treatment: Treatment | str | Path | None = None,
        *,
        size: int | tuple[int, int] | str | None = None,
        values: str | None = None,
        batch_size: int | None = None,
        seed: int | None = None,
        subset: str | None = None,
        where: str | None = None,
        shuffle: bool | None = None,
        augment: bool | None = None,
        last: Last | None = None,
        steps: int | None = None,
        label_as: LabelAs | None = None,
        store: str | None = None,
    ) -> Docket:
        """The docket with which anyone gets the same batches; `.text()` is what goes into a file. What is not said is free.

        split: must be given where the snapshot has splits; "all" for every record. store: how its address is written.
        Raises UsageError, and TreatmentError where standard values are not measured yet.
        """
        chosen: dict[str, Any] = {"split": split, "subset": subset, "where": where, "last": last, "label_as": label_as}
        chosen |= {"batch_size": batch_size, "seed": seed, "shuffle": shuffle, "augment": augment, "steps": steps}
        return Docket.of(self, treatment=as_treatment(treatment, size, values), store=store, **chosen)

    def sheet(
        self,
        path: str | Path,
        split: str | None = None,
        *,
        pictures: int = 40,
        seed: int = 0,
        subset: str | float | None = None,
        where: str | None = None,
    ) -> None:
        """Draws so many records of a split, by chance with a seed, alike from every class, into a PNG, PDF or SVG."""
        from pannier.figures.sheet import choose_records, draw_sheet

        records = choose_records(self, split, pictures, seed, subset, where)
        draw_sheet(records, str(path), title=f"{self.title}, {split or 'all splits'}: {len(records)} records")

    def counts_figure(self, path: str | Path) -> None:
        """Draws classes by splits, and the sizes of pictures, into a PNG, PDF or SVG."""
        from pannier.figures.counts import draw_counts

        draw_counts(self, str(path))

    def _repr_html_(self) -> str:
        return of_snapshot(self)


@dataclass(frozen=True, kw_only=True)
class _Packing(PackOptions):
    source: Any = field(kw_only=False)


@dataclass(frozen=True, eq=False, repr=False)
class Store(OpenedStore):
    """One dataset on disk. Safe between threads and processes; holds nothing open but mapped files.

    Made by `create` and `open_store`, not by hand.
    """

    def __repr__(self) -> str:
        return f"<Store {self.address}: {', '.join(self.strands.all_names()) or 'empty'}>"

    def _repr_html_(self) -> str:
        return of_store(self)

    @property
    def path(self) -> Path:
        """Where it lies, of one in a directory."""
        return Path(self.storage.address)

    @property
    def address(self) -> str:
        """What it is opened by: a path, or s3://BUCKET/NAME and the like."""
        return self.storage.address

    def to_dict(self) -> dict[str, Any]:
        """Plain data for JSON: where it lies, and what its strands and tags name."""
        names = {"strands": self.strands, "tags": self.tags}
        return {"path": self.address} | {
            what: {name: head.snapshot for name, head in kind.heads()} for what, kind in names.items()
        }

    def snapshot(self, name: str = FIRST_STRAND) -> Snapshot:
        """A snapshot by strand, tag or the first 6 or more digits of its id. Raises NotFoundError."""
        return Snapshot.of(self.state(name), self)

    def history(self, name: str = FIRST_STRAND, *, key: str | None = None) -> list[Any]:
        """The snapshots that led to one, newest first; of one record those that changed it."""
        return Listed(history(self, name) if key is None else record_history(self, key, name))

    def start_strand(self, strand: str, at: str = FIRST_STRAND, *, note: str = "") -> Snapshot:
        """Starts a strand at a snapshot without copying; one that is there takes it over, where it descends from that.

        Raises ConflictError, UsageError.
        """
        return self.snapshot(naming.start_strand(self, strand, at, note=note))

    def tag(self, tag: str, at: str = FIRST_STRAND, *, note: str = "", overwrite: bool = False) -> Snapshot:
        """Tags a snapshot. Raises UsageError where the tag names another one, unless it is to `overwrite`."""
        return self.snapshot(naming.add_tag(self, tag, at, note=note, overwrite=overwrite))

    def rename_strand(self, strand: str, name: str) -> None:
        """Calls a strand otherwise. Raises NotFoundError, UsageError where the new name is taken."""
        naming.rename(self.strands, strand, name)

    def remove_strand(self, strand: str) -> None:
        """Takes a strand away; its snapshots stay until they are tidied. Raises NotFoundError."""
        naming.remove(self.strands, strand)

    def rename_tag(self, tag: str, name: str) -> None:
        """Calls a tag otherwise. Raises NotFoundError, UsageError where the new name is taken."""
        naming.rename(self.tags, tag, name)

    def remove_tag(self, tag: str) -> None:
        """Takes a tag away. Raises NotFoundError."""
        naming.remove(self.tags, tag)

    def renderings(self) -> list[Rendered]:
        """What is rendered: digests of fixed parts, canvases, bytes."""
        return list_renderings(self.storage)

    def remove_rendering(self, digest: str) -> int:
        """Takes a rendering away, by its first digits: the bytes that it took. Raises NotFoundError, UsageError."""
        return remove_rendering(self.storage, digest)

    def verify(
        self,
        *,
        quick: bool = False,
        sample: str | float | None = None,
        seed: int = 0,
        repair: bool = False,
        repair_from: str | Path | Store | None = None,
        against: str | Path | Store | None = None,
        progress: Progress | None = None,
        executor: Executor | None = None,
    ) -> list[Finding]:
        """All findings, damage first: see `pannier.verify`, which also tells of a store that cannot be opened."""
        others: dict[str, Any] = {"repair": repair, "repair_from": repair_from, "against": against, "executor": executor}
        return verify(self, quick=quick, sample=sample, seed=seed, progress=progress, **others)

    def tidy(
        self,
        *,
        older_than: str | float = DEFAULT_AGE,
        preview: bool = False,
        yes: bool = False,
        progress: Progress | None = None,
    ) -> Tidied:
        """What nothing refers to any more, and how much it would free; with `yes` it goes, unless it is a preview."""
        return tidy(self, older_than=older_than, yes=yes and not preview, progress=progress)

    def copy(
        self,
        name: str,
        other: Store,
        *,
        strand: str | None = None,
        preview: bool = False,
        progress: Progress | None = None,
        executor: Executor | None = None,
    ) -> Copied:
        """Brings a snapshot with its history into another store, only what that lacks. preview: say what it lacks.

        strand: how it is called there; by default as here where that is a strand, else main. Interrupted, what is there
        stays, and the same call goes on. executor: whose workers bring pictures, shard by shard. Raises ConflictError where
        that strand there does not lead to this snapshot.
        """
        done = copy(self, name, other, strand=strand, preview=preview, progress=progress, executor=executor)
        return Copied(**vars(done), snapshot=Snapshot.of(done.state, self if preview else other))

    def publish(self) -> int:
        """Writes the listing by which a web server gives the store out, read-only: how many files it names.

        Whoever opens https://HOST/PATH sees the store as it is now, until it is published again.
        """
        return publish_listing(self.storage)

    def copy_all(
        self,
        other: Store,
        *,
        preview: bool = False,
        progress: Progress | None = None,
        executor: Executor | None = None,
    ) -> Copied:
        """Brings all strands and tags into another store, with all that they lead to: a backup, which the same call renews.

        executor: as in `copy`. Raises ConflictError where one of them leads elsewhere there.
        """
        done = copy_all(self, other, preview=preview, progress=progress, executor=executor)
        return Copied(**vars(done), snapshot=Snapshot.of(done.state, self if preview else other))

    @spelled_method(_Packing)
    def pack(self, said: _Packing) -> PackResult:
        """Brings a source in as the next snapshot of a strand.

        source: a path of a folder, archive, table, arrays or TOML file that names several; a list of paths; a data frame,
        Arrow table or dicts, one a row; a dict of arrays. The options are those of `pannier.packing.pack.PackOptions`.
        Raises SourceError, UsageError, ConflictError, StoreError.
        """
        return PackResult.of(pack(self, said.source, said), self)

    @spelled_method(ChangeOptions)
    def change(self, said: ChangeOptions) -> ChangeResult:
        """Changes labels, splits, side columns or members as a new snapshot; see `pannier.packing.change.ChangeOptions`."""
        done = change(self, said)
        return ChangeResult(**vars(done), snapshot=Snapshot.of(done.state, self))

    @spelled_method(MergeOptions)
    def merge(self, said: MergeOptions) -> MergeResult:
        """Brings two strands together that have moved apart; see `pannier.packing.two_sides.MergeOptions`."""
        done = merge(self, said)
        return MergeResult(**vars(done), snapshot=Snapshot.of(done.state, self))


@dataclass(kw_only=True, eq=False, repr=False)
class MergeResult(two_sides.MergeResult):
    """What bringing two strands together did, or would do; `snapshot` is the strand's newest."""

    snapshot: Snapshot


@dataclass(kw_only=True, eq=False, repr=False)
class PackResult(packing.PackResult):
    """What packing did; `snapshot` is the strand's newest, which a preview of a first pack has not."""

    snapshot: Snapshot

    @staticmethod
    def of(done: packing.PackResult, store: Store) -> PackResult:
        snapshot = None if done.state is None else Snapshot.of(done.state, store)
        return PackResult(**vars(done), snapshot=cast(Snapshot, snapshot))


@dataclass(kw_only=True, eq=False, repr=False)
class ChangeResult(changing.ChangeResult):
    """What a change did, or would do; `snapshot` is the strand's newest."""

    snapshot: Snapshot


@dataclass(kw_only=True, eq=False, repr=False)
class Copied(copying.Copied):
    """What copying brought into the other store; `snapshot` is the one there."""

    snapshot: Snapshot
