"""Three ways: what a source said last, what was corrected here since, and what the source says now. Column by column.

A record that was corrected says so in the column `source_said`: what the source said of each column that was corrected.
"""

from __future__ import annotations

import json
from collections.abc import Iterable
from dataclasses import dataclass
from typing import Any, NamedTuple

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from pannier.array_types import Flags
from pannier.choices import Relabel
from pannier.columns import Rows
from pannier.store.manifest import Manifest
from pannier.store.manifest_files import SOURCE_SAID


class Conflict(NamedTuple):
    """A record that was corrected here, and of which the source says something else than before, too."""

    key: str
    column: str
    said_before: Any
    in_source: Any
    here: Any

    def to_dict(self) -> dict[str, Any]:
        """Plain data for JSON."""
        return self._asdict()


def there_in(manifest: Manifest, there: Rows, name: str, kind: Any | None = None) -> Any:
    """A column of a manifest for rows of which some are not there (-1); NULL for those, and where it has none."""
    is_there = there >= 0
    known = ("label", "split", *manifest.side_columns, *([SOURCE_SAID.name] if manifest.notes_corrections else []))
    if name not in known:
        return pa.nulls(len(there), kind or pa.string())
    values = manifest.take(there[is_there], [name]).column(0).combine_chunks()
    values = values.cast(pa.string()) if pa.types.is_dictionary(values.type) else values
    return values.take(pa.array(np.cumsum(is_there) - 1, mask=~is_there))


def alike(one: Any, other: Any) -> Flags:
    """Where two columns say the same: NULL is NULL, and no number no number."""
    same = pc.or_(pc.fill_null(pc.equal(one, other), False), pc.and_(pc.is_null(one), pc.is_null(other)))
    if pa.types.is_floating(one.type):
        same = pc.or_(same, pc.fill_null(pc.and_(pc.is_nan(one), pc.is_nan(other)), False))
    flags: Flags = same.to_numpy(zero_copy_only=False).astype(bool)
    return flags


class Corrections:
    """Which columns of some records were corrected, as a manifest notes it; marks are set and taken off column by column.

    A source of which the records are not takes nothing back where it agrees with a correction: `end_by_agreement` False.
    """

    def __init__(self, manifest: Manifest, there: Rows, *, end_by_agreement: bool = True) -> None:
        self.end_by_agreement = end_by_agreement
        self._count, self._notes_any = len(there), manifest.notes_corrections
        noted = there_in(manifest, there, SOURCE_SAID.name).dictionary_encode()
        parsed: list[dict[str, str | None]] = [json.loads(text) for text in noted.dictionary.to_pylist()]
        codes = pc.fill_null(noted.indices, len(parsed)).to_numpy(zero_copy_only=False)
        self._marks: dict[str, Flags] = {}
        self._said: dict[str, Any] = {}
        for name in sorted({name for each in parsed for name in each}):
            self._marks[name] = np.array([name in each for each in (*parsed, {})], bool)[codes]
            texts = pa.array([each.get(name) for each in (*parsed, {})], pa.string())
            self._said[name] = texts.take(pa.array(codes))

    def is_marked(self, column: str) -> Flags:
        none: Flags = np.zeros(self._count, bool)
        return self._marks.get(column, none)

    def said(self, column: str, here: Any) -> Any:
        """What the source said last: of what was corrected as it is noted, of the rest as it is here."""
        if column not in self._said:
            return here
        return pc.if_else(pa.array(self._marks[column]), _from_texts(self._said[column], here.type), here)

    def note(self, column: str, is_marked: Flags, said: Any) -> None:
        """The rows whose column differs from what the source said, and what that was."""
        self._marks[column] = is_marked
        self._said[column] = _as_texts(said)

    def noted(self) -> dict[str, Any]:
        """The column that notes them by its name; none where nothing was ever corrected."""
        marked = [name for name in sorted(self._marks) if self._marks[name].any()]
        if not marked and not self._notes_any:
            return {}
        texts: list[str | None] = [None] * self._count
        rows = np.flatnonzero(np.any([self._marks[name] for name in marked], axis=0)) if marked else np.empty(0, np.int64)
        said = {name: self._said[name].take(pa.array(rows)).to_pylist() for name in marked}
        marks = {name: self._marks[name][rows].tolist() for name in marked}
        for at, row in enumerate(rows.tolist()):
            told = {name: said[name][at] for name in marked if marks[name][at]}
            texts[row] = json.dumps(told, ensure_ascii=False, separators=(",", ":"))
        return {SOURCE_SAID.name: pa.array(texts, SOURCE_SAID.type)}


def _as_texts(values: Any) -> Any:
    """Values of any side column's type as text."""
    if pa.types.is_binary(values.type) or pa.types.is_large_binary(values.type):
        return pa.array([None if each is None else each.hex() for each in values.to_pylist()], pa.string())
    return values.cast(pa.string())


def _from_texts(texts: Any, kind: Any) -> Any:
    if pa.types.is_binary(kind) or pa.types.is_large_binary(kind):
        return pa.array([None if each is None else bytes.fromhex(each) for each in texts.to_pylist()], kind)
    return texts.cast(kind)


@dataclass(frozen=True)
class Decided:
    """One column of incoming records: its values to be, where that is the source's, where both have changed it."""

    values: Any
    takes: Flags
    is_conflict: Flags
    said: Any


def decide(
    column: str, source: Any, here: Any, corrections: Corrections, is_fresh: Flags, says: Flags, relabel: Relabel | None
) -> Decided:
    """What becomes of a column of records: the source's where it alone has changed, what is here where that was corrected.

    is_fresh: records that are new, or have another picture: the source's, whatever was here. says: where the source says
    anything. relabel: whose word goes where both have changed it; the source's undoes corrections too. Notes what stays.
    """
    is_marked, said = corrections.is_marked(column), corrections.said(column, here)
    agrees, as_before = alike(source, here), alike(source, said)
    is_conflict = says & ~is_fresh & is_marked & ~as_before & ~agrees
    takes = says & (is_fresh | (~as_before & ~is_marked))
    stays_marked = is_marked & ~is_fresh & ~(says & agrees & corrections.end_by_agreement)
    if relabel == "source":
        takes, stays_marked = says & (is_fresh | ~agrees), stays_marked & ~says
        is_conflict = np.zeros_like(is_conflict)
    if relabel == "store":
        said = pc.if_else(pa.array(is_conflict), source, said)
        is_conflict = np.zeros_like(is_conflict)
    corrections.note(column, stays_marked, said)
    return Decided(pc.if_else(pa.array(takes), source, here), takes & ~agrees, is_conflict, said)


def mark_corrected(manifest: Manifest, there: Rows, after: Iterable[tuple[str, Any]]) -> dict[str, Any]:
    """The column that notes what a change corrects: `after` are columns as they become, for records of a manifest.

    What becomes again what the source said is corrected no more.
    """
    corrections = Corrections(manifest, there)
    for column, values in after:
        here = there_in(manifest, there, column, values.type)
        said = corrections.said(column, here)
        is_changed = ~alike(values, here)
        corrections.note(column, (corrections.is_marked(column) | is_changed) & ~alike(values, said), said)
    return corrections.noted()
