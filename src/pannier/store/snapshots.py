"""The documents of snapshots: what stands in them, read once and checked."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from functools import cached_property
from typing import Any

from pannier.columns import counts_by_class
from pannier.dealing.shares import Dealing, split_rank
from pannier.errors import DamageError, NotFoundError, StoreError, UsageError
from pannier.storage.layout import JSON, SNAPSHOTS, snapshot_file
from pannier.storage.opening import side_by_side
from pannier.storage.protocol import Far, Storage
from pannier.store.documents import Document, content_named, parsed
from pannier.store.manifest import Manifest
from pannier.store.manifest_files import ManifestFile

SHOWN_DIGITS = 12


# so many documents are read one by one before all are fetched
_SEVERAL = 4


def snapshot_ids(storage: Storage) -> list[str]:
    return [name.removesuffix(JSON) for name in storage.list(SNAPSHOTS) if name.endswith(JSON)]


def read_document(storage: Storage, snapshot_id: str) -> Document:
    """A snapshot's document, whose digest is its id. Raises DamageError."""
    name = snapshot_file(snapshot_id)
    return parsed(content_named(storage, name, snapshot_id), name)


class DocumentReader:
    """Reads snapshots' documents one after another; from afar, where several are wanted, all are fetched side by side."""

    def __init__(self, storage: Storage) -> None:
        self._storage, self._asked = storage, 0
        self._ahead: dict[str, Document | None] = {}

    def read(self, snapshot_id: str) -> Document:
        """As `read_document`."""
        self._asked += 1
        if self._asked == _SEVERAL and isinstance(self._storage, Far):
            ids = snapshot_ids(self._storage)
            self._ahead = dict(zip(ids, side_by_side(self._storage, self._whole, ids), strict=True))
        return self._ahead.pop(snapshot_id, None) or read_document(self._storage, snapshot_id)

    def _whole(self, snapshot_id: str) -> Document | None:
        """None for one that cannot be read: it is said where it is asked for."""
        try:
            return read_document(self._storage, snapshot_id)
        except (StoreError, NotFoundError):
            return None


def count_document(manifest: Manifest) -> list[list[Any]]:
    """The counts as a snapshot's document has them: [label, split, records] for all that is not empty."""
    labels, label_names = manifest.codes("label")
    splits, split_names = manifest.codes("split")
    table = counts_by_class(labels, splits, len(label_names), len(split_names))
    return sorted_counts(
        {
            (label, split): int(table[i, j])
            for i, label in enumerate([*label_names, None])
            for j, split in enumerate([*split_names, None])
        }
    )


def sorted_counts(found: Mapping[tuple[str | None, str | None], int]) -> list[list[Any]]:
    """In the order in which a document has them, without what is empty."""
    counts = [[label, split, number] for (label, split), number in found.items() if number]
    return sorted(counts, key=lambda row: (row[0] is None, row[0] or "", row[1] is None, row[1] or ""))


@dataclass(frozen=True, eq=False)
class Told:
    """What a snapshot's document tells, read into types."""

    id: str
    document: Document

    def __post_init__(self) -> None:
        what = f"snapshot {self.id[:SHOWN_DIGITS]} is damaged"
        try:
            _ = self.dealing
        except (TypeError, ValueError, ZeroDivisionError, UsageError):
            raise DamageError(f"{what}: its shares cannot be read") from None
        labels = {label for label, _, _ in self.document["counts"] if label is not None}
        if len({*self.classes}) < len(self.classes) or labels - {*self.classes}:
            raise DamageError(f"{what}: its classes are not those that its records have")
        if sum(count for _, _, count in self.document["counts"]) != self.document["records"]:
            raise DamageError(f"{what}: its counts do not sum up")

    @property
    def classes(self) -> list[str]:
        """Class names in order of their numbers."""
        return list(self.document["classes"])

    @property
    def content_id(self) -> str:
        """Equal records, equal content id, on every machine."""
        return str(self.document["content_id"])

    @property
    def note(self) -> str:
        return str(self.document["note"])

    @property
    def time(self) -> str:
        return str(self.document["time"])

    @property
    def author(self) -> str:
        return str(self.document["author"])

    @property
    def name(self) -> str:
        """What the dataset is called."""
        return str(self.document.get("name", ""))

    @property
    def description(self) -> str:
        return str(self.document.get("description", ""))

    @property
    def recipes(self) -> list[dict[str, Any]]:
        """How each source was packed when it last was, those of earlier snapshots too."""
        return list(self.document.get("recipes", ()))

    @property
    def parents(self) -> list[str]:
        """The ids of the snapshots that it was made of."""
        return list(self.document["parents"])

    @cached_property
    def dealing(self) -> Dealing:
        """How records got their splits, which holds for later snapshots too."""
        return Dealing.from_document(self.document)

    @property
    def base_file(self) -> ManifestFile:
        return ManifestFile(**self.document["base"])

    @property
    def delta_file(self) -> ManifestFile | None:
        return ManifestFile(**self.document["delta"]) if self.document["delta"] else None

    def told_briefly(self) -> dict[str, Any]:
        """What results tell of a snapshot, as plain data."""
        return {"snapshot": self.id, "content_id": self.content_id, "records": self.document["records"]}

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
