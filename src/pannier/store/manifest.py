"""Manifests: facts about records, sorted by the hash of their keys; one flat base and at most one delta."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from functools import cached_property
from typing import Any

import numpy as np
import pyarrow as pa

from pannier import columns
from pannier.storage.protocol import Storage
from pannier.store.content import BUCKET_SHIFT, BUCKETS, content_id
from pannier.store.encoding import digests_of
from pannier.store.manifest_files import (
    COLUMNS,
    REMOVED,
    SCHEMA,
    SOURCE_SAID,
    FileRows,
    ManifestFile,
    publish,
    read_rows,
    with_schema,
)
from pannier.store.overlay import Overlay

# a delta beyond this share of its base is written as a new base
LARGEST_DELTA = 0.02

# of ten million records so many have the rows of some hundred thousand
_BUCKETS_AT_ONCE = 64


class Manifest:
    """The rows of one snapshot, in order of (hash of key, key). Safe between threads; base and delta stay mapped files.

    by_digest: files and pictures are held against the SHA-256 that names them, not only their CRC-32, which can be forged.
    """

    def __init__(
        self,
        base: Any,
        delta: Any | None,
        digests: Mapping[int, bytes],
        base_file: ManifestFile | None = None,
        delta_file: ManifestFile | None = None,
        base_digests: Mapping[int, bytes | None] | None = None,
        *,
        by_digest: bool = False,
    ) -> None:
        self.by_digest = by_digest
        self.base_file, self.delta_file = base_file, delta_file
        self.digests = digests
        self.base_digests = digests if base_digests is None else base_digests
        self._base = base if isinstance(base, FileRows) else FileRows(base)
        self._delta = delta if delta is None or isinstance(delta, FileRows) else FileRows(delta)
        self._known_names: dict[str, list[str]] = {}
        self._views: dict[str, list[Any]] = {}

    @staticmethod
    def empty() -> Manifest:
        return Manifest(SCHEMA.empty_table(), None, {})

    @staticmethod
    def read(storage: Storage, base: ManifestFile, delta: ManifestFile | None, *, by_digest: bool = False) -> Manifest:
        """Opens base and delta; every byte of both is checked. Raises DamageError."""
        base_rows, digests = read_rows(storage, base, by_digest)
        delta_rows, changed = read_rows(storage, delta, by_digest) if delta else (None, {})
        merged = {bucket: value for bucket, value in (digests | changed).items() if value is not None}
        return Manifest(base_rows, delta_rows, merged, base, delta, digests, by_digest=by_digest)

    def __len__(self) -> int:
        return self._base.num_rows if self._overlay is None else len(self._overlay)

    @cached_property
    def _overlay(self) -> Overlay | None:
        """Where the rows stand in base + delta; None where there is the base alone."""
        if not self._delta or not self._delta.num_rows:
            return None
        base, delta = self._base.table("hash", "key"), self._delta.table("hash", "key", REMOVED.name)
        removed = delta.column(REMOVED.name).cast(pa.uint8()).to_numpy().astype(bool)
        hashes = [each.column("hash").to_numpy() for each in (base, delta)]
        return Overlay(hashes[0], np.sort(overridden_rows(base, delta)), hashes[1], np.flatnonzero(~removed))

    @property
    def _rows(self) -> Any | None:
        """The positions of all rows in base + delta; None where they are the rows' own numbers."""
        return None if self._overlay is None else self._overlay.all_positions

    @cached_property
    def _both(self) -> Any:
        """Base + delta."""
        parts = [self._base.table(), self.delta_rows.drop_columns([REMOVED.name])]
        return pa.concat_tables(parts, promote_options="default").unify_dictionaries()

    def _table(self, *names: str) -> Any:
        """Those columns, or all, of base + delta. Raises DamageError."""
        if self._overlay is None:
            return self._base.table(*names)
        return self._both.select(list(names)) if names else self._both

    def _column(self, name: str) -> Any:
        return self._table(name).column(0)

    @property
    def _schema(self) -> Any:
        return self._base.schema if self._overlay is None else self._both.schema

    @property
    def nullable_files(self) -> list[ManifestFile]:
        """Its files that declare a column nullable which is not; they are read as if they did not."""
        pairs = ((self.base_file, self._base), (self.delta_file, self._delta))
        return [file for file, rows in pairs if file and rows is not None and not rows.has_standard_schema]

    @property
    def delta_rows(self) -> Any:
        """The rows of the delta, with the column `removed`; none where there is none."""
        if self._delta is not None:
            return self._delta.table()
        return SCHEMA.append(REMOVED).empty_table()

    def has_base_of(self, other: Manifest) -> bool:
        """Whether two differ by their deltas alone."""
        return self._base is other._base or (self.base_file is not None and self.base_file == other.base_file)

    @property
    def content_id(self) -> str:
        return content_id(self.digests)

    @property
    def side_columns(self) -> tuple[str, ...]:
        return tuple(name for name in self._schema.names if name not in COLUMNS and name != SOURCE_SAID.name)

    @property
    def notes_corrections(self) -> bool:
        """Whether any record was ever corrected."""
        return SOURCE_SAID.name in self._schema.names

    def side_type(self, name: str) -> Any | None:
        """The Arrow type of a side column; None where there is no such column."""
        return self._schema.field(name).type if name in self.side_columns else None

    def column(self, name: str) -> Any:
        """A column of numbers as a NumPy array, in order of rows."""
        values = self._column(name).to_numpy()
        return values if self._rows is None else values[self._rows]

    def values(self, name: str) -> Any:
        """A column as Arrow has it, in order of rows."""
        column = self._column(name)
        return column if self._rows is None else column.take(pa.array(self._rows))

    def gather(self, rows: Any, name: str) -> Any:
        """A column of fixed width for some rows, as a NumPy array: (n,), or (n, width) for bytes; names as their numbers.

        For columns without NULL. For a few rows, many times: touches nothing but those rows.
        """
        at = self.places(rows)
        views = self._views_of(name)
        if len(views) == 1:
            return views[0][at]
        if 8 * len(at) > sum(map(len, views)):  # joined at once, where most of them are asked for
            return np.concatenate(views)[at]
        out = np.empty((len(at), *views[0].shape[1:]), views[0].dtype)
        start = 0
        for view in views:
            here = (at >= start) & (at < start + len(view))
            out[here] = view[at[here] - start]
            start += len(view)
        return out

    def places(self, rows: Any) -> Any:
        """Where some rows stand in what `whole` gives."""
        if self._overlay is None:
            return rows
        some = np.asarray(rows, np.int64)
        return self._overlay.all_positions[some] if 8 * len(some) > len(self) else self._overlay.positions(some)

    @property
    def positions(self) -> Any | None:
        """Where each row stands in what `whole` gives; None where it is the row's own number."""
        return self._rows

    def whole(self, name: str) -> Any:
        """All of a column as `gather` has it, not copied where it lies in one piece; not to be written to."""
        views = self._views_of(name)
        joined = views[0] if len(views) == 1 else np.concatenate(views)
        joined.flags.writeable = False
        return joined

    def _views_of(self, name: str) -> list[Any]:
        if name not in self._views:
            self._views[name] = [_fixed_width(chunk) for chunk in self._column(name).chunks]
        return self._views[name]

    def names(self, name: str) -> list[str]:
        """The names behind the numbers of a column of names. Empty for other columns."""
        if name not in self._known_names:
            chunks = self._column(name).chunks
            is_names = chunks and pa.types.is_dictionary(chunks[0].type)
            self._known_names[name] = chunks[0].dictionary.to_pylist() if is_names else []
        return self._known_names[name]

    def codes(self, name: str) -> tuple[np.ndarray[Any, np.dtype[np.int32]], list[str]]:
        """A column of names as (number by row, -1 for NULL; the names). NameColumn may be there that no row has."""
        column = columns.NameColumn.of(self._column(name))
        return column.codes if self._rows is None else column.codes[self._rows], column.names

    def is_one_of(self, name: str, wanted: Sequence[str]) -> Any:
        """By row whether its name in a column of names is one of those."""
        lacks = self.lacks(name)
        codes, names = self.codes(name) if lacks else (self.whole(name), self.names(name))
        numbers = [number for number, each in enumerate(names) if each in wanted]
        flags = codes == numbers[0] if len(numbers) == 1 else np.isin(codes, numbers)
        return flags if lacks or self._rows is None else flags[self._rows]

    def lacks(self, name: str) -> bool:
        """Whether some record has no value in a column."""
        return bool(self._column(name).null_count)

    def take(self, rows: Any, names: Sequence[str] | None = None) -> Any:
        """An Arrow table of those rows, by number; of all columns unless some are named."""
        rows = np.asarray(rows, np.int64)
        table = self._table(*(names or ()))
        if self._overlay is None:
            return table.take(pa.array(rows))
        return self._take_of_both(table, self.places(rows))

    def alone(self, row: int) -> Manifest:
        """One row, by number, as a manifest of its own."""
        return Manifest(self.take([row]), None, {}, by_digest=self.by_digest)

    def _take_of_both(self, table: Any, positions: Any) -> Any:
        """Rows out of base and delta, each by itself: Arrow would join the whole of both for a handful of rows."""
        count = self._base.num_rows
        base, delta = (table.slice(0, count), table.slice(count))
        in_delta = positions >= count
        if not in_delta.any():
            return base.take(pa.array(positions))
        parts = [base.take(pa.array(positions[~in_delta])), delta.take(pa.array(positions[in_delta] - count))]
        order = np.empty(len(positions), np.int64)
        order[~in_delta] = np.arange(len(parts[0]))
        order[in_delta] = np.arange(len(parts[1])) + len(parts[0])
        return pa.concat_tables(parts).take(pa.array(order))

    def pictures(self, rows: Any) -> columns.Digests:
        """The SHA-256 of the pictures of those rows, (n, 32) uint8."""
        return columns.digests_of(self.take(rows, ["sha256"]).column(0))

    def lists(self, rows: Any, names: Sequence[str]) -> Iterator[list[Any]]:
        """Columns of those rows as lists, one after another; for a few rows, many times: faster than Arrow's own."""
        table = self.take(rows, names)
        for name in names:
            yield _as_list(table.column(name), self.names(name))

    @property
    def column_names(self) -> list[str]:
        return list(self._schema.names)

    def table(self, *names: str) -> Any:
        """All rows as one Arrow table, of all columns unless some are named."""
        return self._table(*names) if self._overlay is None else self._table(*names).take(pa.array(self._rows))

    @cached_property
    def hashes(self) -> np.ndarray[Any, np.dtype[np.uint64]]:
        values: np.ndarray[Any, np.dtype[np.uint64]] = self.column("hash")
        return values

    def hashes_at(self, rows: Any) -> np.ndarray[Any, np.dtype[np.uint64]]:
        """The hashes of the keys of some rows."""
        if not len(rows):
            return np.empty(0, np.uint64)
        values: np.ndarray[Any, np.dtype[np.uint64]] = self.gather(rows, "hash")
        return values

    def find(self, key: str, key_hash: int) -> int | None:
        """The number of the row with that key, or None."""
        at = int(self.first_rows(np.array([key_hash], np.uint64))[0])
        while at < len(self):
            ((found_hash, found),) = zip(*self.take([at], ["hash", "key"]).to_pydict().values(), strict=True)
            if found_hash != key_hash or found == key:
                return at if found_hash == key_hash else None
            at += 1
        return None

    def first_rows(self, hashes: Any) -> columns.Rows:
        """The first row with each hash of a key, uint64, or where it would stand."""
        if self._overlay is not None:
            return self._overlay.first_rows(hashes)
        return np.searchsorted(self._base.table("hash").column(0).to_numpy(), hashes)

    def bucket_borders(self, buckets: Any) -> tuple[columns.Rows, columns.Rows]:
        """Where the rows of some buckets begin and end."""
        asked = np.asarray(buckets, np.uint64)
        last, after = asked == BUCKETS - 1, (asked + np.uint64(1)) << np.uint64(BUCKET_SHIFT)
        return self.first_rows(asked << np.uint64(BUCKET_SHIFT)), np.where(last, len(self), self.first_rows(after))

    def find_pictures(self, sha256: columns.Digests) -> np.ndarray[Any, np.dtype[np.int64]]:
        """The numbers of the rows that have one of those pictures."""
        is_wanted = np.zeros(1 << 16, bool)  # by the first two bytes, which tells all but a few apart from those wanted
        is_wanted[sha256[:, :2].copy().view(np.uint16).ravel()] = True
        parts = [is_wanted[view.view(np.uint16)[:, 0]] for view in self._views_of("sha256")]
        flags = np.concatenate(parts) if parts else np.empty(0, bool)
        rows = np.flatnonzero(flags if self._rows is None else flags[self._rows])
        if len(sha256):
            prefixes = self.gather(rows, "sha256")[:, :8].copy().view(np.uint64).ravel()
            rows = rows[np.isin(prefixes, sha256[:, :8].copy().view(np.uint64).ravel())]
        if not len(rows):
            return rows
        numbers, _ = columns.numbered(np.concatenate([self.pictures(rows), sha256]))
        return rows[np.isin(numbers[: len(rows)], numbers[len(rows) :])]

    def keys_in_order(self) -> np.ndarray[Any, np.dtype[np.int64]]:
        """Row numbers in order of the keys' UTF-8 bytes."""
        return columns.order_of_keys(self.values("key"))

    def changed(self, changes: Any) -> tuple[Any, Any | None, dict[int, bytes]]:
        """What the next manifest consists of: (base, delta or None, digests), from `changes`, rows with `removed`.

        Recomputes the digests of the touched buckets alone. The base is this one's, unless the delta gets too large.
        """
        delta = changes = with_schema(changes)
        if self._overlay is not None:
            both = pa.concat_tables([self.delta_rows, changes], promote_options="default").unify_dictionaries()
            delta = both.take(pa.array(_last_of_each(both)))
        delta = delta.take(pa.array(columns.order_by_hash(delta.column("hash").to_numpy(), delta.column("key"))))
        merged = Manifest(self._base, delta, {})
        buckets = np.unique(changes.column("hash").to_numpy() >> np.uint64(BUCKET_SHIFT)).tolist()
        digests = dict(self.digests)
        for bucket, value in merged.bucket_digests(buckets):
            digests.pop(bucket, None)
            if value is not None:
                digests[bucket] = value
        if delta.num_rows > LARGEST_DELTA * self._base.num_rows:
            return merged.table().combine_chunks(), None, digests
        return self._base, delta, digests

    def bucket_digests(self, buckets: list[int]) -> Iterator[tuple[int, bytes | None]]:
        """The digest of each bucket, computed from the rows; None where it is empty."""
        starts, stops = self.bucket_borders(buckets)
        side, borders = self.side_columns, np.concatenate([[0], np.cumsum(stops - starts)])
        for first in range(0, len(buckets), _BUCKETS_AT_ONCE):
            last = min(first + _BUCKETS_AT_ONCE, len(buckets))
            runs = [np.arange(start, stop) for start, stop in zip(starts[first:last], stops[first:last], strict=True)]
            table = self.take(np.concatenate(runs), ["key", "label", "split", "sha256", *side])
            of_runs = digests_of(table, side, (borders[first : last + 1] - borders[first]).tolist())
            for bucket, rows, value in zip(buckets[first:last], runs, of_runs, strict=True):
                yield bucket, value if len(rows) else None


def rows_there(manifest: Manifest, table: Any) -> columns.Rows:
    """For each row of a table with `hash` and `key`: the row of the manifest with that key, -1 for none."""
    hashes, keys = table.column("hash").to_numpy(), table.column("key")
    rows = np.full(len(hashes), -1, np.int64)
    open_rows, at = np.arange(len(hashes)), manifest.first_rows(hashes)
    while len(open_rows):  # once, but for keys whose hashes are alike
        is_candidate = at < len(manifest)
        is_candidate[is_candidate] = manifest.hashes_at(at[is_candidate]) == hashes[open_rows[is_candidate]]
        open_rows, at = open_rows[is_candidate], at[is_candidate]
        if not len(open_rows):
            break
        theirs, ours = manifest.take(at, ["key"]).column(0), keys.take(pa.array(open_rows))
        same = columns.are_equal(theirs, ours)
        rows[open_rows[same]] = at[same]
        open_rows, at = open_rows[~same], at[~same] + 1
    return rows


def names_there(manifest: Manifest, there: columns.Rows, column: str) -> columns.NameColumn:
    """A column of names of a manifest for rows of which some are not there (-1): those have none."""
    is_there = there >= 0
    found = columns.NameColumn.of(manifest.take(there[is_there], [column]).column(0))
    codes = np.full(len(there), -1, np.int32)
    codes[is_there] = found.codes
    return columns.NameColumn(codes, found.names)


def write(storage: Storage, parent: Manifest, changes: Any) -> Manifest:
    """Publishes what `changes` make of a parent manifest, and gives it opened. Writes no more than it must."""
    base, delta, digests = parent.changed(changes)
    if delta is None or parent.base_file is None:
        whole = base if delta is None else Manifest(base, delta, {}).table()
        return Manifest.read(storage, publish(storage, whole, digests), None)
    differing: dict[int, bytes | None] = {
        bucket: digests.get(bucket)
        for bucket in parent.base_digests.keys() | digests.keys()
        if parent.base_digests.get(bucket) != digests.get(bucket)
    }
    delta_file = publish(storage, delta, differing)
    return Manifest(base, delta, digests, parent.base_file, delta_file, parent.base_digests)


def _as_list(column: Any, names: list[str]) -> list[Any]:
    if pa.types.is_dictionary(column.type):
        array = column.combine_chunks()
        return [names[code] if code >= 0 else None for code in columns.codes_of(array).tolist()]
    if pa.types.is_fixed_size_binary(column.type):
        content = columns.fixed_bytes(column.combine_chunks(), column.type.byte_width).tobytes()
        return [content[at : at + column.type.byte_width] for at in range(0, len(content), column.type.byte_width)]
    if not column.null_count and (pa.types.is_integer(column.type) or pa.types.is_large_string(column.type)):
        values: list[Any] = column.to_numpy().tolist()  # with NULL among them it would give fractions
        return values
    rows: list[Any] = column.to_pylist()
    return rows


def _fixed_width(chunk: Any) -> Any:
    """A chunk's values as NumPy sees them, not copied; NULL is not told from others."""
    if pa.types.is_fixed_size_binary(chunk.type):
        return columns.fixed_bytes(chunk, chunk.type.byte_width)
    if pa.types.is_boolean(chunk.type):  # they are bits; Arrow's own cast takes long to load
        bits = np.frombuffer(chunk.buffers()[1] if len(chunk) else b"", np.uint8)
        return np.unpackbits(bits, count=chunk.offset + len(chunk), bitorder="little")[chunk.offset :].view(np.bool_)
    return (chunk.indices if pa.types.is_dictionary(chunk.type) else chunk).to_numpy()


def _last_of_each(table: Any) -> Any:
    """Row numbers of the last row of each key."""
    last = {key: i for i, key in enumerate(table.column("key").to_pylist())}
    return np.array(sorted(last.values()), np.int64)


def overridden_rows(base: Any, delta: Any) -> Any:
    """The rows of a base that a delta replaces or removes."""
    base_hashes, delta_hashes = base.column("hash").to_numpy(), delta.column("hash").to_numpy()
    at, rows = np.searchsorted(base_hashes, delta_hashes, side="left"), np.arange(len(delta_hashes))
    overridden: list[Any] = [np.empty(0, np.int64)]
    while len(rows):  # once, but for keys whose hashes are alike
        is_candidate = at < len(base_hashes)
        is_candidate[is_candidate] = base_hashes[at[is_candidate]] == delta_hashes[rows[is_candidate]]
        at, rows = at[is_candidate], rows[is_candidate]
        theirs, ours = base.column("key").take(pa.array(at)), delta.column("key").take(pa.array(rows))
        same = columns.are_equal(theirs, ours)
        overridden.append(at[same])
        at, rows = at[~same] + 1, rows[~same]
    return np.concatenate(overridden)
