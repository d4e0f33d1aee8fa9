"""Snapshots: a frozen state of a dataset, its records, classes and splits."""

from __future__ import annotations

import os
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from pannier.errors import DamageError, NotFoundError, UsageError, did_you_mean
from pannier.hashing import checked_seed, text_hash
from pannier.shares import Dealing, read_part, split_rank
from pannier.splits import counts_by_class, fair_part
from pannier.store.documents import Document, digest, parsed
from pannier.store.manifest import COLUMNS, Manifest, ManifestFile
from pannier.store.reading import PictureReader, Place, ReadError, damage

if TYPE_CHECKING:
    from pannier.feed.arrays import Arrays
    from pannier.feed.feed import Feed
    from pannier.images.decode import Pixels
    from pannier.images.placement import Box
    from pannier.images.treatment import Treatment
    from pannier.store.facts import Fact, Facts
    from pannier.store.folders.laying_out import LayOutResult
    from pannier.store.store import Store
    from pannier.store.versions.annotating import Annotation, Attachment
    from pannier.store.versions.docket import Docket

FOLDER = "snapshots"
SHOWN_DIGITS = 12
SEARCHED_RECORDS = 5_000


@dataclass(frozen=True)
class Record:
    """One picture in a snapshot. `size` is (height, width) of the upright picture, in pixels."""

    key: str
    label: str | None
    split: str | None
    size: tuple[int, int]
    byte_count: int
    format: str
    mode: str
    sha256: str
    crc32: int
    side: dict[str, Any]
    _store: Store

    def bytes(self) -> bytes:
        """The picture's file, as it was packed. Raises DamageError."""
        places = self._store.index.find(np.frombuffer(bytes.fromhex(self.sha256), np.uint8).reshape(1, 32))
        segment, offset, length, row = (
            int(column[0]) for column in (places.segment, places.offset, places.length, places.row)
        )
        check_place(self.key, self.sha256, self.byte_count, places.shards, segment, length, row)
        place = Place(places.shards[segment], offset, length, self.crc32, row, bytes.fromhex(self.sha256))
        reader = PictureReader(self._store.directory)
        try:
            return reader.read(place)
        except ReadError as error:
            raise damage(place, self.key, str(error)) from error
        finally:
            reader.close()

    def picture(self) -> Pixels:
        """The upright picture: uint8 RGB, (h, w, 3). Raises DamageError."""
        from pannier.images.prepare import pixels_of

        return pixels_of(self.bytes())

    def box(self, treatment: Treatment) -> Box | None:
        """Its crop box by the side columns that a treatment names: None where that names none, or one of them is NULL.

        Raises NotFoundError, UsageError for a column that is not there, or holds no numbers.
        """
        if treatment.box is None:
            return None
        for name in treatment.box:
            if name not in self.side:
                raise NotFoundError(
                    f"box: there is no side column {name!r}{did_you_mean(name, self.side) or '; there are none'}"
                )
            if not isinstance(self.side[name], (int, float, type(None))):
                raise UsageError(f"box: the side column {name!r} holds {self.side[name]!r}, not numbers")
        top, left, height, width = (self.side[name] for name in treatment.box)
        return None if None in (top, left, height, width) else (top, left, height, width)

    def _repr_html_(self) -> str:
        from pannier.figures.notebook import of_record

        return of_record(self)


class Snapshot:
    """A frozen state of a dataset. Safe between threads. Indexing by number, and iteration, go in order of keys."""

    def __init__(self, store: Store, snapshot_id: str, *, manifest: Manifest | None = None) -> None:
        self.store, self.id = store, snapshot_id
        self.document = read_document(store, snapshot_id)
        try:
            self.classes: list[str] = list(self.document["classes"])
            self.content_id: str = self.document["content_id"]
            self.note: str = self.document["note"]
            self.time: str = self.document["time"]
            self.author: str = self.document["author"]
            self.name: str = self.document.get("name", "")
            self.description: str = self.document.get("description", "")
            self.dealing = Dealing.from_document(self.document)
            self.parents: list[str] = list(self.document["parents"])
            base = ManifestFile(**self.document["base"])
            delta = ManifestFile(**self.document["delta"]) if self.document["delta"] else None
        except (KeyError, TypeError, UsageError):
            raise DamageError(f"snapshot {snapshot_id[:SHOWN_DIGITS]} is damaged: a field is missing") from None
        self.manifest = manifest if manifest is not None else Manifest.read(store.directory, base, delta)

    def __repr__(self) -> str:
        return f"<Snapshot {self.id[:SHOWN_DIGITS]}: {len(self)} records, {len(self.classes)} classes, {self.splits}>"

    def __len__(self) -> int:
        return len(self.manifest)

    def __getitem__(self, which: int | str) -> Record:
        if isinstance(which, str):
            row = self.manifest.find(which, text_hash(which))
            if row is None:
                raise NotFoundError(f"no record {which!r} in this snapshot{self.nearest_key(which)}")
            return self.record(row)
        if not -len(self) <= which < len(self):
            raise IndexError(f"record {which} of {len(self)}")
        return self.record(int(self._in_key_order[which]))

    def __iter__(self) -> Iterator[Record]:
        return (self.record(int(row)) for row in self._in_key_order)

    def __contains__(self, key: str) -> bool:
        return self.manifest.find(key, text_hash(key)) is not None

    def record(self, row: int) -> Record:
        """The record in a row of the manifest."""
        fields = {name: column[0] for name, column in self.manifest.take([row]).to_pydict().items()}
        return Record(
            key=fields["key"],
            label=fields["label"],
            split=fields["split"],
            size=(fields["height"], fields["width"]),
            byte_count=fields["byte_count"],
            format=fields["format"],
            mode=fields["mode"],
            sha256=fields["sha256"].hex(),
            crc32=fields["crc32"],
            side={name: value for name, value in fields.items() if name not in COLUMNS},
            _store=self.store,
        )

    @cached_property
    def annotations(self) -> list[Annotation]:
        """What was added to this snapshot after it was made: facts and attached files, who and when."""
        from pannier.store.versions.annotating import read_annotations

        return read_annotations(self.store.directory, self.id)

    @property
    def facts(self) -> Facts:
        """Facts by key, what was added later before what was said when it was made."""
        from pannier.store.versions.annotating import all_facts

        return all_facts(self.document["facts"], self.annotations)

    @property
    def attachments(self) -> list[Attachment]:
        """The files that belong to this snapshot."""
        from pannier.store.versions.annotating import all_attachments, attachments_of

        frozen = attachments_of(self.store.directory, self.document["attachments"])
        return all_attachments(frozen, self.annotations)

    def attachment(self, name: str) -> Attachment:
        """One of them by name. Raises NotFoundError."""
        found = {each.name: each for each in self.attachments}
        if name not in found:
            raise NotFoundError(f"no attachment {name!r} at this snapshot{did_you_mean(name, found)}")
        return found[name]

    def annotate(
        self,
        *,
        facts: Mapping[str, Fact] | None = None,
        attach: Mapping[str, str | Path] | None = None,
        detach: Sequence[str] = (),
    ) -> None:
        """Adds facts, and files by the names that they get here, as an entry of their own. Raises UsageError."""
        from pannier.store.versions.annotating import annotate

        annotate(self.store.directory, self.id, self.attachments, facts=facts, attach=attach, detach=detach)
        self.__dict__.pop("annotations", None)

    @cached_property
    def class_numbers(self) -> dict[str, int]:
        """The number of each class, as batches of this snapshot have it."""
        return {name: number for number, name in enumerate(self.classes)}

    @property
    def splits(self) -> dict[str, int]:
        """Records by split, in order train, val, test, others; those without a split are in none."""
        totals: dict[str, int] = {}
        for _, split, count in self.document["counts"]:
            if split is not None:
                totals[split] = totals.get(split, 0) + count
        return {split: totals[split] for split in sorted(totals, key=split_rank)}

    @property
    def counts(self) -> dict[tuple[str | None, str | None], int]:
        """Records by (class, split); None stands for no label and no split."""
        return {(label, split): count for label, split, count in self.document["counts"]}

    @property
    def left_out(self) -> list[dict[str, str]]:
        """What packing left out to make this snapshot: key, kind and reason of each."""
        from pannier.store.left_out import read_left_out

        return read_left_out(self.store.directory, self.document["left_out"])

    @cached_property
    def _in_key_order(self) -> np.ndarray[Any, np.dtype[np.int64]]:
        return self.manifest.keys_in_order()

    def rows_of(self, split: str | None) -> np.ndarray[Any, np.dtype[np.int64]]:
        """The manifest's rows of a split, of several ("fold-1,fold-2"), or of all records for None. Raises NotFoundError."""
        if split is None:
            return np.arange(len(self), dtype=np.int64)
        codes, names = self.manifest.codes("split")
        wanted = [name.strip() for name in split.split(",")]
        for name in wanted:
            if name not in self.splits:
                there = did_you_mean(name, self.splits) or "; no record has a split: pack with --shares"
                raise NotFoundError(f"no split {name!r} in this snapshot{there}")
        return np.flatnonzero(np.isin(codes, [names.index(name) for name in wanted]))

    def all_but(self, split: str) -> str:
        """All splits but one, as `feed` takes them: what is trained on while that one validates."""
        self.rows_of(split)
        return ",".join(name for name in self.splits if name != split)

    def subset_of(
        self, split: str | None, part: str | float | None, seed: int = 0, *, where: str | None = None
    ) -> np.ndarray[Any, np.dtype[np.int64]]:
        """The manifest's rows of a part of a split, as "10%" or 0.1, fair in every class, fixed by the seed; None: all.

        where: SQL over the records' columns, before the part is taken.
        """
        rows = self.rows_of(split)
        if where is not None:
            from pannier.store.versions.query import rows_where

            rows = np.intersect1d(rows, rows_where(self.manifest, where), assume_unique=True)
        if part is None:
            return rows
        labels, _ = self.manifest.codes("label")
        chosen = fair_part(labels[rows], self.manifest.hashes[rows], read_part(part), checked_seed(seed))
        return rows[chosen]

    def table(self, split: str | None = None, *, where: str | None = None) -> Any:
        """The records as an Arrow table, in order of keys: key, label, number, split, facts of the picture, side columns."""
        from pannier.store.versions.query import records_table

        found = records_table(self.manifest, self.classes)
        if split is None and where is None:
            return found.take(self._in_key_order)
        rows = self.subset_of(split, None, where=where)
        ranks = np.empty(len(self), np.int64)
        ranks[self._in_key_order] = np.arange(len(self))
        return found.take(rows[np.argsort(ranks[rows])])

    def frame(self, split: str | None = None, *, where: str | None = None) -> Any:
        """The same as a pandas data frame."""
        return self.table(split, where=where).to_pandas()

    def query(self, sql: str, *, after: Snapshot | None = None) -> Any:
        """What SQL over the table `records` gives, as an Arrow table; with `after` over `before` (this one) and `after`.

        Nothing but those tables can be read: no file, no network. Raises UsageError.
        """
        from pannier.store.versions.query import query

        return query(self, sql, after=after)

    def export(self, folder: str | Path, **options: Any) -> LayOutResult:
        """Lays the pictures out in a folder, original bytes; see `pannier.store.folders.laying_out.lay_out` for the options.

        In a git work tree the folder is ignored, and a docket written beside it.
        """
        from pannier.store.folders.exporting import export

        return export(self, folder, **options)

    def docket(self, treatment: Treatment | None = None, **options: Any) -> Docket:
        """The docket with which anyone gets the same batches; `.text()` is what goes into a file. See `Docket.of`."""
        from pannier.store.versions.docket import Docket

        return Docket.of(self, treatment=treatment, **options)

    def feed(self, split: str | None, treatment: Treatment | None = None, **options: Any) -> Feed:
        """A feed of batches of one split (None: of every record); see `pannier.feed.feed.Feed` for the options."""
        from pannier.feed.feed import Feed

        return Feed(self, split, treatment, **options)

    def arrays(self, split: str | None, treatment: Treatment, **options: Any) -> Arrays:
        """A whole small split in memory: (images, labels, keys); see `pannier.feed.arrays`. Raises LimitError."""
        from pannier.feed.arrays import arrays

        return arrays(self, split, treatment, **options)

    def _repr_html_(self) -> str:
        from pannier.figures.notebook import of_snapshot

        return of_snapshot(self)

    def nearest_key(self, key: str) -> str:
        """The end of an error message: the key that is nearest to one that no record has; nothing for large snapshots."""
        if len(self) > SEARCHED_RECORDS:
            return ""
        return did_you_mean(key, self.manifest.table().column("key").to_pylist())


def read_document(store: Store, snapshot_id: str) -> Document:
    name = f"{FOLDER}/{snapshot_id}.json"
    try:
        content = store.directory.read(name)
    except NotFoundError:
        raise DamageError(f"{name} is missing; bring it back from a copy of the store", file=name) from None
    if digest(content) != snapshot_id:
        raise DamageError(f"{name} is damaged: its digest is not its name", file=name)
    return parsed(content, name)


def count_document(manifest: Manifest) -> list[list[Any]]:
    """The counts as a snapshot's document has them: [label, split, records] for all that is not empty."""
    labels, label_names = manifest.codes("label")
    splits, split_names = manifest.codes("split")
    table = counts_by_class(labels, splits, len(label_names), len(split_names))
    counts = [
        [label, split, int(table[i, j])]
        for i, label in enumerate([*label_names, None])
        for j, split in enumerate([*split_names, None])
        if table[i, j]
    ]
    return sorted(counts, key=lambda row: (row[0] is None, row[0] or "", row[1] is None, row[1] or ""))


def check_fields(document: Document, snapshot_id: str) -> None:
    """Raises DamageError where a snapshot's document lacks what a snapshot has."""
    wanted = ("parents", "time", "author", "note", "facts", "attachments", "classes", "records", "counts", "base", "delta")
    lacking = [name for name in (*wanted, "content_id", "left_out") if name not in document]
    if lacking:
        raise DamageError(f"snapshot {snapshot_id[:SHOWN_DIGITS]} is damaged: it has no {lacking[0]!r}")


def check_place(key: str, sha256: str, byte_count: int, shards: list[str], segment: int, length: int, row: int) -> None:
    """Raises DamageError where a picture is in no shard (segment -1), or not with the length that the manifest gives."""
    if segment < 0:
        raise DamageError(
            f"the picture of record {key!r} (SHA-256 {sha256[:SHOWN_DIGITS]}...) is in no shard; run pannier verify",
            key=key,
        )
    if length != byte_count:
        raise DamageError(
            f"record {key!r} (row {row} of shard {shards[segment]}) is damaged: the index gives another length; "
            "run pannier verify",
            file=f"index/{shards[segment]}.arrow",
            row=row,
            key=key,
        )


def address(text: str) -> tuple[str, str]:
    """STORE@NAME parted; NAME is "main" where none is given. An "@" that belongs to an existing path is no separator."""
    store, at, name = text.rpartition("@")
    if not at or not store or os.sep in name or Path(text).is_dir():
        return text, "main"
    return store, name
