"""Corrections: a table of records by key, as it comes back from people and programs, made fit for a snapshot."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from pannier.columns import NameColumn
from pannier.dealing.shares import split_given
from pannier.errors import UsageError, did_you_mean
from pannier.hashing import text_hash
from pannier.sources.rules import plain_column
from pannier.sources.table_files import Nulls, read_table
from pannier.sources.tables import table_from
from pannier.store.manifest import COLUMNS, SOURCE_SAID, Manifest
from pannier.store.state import State

# what a record has that can be changed, beside side columns
CHANGEABLE = ("label", "split")
# what tables show of a record beside it, and what follows from the rest
DERIVED = ({*COLUMNS} | {"number", "file", "doubt", SOURCE_SAID.name}) - {"key", *CHANGEABLE}


@dataclass(frozen=True)
class Corrections:
    """A table with the columns `key`, which no two rows share, and `hash`; `name` is what messages call it."""

    table: Any
    name: str

    @staticmethod
    def read(source: Any, key_column: str = "key", null: Nulls = ()) -> Corrections:
        """A table file, a data frame, Arrow or dicts, whose `key_column` says which records its rows are for."""
        is_file = isinstance(source, (str, Path))
        table = (read_table(Path(source), null=null) if is_file else table_from(source, null)).table
        name = str(source) if is_file else "the table"
        if key_column not in table.column_names:
            near = did_you_mean(key_column, table.column_names)
            what = f"it has no column {key_column!r}, which says which records its rows are for{near}"
            raise UsageError(f"`from_` {name}: {what}; another one is said with `key_column`")
        if key_column != "key":
            rest = [each for each in table.column_names if each not in ("key", key_column)]
            table = table.select([key_column, *rest]).rename_columns(["key", *rest])
        table = table.filter(pc.is_valid(table.column("key")))
        table = table.set_column(table.column_names.index("key"), "key", table.column("key").cast(pa.large_string()))
        keys = table.column("key").to_pylist()
        if len({*keys}) < len(keys):
            twice = next(key for key in keys if keys.count(key) > 1)
            raise UsageError(f"`from_` {name}: key {twice!r} is there twice")
        hashes = pa.array(np.fromiter(map(text_hash, keys), np.uint64, len(keys)))
        return Corrections(table.append_column("hash", hashes), name)

    def derived(self, manifest: Manifest) -> list[str]:
        """Its columns that follow from the rest, and are not read."""
        known = (*manifest.side_columns, "hash")
        return [name for name in self.table.column_names if name in DERIVED and name not in known]

    def fitted(self, state: State, *, new_classes: bool) -> Any:
        """Its table with values of the types that the snapshot's side columns have. Raises UsageError."""
        table = self.table.drop_columns(self.derived(state.manifest))
        for name in table.column_names:
            if name in ("key", "hash"):
                continue
            values = table.column(name)
            if name in CHANGEABLE:
                given = NameColumn.of(values)
                names = [split_given(each) if name == "split" else each.strip() or None for each in given.names]
                if name == "label" and not new_classes:
                    check_classes([each for each in names if each], state, f"`from_` {self.name}")
                values = given.mapped(names).to_arrow()
            else:
                values = self._cast(plain_column(values, name, "`from_`"), name, state.manifest.side_type(name))
            table = table.set_column(table.column_names.index(name), name, values)
        return table

    def _cast(self, values: Any, name: str, kind: Any | None) -> Any:
        try:
            return values if kind in (None, values.type) else values.cast(kind)
        except pa.ArrowException:
            row = next(row for row, value in enumerate(values) if not _can_be(value, kind))
            key, value = self.table.column("key")[row].as_py(), values[row].as_py()
            what = f"{name} = {value!r} of {key!r} is no {kind}, which that column holds in the store"
            raise UsageError(f"`from_` {self.name}: {what}") from None


def check_classes(names: list[str], state: State, what: str) -> None:
    """Raises UsageError where a label is no class yet, so that a misspelt one does not become one."""
    unknown = [name for name in names if name not in state.classes] if state.classes else []
    if unknown:
        near = did_you_mean(unknown[0], state.classes)
        more = f" and {len(unknown) - 1} more" if len(unknown) > 1 else ""
        raise UsageError(f"{what}: {unknown[0]!r}{more} is no class yet{near}; say `new_classes` where that is meant")


def _can_be(value: Any, kind: Any) -> bool:
    try:
        value.cast(kind)
    except pa.ArrowException:
        return False
    return True
