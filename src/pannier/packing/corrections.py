"""Corrections: a table of records by key, as it comes back from people and programs, made fit for a snapshot."""

from __future__ import annotations

import re
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from pannier.columns import NameColumn, to_digests
from pannier.dealing.shares import split_given
from pannier.errors import SourceError, UsageError, did_you_mean
from pannier.hashing import text_hash
from pannier.sources.label_tables import fitting
from pannier.sources.rules import plain_column
from pannier.sources.table_files import Nulls, read_table
from pannier.sources.tables import table_from
from pannier.store.manifest import Manifest, rows_there
from pannier.store.manifest_files import COLUMNS, SOURCE_SAID
from pannier.store.state import State

# what a record has that can be changed, beside side columns
CHANGEABLE = ("label", "split")
# what tables show of a record beside it, and what follows from the rest
DERIVED = ({*COLUMNS} | {"number", "file", "doubt", SOURCE_SAID.name}) - {"key", *CHANGEABLE}


# fewer names that fit a record than this share of a table's rows are chance
LEAST_FITTING = 0.9


@dataclass(frozen=True)
class Corrections:
    """A table whose rows are for records; `name` is what messages call it. Once it `is_keyed` it has the columns `key`,
    which no two rows share, and `hash`; `note` says how its rows were told where that was not by key.
    """

    table: Any
    name: str
    is_keyed: bool = True
    note: str = ""

    @staticmethod
    def read(source: Any, key_column: str = "key", null: Nulls = ()) -> Corrections:
        """A table file, a data frame, Arrow or dicts; `key_column` says which records its rows are for."""
        is_file = isinstance(source, (str, Path))
        table = (read_table(Path(source), null=null) if is_file else table_from(source, null)).table
        name = str(source) if is_file else "the table"
        if key_column in table.column_names:
            return Corrections(table, name, is_keyed=False)._keyed_by(key_column, table.column(key_column))
        if key_column != "key":
            near = did_you_mean(key_column, table.column_names)
            raise UsageError(f"`from_` {name}: `key_column` {key_column}: it has no such column{near}")
        return Corrections(table, name, is_keyed=False)

    def told(self, state: State) -> Corrections:
        """With keys of the snapshot's records: as they are given; else by the pictures' SHA-256, or by a column that tells
        them by path, name or stem. Raises UsageError where nothing does, SourceError where a key column fits none.
        """
        if self.is_keyed:
            if not len(self.table) or (rows_there(state.manifest, self.table) >= 0).any():
                return self
            return self._by_name(state, ["key"]) or self._refuse_all(state)
        by_content = self._by_content(state) if "sha256" in self.table.column_names else None
        found = by_content or self._by_name(state, [name for name in self.table.column_names if name not in CHANGEABLE])
        if found is None:
            near = did_you_mean("key", self.table.column_names)
            what = f"it has no column 'key', which says which records its rows are for{near}"
            raise UsageError(f"`from_` {self.name}: {what}; another one is said with `key_column`")
        return found

    def _refuse_all(self, state: State) -> Corrections:
        key = self.table.column("key")[0].as_py()
        raise SourceError(f"no record has a key of the table: {key!r} is none{state.nearest_key(key)}")

    def _by_content(self, state: State) -> Corrections | None:
        """Its rows by the pictures that they name; one for each record that has the picture."""
        cells = self.table.column("sha256").cast(pa.string()).to_pylist()
        named = {cell for cell in cells if cell is not None and re.fullmatch(r"[0-9a-f]{64}", cell)}
        if not named:
            return None
        rows = state.manifest.find_pictures(to_digests([bytes.fromhex(cell) for cell in named]))
        keys_of: dict[str, list[str]] = {}
        pairs = state.manifest.take(rows, ["key", "sha256"]).to_pylist()
        for pair in sorted(pairs, key=lambda pair: pair["key"].encode()):
            keys_of.setdefault(pair["sha256"].hex(), []).append(pair["key"])
        if not keys_of:
            return None
        told = [(row, key) for row, cell in enumerate(cells) for key in keys_of.get(cell, [cell])]
        table = self.table.take(pa.array([row for row, _ in told]))
        fitting = sum(cell in keys_of for cell in cells)
        note = f"records are told by sha256: {fitting:,} of {len(cells):,} rows fit one"
        return replace(self, table=table, note=note)._keyed_by("sha256", pa.array([key for _, key in told]))

    def _by_name(self, state: State, columns: list[str]) -> Corrections | None:
        keys = state.manifest.values("key")
        match = fitting(self.table.select(columns), keys)
        rows = np.full(len(self.table), -1, np.int64)
        if match is None or match.count < LEAST_FITTING * len(self.table):
            return None
        rows[match.row_of[match.row_of >= 0]] = np.flatnonzero(match.row_of >= 0)
        names = keys.take(pa.array(rows, mask=rows < 0)).cast(pa.string())
        told = pc.coalesce(names, self.table.column(match.column).cast(pa.string()))
        note = f"records are told by {match.column}, by its {match.way}: {match.count:,} of {len(rows):,} rows fit one"
        return replace(self, note=note)._keyed_by(match.column, told)

    def _keyed_by(self, column: str, keys: Any) -> Corrections:
        """With those keys in place of a column. Raises UsageError where one is there twice."""
        rest = [each for each in self.table.column_names if each not in ("key", "hash", column)]
        table = self.table.select(rest).add_column(0, "key", keys.cast(pa.large_string()))
        table = table.filter(pc.is_valid(table.column("key")))
        texts = table.column("key").to_pylist()
        if len({*texts}) < len(texts):
            twice = next(key for key in texts if texts.count(key) > 1)
            raise UsageError(f"`from_` {self.name}: key {twice!r} is there twice")
        hashes = pa.array(np.fromiter(map(text_hash, texts), np.uint64, len(texts)))
        return replace(self, table=table.append_column("hash", hashes), is_keyed=True)

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
