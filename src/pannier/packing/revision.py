"""A revision: rows that are new or changed upon a snapshot, and what becomes of them. Whole columns at a time."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from pannier.array_types import Flags
from pannier.columns import Digests, NameColumn, Rows, differs, digests_of, joined, order_by_hash
from pannier.errors import UsageError
from pannier.packing.three_way import alike
from pannier.sources.rows import LeftOut
from pannier.store.manifest import Manifest, names_there
from pannier.store.manifest_files import COLUMNS, FACTS, REMOVED, SCHEMA, SOURCE_SAID, with_schema


@dataclass
class Revision:
    """Rows upon a manifest, in order of (hash of key, key) unless rows were added to them since.

    `table` has the manifest's columns, and side columns; `there` are the records of the manifest that the rows continue,
    maybe under another key, -1 for none;
    `takes_side` says whether the table's side columns win over the manifest's; `labels` and `splits` win over the table's.
    `gone` are records of the manifest, not among the rows, that are removed; `left_out` is what was kept from happening;
    `side_is_whole` says that NULL in the table's side columns wins too.
    """

    manifest: Manifest
    table: Any
    there: Rows
    takes_side: Flags
    labels: NameColumn
    splits: NameColumn
    gone: Rows = field(default_factory=lambda: np.empty(0, np.int64))
    left_out: list[LeftOut] = field(default_factory=list)
    side_is_whole: bool = False

    @staticmethod
    def of_records(manifest: Manifest, rows: Rows, gone: Rows | None = None) -> Revision:
        """Those records of a manifest as they are, with all their side columns, to be changed; `gone` are removed."""
        table = manifest.take(rows)
        labels, splits = (NameColumn.of(table.column(name)) for name in ("label", "split"))
        gone = np.empty(0, np.int64) if gone is None else gone
        return Revision(manifest, table, rows, np.zeros(len(rows), bool), labels, splits, gone, side_is_whole=True)

    def __len__(self) -> int:
        return len(self.there)

    @property
    def is_empty(self) -> bool:
        return not len(self) and not len(self.gone)

    @property
    def digests(self) -> Digests:
        return digests_of(self.table.column("sha256"))

    @property
    def is_there(self) -> Flags:
        return self.there >= 0

    @property
    def is_other_picture(self) -> Flags:
        """Which rows give a record that is there another picture."""
        is_other = self.is_there.copy()
        theirs = self.manifest.pictures(self.there[self.is_there])
        is_other[self.is_there] = (self.digests[self.is_there] != theirs).any(axis=1)
        return is_other

    @property
    def is_change(self) -> Flags:
        """Which rows are new, or are otherwise than in the manifest as far as the revision says."""
        names = (("label", self.labels), ("split", self.splits))
        flags = [differs(self.before(name), after) for name, after in names]
        changes: Flags = np.any([~self.is_there, self.is_other_picture, self.is_moved, self.takes_side, *flags], axis=0)
        return changes

    @property
    def is_moved(self) -> Flags:
        """Which rows continue a record that has another key in the manifest."""
        moved = self.is_there.copy()
        hashes = self.table.column("hash").to_numpy()
        moved[moved] = hashes[moved] != self.manifest.hashes_at(self.there[moved])
        return moved

    def key(self, row: int) -> str:
        key: str = self.table.column("key")[row].as_py()
        return key

    def keys(self, rows: Any) -> list[str]:
        keys: list[str] = self.table.column("key").take(pa.array(rows)).to_pylist()
        return keys

    def before(self, column: str) -> NameColumn:
        """A column of names as the manifest has it for the rows; those that are not there have none."""
        return names_there(self.manifest, self.there, column)

    @property
    def changes_side(self) -> Flags:
        """Which rows of records that are there have another value in a side column than the manifest."""
        changes: Flags = np.zeros(len(self), bool)
        for name in side_names(self.table):
            ours, theirs = both_sides(self.table, self.there, self.manifest, name)
            values = pc.if_else(pa.array(self.takes_side), ours if self.side_is_whole else pc.coalesce(ours, theirs), theirs)
            changes |= ~alike(values, theirs)
        return changes & self.is_there

    def with_pictures_of(self, rows: Flags) -> Revision:
        """Some rows, of records that are there, with the pictures that those have in the manifest."""
        if not rows.any():
            return self
        names = [*self.table.column_names]
        at = np.where(rows, np.cumsum(rows) - 1 + len(self), np.arange(len(self)))
        theirs = self.manifest.take(self.there[rows], list(FACTS))
        both = pa.concat_tables([self.table.select(FACTS), theirs], promote_options="default").unify_dictionaries()
        pictures = both.take(pa.array(at))
        columns = {name: (pictures if name in FACTS else self.table).column(name) for name in names}
        table = pa.table([columns[name] for name in names], names=names)
        return self._of(with_schema(table), self.there, self.takes_side, self.labels, self.splits)

    def only(self, rows: Any) -> Revision:
        rows = np.arange(len(self))[rows]
        names = (self.labels.take(rows), self.splits.take(rows))
        return self._of(self.table.take(pa.array(rows)), self.there[rows], self.takes_side[rows], *names)

    def with_records(self, rows: Rows) -> Revision:
        """And those records of the manifest, which are not among the rows yet, as they are."""
        if not len(rows):
            return self
        taken = self.manifest.take(rows, None if self.side_is_whole else SCHEMA.names)
        table = self.table.select([*SCHEMA.names, *side_names(self.table)])
        table = pa.concat_tables([table, taken], promote_options="default").unify_dictionaries()
        there, takes_side = np.concatenate([self.there, rows]), np.append(self.takes_side, np.zeros(len(rows), bool))
        labels, splits = (NameColumn.of(taken.column(name)) for name in ("label", "split"))
        return self._of(table, there, takes_side, joined([self.labels, labels]), joined([self.splits, splits]))

    def _of(self, table: Any, there: Rows, takes_side: Flags, labels: NameColumn, splits: NameColumn) -> Revision:
        """Other rows upon the same manifest."""
        rest = (self.gone, self.left_out, self.side_is_whole)
        return Revision(self.manifest, table, there, takes_side, labels, splits, *rest)

    def changes(self) -> Any:
        """The rows as a change of the manifest; what side columns it has for them stays."""
        table = self.table
        for name, values in (("label", self.labels), ("split", self.splits)):
            table = table.set_column(table.schema.get_field_index(name), SCHEMA.field(name), values.to_arrow())
        for name in sorted({*side_names(table), *noted_columns(self.manifest)}):
            ours, theirs = both_sides(table, self.there, self.manifest, name)
            wins = ours if self.side_is_whole else pc.coalesce(ours, theirs)
            values = pc.if_else(pa.array(self.takes_side), wins, theirs)
            table = table.drop_columns([name]) if name in table.column_names else table
            table = table.append_column(name, values)
        left = self.there[self.is_moved]
        left = left[~np.isin(self.manifest.hashes_at(left), table.column("hash").to_numpy())]
        table = table.append_column(REMOVED, pa.array(np.zeros(len(table), bool)))
        if len(self.gone) or len(left):
            gone = self.manifest.take(np.concatenate([self.gone, left]))
            gone = gone.append_column(REMOVED, pa.array(np.ones(len(gone), bool)))
            table = pa.concat_tables([table, gone], promote_options="default").unify_dictionaries()
        return table.take(pa.array(order_by_hash(table.column("hash").to_numpy(), table.column("key"))))


def side_names(table: Any) -> list[str]:
    return [name for name in table.column_names if name not in COLUMNS and name != REMOVED.name]


def noted_columns(manifest: Manifest) -> tuple[str, ...]:
    """A manifest's side columns, and the one that notes corrections where there is one."""
    return (*manifest.side_columns, *([SOURCE_SAID.name] if manifest.notes_corrections else []))


def both_sides(table: Any, there: Rows, manifest: Manifest, name: str) -> tuple[Any, Any]:
    """A side column as a table and as a manifest has it for some rows, NULL where it has none. Raises UsageError."""
    is_there = there >= 0
    ours = table.column(name).combine_chunks() if name in table.column_names else None
    theirs = None
    if name in noted_columns(manifest):
        values = manifest.take(there[is_there], [name]).column(0).combine_chunks()
        theirs = values.take(pa.array(np.cumsum(is_there) - 1, mask=~is_there))
    if ours is not None and theirs is not None and ours.type != theirs.type:
        if not pa.types.is_null(ours.type):
            raise UsageError(
                f"side column {name!r} holds {theirs.type} in the store and {ours.type} in the source: cast it, as in "
                f"`columns` 'CAST({name} AS ...) as {name}', or keep it under another name"
            )
        ours = None
    kind = ours.type if ours is not None else theirs.type  # type: ignore[union-attr]
    nothing = pa.nulls(len(there), kind)
    return nothing if ours is None else ours, nothing if theirs is None else theirs


def side_differs(table: Any, there: Rows, manifest: Manifest) -> Flags:
    """Records that are there, and of which the table says something else in a side column."""
    found = np.zeros(len(there), bool)
    for name in side_names(table):
        ours, theirs = both_sides(table, there, manifest, name)
        is_other = pc.or_(pc.is_null(theirs), pc.fill_null(pc.not_equal(ours, theirs), False))
        found |= pc.and_(pc.is_valid(ours), is_other).to_numpy(zero_copy_only=False).astype(bool)
    return found & (there >= 0)
