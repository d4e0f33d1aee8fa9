"""Comparing: any two of snapshot, also of two stores, folder, and docket: what was added, removed, relabelled, moved."""

from __future__ import annotations

import hashlib
from collections import Counter
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from functools import cached_property
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from pannier.columns import Rows, order_by_hash, to_digests
from pannier.errors import PictureError, UsageError
from pannier.hashing import text_hash
from pannier.images.facts import MAX_PIXELS
from pannier.images.perceptual import ALIKE_BITS
from pannier.kinds import ChangeKind
from pannier.machine import usable_cores
from pannier.results import Result, facts_table, titled
from pannier.sources.checking import Checker, Checking
from pannier.sources.opening import ReadingOptions, as_source
from pannier.sources.rows import LeftOut, Row, Source
from pannier.sources.rules import Rules
from pannier.sources.several import choose
from pannier.storage.opening import open_storage, parted_address
from pannier.store.manifest import Manifest
from pannier.store.manifest_files import SCHEMA
from pannier.store.state import State, is_store, open_store
from pannier.versions.differing import Difference, differences
from pannier.versions.docket import ENDING, Docket

# so many changed pictures are looked at to tell those that were saved anew from others
MOST_LOOKED_AT = 2_000


# kinds of difference, as a reader wants them, where they are no words
IN_WORDS = {"reencoded": "re-encoded", "changed": "another picture"}


@dataclass(frozen=True)
class Side:
    """One of two that are compared: its records, and what it knows of them."""

    name: str
    manifest: Manifest
    snapshot: State | None = None
    source: Source | None = None
    knows_labels: bool = True
    knows_splits: bool = True

    def bytes(self, row: int) -> bytes:
        """A record's picture. Raises PictureError, DamageError."""
        if self.snapshot is not None:
            return self.snapshot.record(row).bytes()
        assert self.source is not None
        (found,) = self._source_rows(np.array([row]))
        return self.source.read(found)

    def hashes(self, rows: Rows) -> list[int]:
        """Perceptual hashes of some pictures; 0 for one that cannot be read, or is all one color."""
        if self.snapshot is not None:
            known: list[int] = self.snapshot.index.likeness(self.manifest.pictures(rows)).tolist()
            return known
        assert self.source is not None
        with Checker(self.source, Checking(usable_cores(), MAX_PIXELS, ReadingOptions().most_bytes)) as checker:
            outcomes = checker.check_all(iter(self._source_rows(rows)))
            return [0 if isinstance(outcome, LeftOut) else outcome.perceptual_hash for outcome in outcomes]

    def _source_rows(self, rows: Rows) -> list[Row]:
        table = self.manifest.take(rows, ["number", "key", "byte_count"])
        return list(map(Row, *(table.column(name).to_pylist() for name in ("number", "key", "byte_count"))))


@dataclass(frozen=True, repr=False)
class Compared(Result):
    """A record that differs: what became of it, and how it was before; drawable on a sheet."""

    key: str
    kind: ChangeKind
    label: str | None
    split: str | None
    label_before: str | None
    split_before: str | None
    key_before: str | None
    _side: Side
    _row: int

    @property
    def headline(self) -> str:
        """In a few words what became of it."""
        if self.kind == "relabelled":
            return f"{self.label_before or 'no label'} \N{RIGHTWARDS ARROW} {self.label or 'no label'}"
        if self.kind == "resplit":
            return f"{self.split_before or 'no split'} \N{RIGHTWARDS ARROW} {self.split or 'no split'}"
        if self.kind == "moved":
            return f"was {self.key_before}"
        return f"{self.kind}: {self.label or 'no label'}"

    def bytes(self) -> bytes:
        """Its picture: as it is after, of one that was removed as it was before."""
        return self._side.bytes(self._row)


@dataclass(frozen=True, eq=False, repr=False)
class Comparison(Result):
    """How `after` differs from `before`. Records are told by key.

    Kinds: added, removed, reencoded (other bytes that look alike), changed (another picture), moved (to another key),
    relabelled, resplit (to another split), columns (side columns). `unknown` is what one of the two says nothing of: labels,
    splits, side columns.
    """

    before: Side
    after: Side
    difference: Difference
    unknown: list[str]

    @property
    def is_same(self) -> bool:
        """Whether records are the same, and classes have the same numbers."""
        return self.difference.is_empty and not self.class_numbers

    @cached_property
    def counts(self) -> dict[str, int]:
        """Records by what became of them; one that was changed and relabelled counts in both."""
        counts, number = self.difference.counts, len(self.reencoded)
        first = {"added": counts["added"], "removed": counts["removed"], "reencoded": number}
        return {**first, **counts, "changed": counts["changed"] - number}

    @property
    def counts_in_words(self) -> dict[str, int]:
        """The same of what there is, in words."""
        return {IN_WORDS.get(kind, kind): number for kind, number in self.counts.items() if number}

    @property
    def class_numbers(self) -> list[tuple[str, int | None, int | None]]:
        """Classes that have another number, or are in one alone: (class, number before, number after)."""
        if self.before.snapshot is None or self.after.snapshot is None:
            return []
        before, after = self.before.snapshot.class_numbers, self.after.snapshot.class_numbers
        names = sorted(before.keys() | after.keys(), key=lambda name: (before.get(name, len(before)), name))
        return [(n, before.get(n), after.get(n)) for n in names if before.get(n) != after.get(n)]

    @cached_property
    def reencoded(self) -> set[str]:
        """Keys whose bytes differ and whose pictures look alike, of the first 2,000 that have other bytes."""
        difference = self.difference
        at = np.flatnonzero(difference.is_other_picture)[:MOST_LOOKED_AT]
        if not len(at):
            return set()
        keys = difference.after.take(difference.rows[at], ["key"]).column(0).to_pylist()
        hashes = zip(self.before.hashes(difference.there[at]), self.after.hashes(difference.rows[at]), strict=True)
        return {
            key
            for key, (old, new) in zip(keys, hashes, strict=True)
            if old and new and (old ^ new).bit_count() <= ALIKE_BITS
        }

    def _repr_html_(self) -> str:
        counts = [(kind, f"{number:,}") for kind, number in self.counts_in_words.items()] or [("records", "none differs")]
        return titled(f"{self.before.name} and {self.after.name}", facts_table(counts))

    def to_dict(self) -> dict[str, Any]:
        """Plain data for JSON; digests in hexadecimal."""
        rows = self.table().to_pylist()
        for row in rows:
            row |= {name: row[name] and row[name].hex() for name in ("sha256_before", "sha256")}
        return {
            "before": self.before.name,
            "after": self.after.name,
            "is_same": self.is_same,
            "counts": self.counts,
            "unknown": self.unknown,
            "class_numbers": [dict(zip(("label", "before", "after"), line, strict=True)) for line in self.class_numbers],
            "records": rows,
        }

    def table(self) -> Any:
        """Every record that differs, in order of keys, as an Arrow table: key, change; label, split, sha256; and before."""
        table = self.difference.table()
        if not self.reencoded:
            return table
        pairs = zip(table.column("key").to_pylist(), table.column("change").to_pylist(), strict=True)
        kinds = ["reencoded" if kind == "changed" and key in self.reencoded else kind for key, kind in pairs]
        return table.set_column(1, "change", pa.array(kinds, pa.string()))

    def records(self, most: int | None = None, *, by_kind: bool = False) -> Iterator[Compared]:
        """The records that differ, in order of keys, `most` of them where that is said; by_kind: the rarest kinds first."""
        table = self.table()
        if by_kind:
            kinds = [kind for kind, _ in Counter(table.column("change").to_pylist()).most_common()][::-1]
            ranks = pc.index_in(table.column("change"), value_set=pa.array(kinds, pa.string()))
            table = table.take(pa.array(np.argsort(ranks.to_numpy(), kind="stable")))
        for row in table.slice(0, most).to_pylist():
            side = self.before if row["change"] == "removed" else self.after
            row_there = side.manifest.find(row["key"], text_hash(row["key"]))
            assert row_there is not None
            before = (row["label_before"], row["split_before"])
            names = (row["label"], row["split"]) if side is self.after else before
            yield Compared(row["key"], row["change"], *names, *before, row["key_before"], side, row_there)


def compare(before: str | Path | State, after: str | Path | State, *, store: str | Path | None = None) -> Comparison:
    """What became of `before` in `after`: each a snapshot, STORE@NAME, a docket's path, or a folder or other source.

    store: where a docket's store is here. Of a folder its files are hashed, and its labels compared where folders give them.
    Between snapshots time is the size of the difference. Raises NotFoundError, UsageError.
    """
    sides = [_side(each, store) for each in (before, after)]
    both = [side.snapshot is not None for side in sides]
    labels = all(side.knows_labels for side in sides)
    splits = all(side.knows_splits for side in sides)
    difference = differences(sides[0].manifest, sides[1].manifest, labels=labels, splits=splits, side=all(both))
    unknown = [
        name for name, is_known in (("labels", labels), ("splits", splits), ("side columns", all(both))) if not is_known
    ]
    return Comparison(sides[0], sides[1], difference, unknown)


def _side(which: str | Path | State, store: str | Path | None) -> Side:
    if isinstance(which, State):
        return Side(f"{which.storage.address}@{which.id[:12]}", which.manifest, which)
    path = Path(which)
    if path.is_file() and path.name.endswith(ENDING):
        state = Docket.read(path).open(store, beside=path.parent)
        return Side(str(which), state.manifest, state)
    address, name = parted_address(str(which))
    if path.exists() and not is_store(open_storage(path)):
        return _side_of_source(str(which))
    if not path.exists() and not open_storage(address).is_there():
        raise UsageError(f"{which} is no store, folder or docket that is there")
    state = open_store(address).state(name)
    return Side(str(which), state.manifest, state)


def _side_of_source(which: str) -> Side:
    """A folder, or another source that gives labels by itself, hashed."""
    source = as_source(which)
    knows_labels = not getattr(source, "is_flat", False)
    chosen = choose(source, Rules())
    rows = list(chosen.rows(source))
    with ThreadPoolExecutor(usable_cores(), thread_name_prefix="pannier-compare") as pool:
        digests = list(pool.map(lambda row: _digest(source, row), rows))
    kept = np.array([i for i, digest in enumerate(digests) if digest is not None], np.int64)
    chosen = chosen.take(kept)
    keys = chosen.keys.to_pylist()
    hashes = np.fromiter(map(text_hash, keys), np.uint64, len(keys))
    count = len(keys)
    named = to_digests(digest for digest in digests if digest is not None)
    sizes = [row.byte_count for row in rows]
    columns: dict[str, Any] = {
        "byte_count": pa.array([sizes[i] for i in kept.tolist()], pa.int64()),
        "hash": pa.array(hashes),
        "key": chosen.keys.cast(pa.large_string()),
        "label": chosen.labels.to_arrow(),
        "split": chosen.splits.to_arrow(),
        "sha256": pa.FixedSizeBinaryArray.from_buffers(pa.binary(32), count, [None, pa.py_buffer(named.tobytes())]),
    }
    whole = [columns[field.name] if field.name in columns else _nothing(field, count) for field in SCHEMA]
    table = pa.table(whole, names=SCHEMA.names).cast(SCHEMA)
    table = table.append_column("number", pa.array(chosen.numbers))
    table = table.take(pa.array(order_by_hash(hashes, table.column("key"))))
    splits = bool(source.fixed_splits)
    return Side(which, Manifest(table, None, {}), None, source, knows_labels, splits)


def _nothing(field: Any, count: int) -> Any:
    """A column of a manifest of which nothing is known."""
    if pa.types.is_dictionary(field.type):
        return pa.array([""] * count, pa.string()).dictionary_encode()
    return pa.array(np.zeros(count, np.uint8)).cast(field.type)


def _digest(source: Source, row: Row) -> bytes | None:
    try:
        return hashlib.sha256(source.read(row)).digest()
    except PictureError:
        return None
