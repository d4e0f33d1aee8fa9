"""Three ways: what a source said last, what was corrected here since, and what the source says now. Column by column.

A record that was corrected says so in side columns of its own: `corrected` names the columns, "label,loom", and
`label_in_source` holds what the source said of it.
"""

from __future__ import annotations

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

CORRECTED = "corrected"
IN_SOURCE = "_in_source"


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


def tells_corrections(name: str) -> bool:
    """Whether a column is one of those in which corrections are noted."""
    return name == CORRECTED or name.endswith(IN_SOURCE)


def there_in(manifest: Manifest, there: Rows, name: str, kind: Any | None = None) -> Any:
    """A column of a manifest for rows of which some are not there (-1); NULL for those, and where it has none."""
    is_there = there >= 0
    if name not in ("label", "split", *manifest.side_columns):
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
    """Which columns of some records were corrected, as a manifest notes it; marks are set and taken off column by column."""

    def __init__(self, manifest: Manifest, there: Rows) -> None:
        self._manifest, self._there = manifest, there
        noted = there_in(manifest, there, CORRECTED)
        names = {name for text in pc.unique(noted).to_pylist() if text for name in text.split(",")}
        parted = [set((text or "").split(",")) for text in noted.to_pylist()] if names else []
        self._marks = {name: np.array([name in each for each in parted], bool) for name in names}
        self._said: dict[str, Any] = {}

    def is_marked(self, column: str) -> Flags:
        none: Flags = np.zeros(len(self._there), bool)
        return self._marks.get(column, none)

    def said(self, column: str, here: Any) -> Any:
        """What the source said last: of what was corrected as it is noted, of the rest as it is here."""
        noted = there_in(self._manifest, self._there, column + IN_SOURCE, here.type)
        return pc.if_else(pa.array(self.is_marked(column)), noted.cast(here.type), here)

    def note(self, column: str, is_marked: Flags, said: Any) -> None:
        """The rows whose column differs from what the source said, and what that was."""
        self._marks[column] = is_marked
        self._said[column] = pc.if_else(pa.array(is_marked), said, pa.scalar(None, said.type))

    def columns(self) -> dict[str, Any]:
        """The side columns that note them, of those columns that anything was noted of."""
        marked = [name for name in sorted(self._marks) if self._marks[name].any()]
        texts: list[str | None] = [None] * len(self._there)
        for row in np.flatnonzero(np.any([self._marks[name] for name in marked], axis=0)) if marked else ():
            texts[row] = ",".join(name for name in marked if self._marks[name][row])
        noted = {name + IN_SOURCE: said for name, said in self._said.items()}
        noted = {
            name: said for name, said in noted.items() if name in self._manifest.side_columns or said.null_count < len(said)
        }
        if not marked and CORRECTED not in self._manifest.side_columns:
            return noted
        return {CORRECTED: pa.array(texts, pa.string()), **noted}


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
    stays_marked = is_marked & ~is_fresh & ~(says & agrees)
    if relabel == "source":
        takes, stays_marked = says & (is_fresh | ~agrees), stays_marked & ~says
        is_conflict = np.zeros_like(is_conflict)
    if relabel == "store":
        said = pc.if_else(pa.array(is_conflict), source, said)
        is_conflict = np.zeros_like(is_conflict)
    corrections.note(column, stays_marked, said)
    return Decided(pc.if_else(pa.array(takes), source, here), takes & ~agrees, is_conflict, said)


def mark_corrected(manifest: Manifest, there: Rows, after: Iterable[tuple[str, Any]]) -> dict[str, Any]:
    """The side columns that note what a change corrects: `after` are columns as they become, for records of a manifest.

    What becomes again what the source said is corrected no more.
    """
    corrections = Corrections(manifest, there)
    for column, values in after:
        here = there_in(manifest, there, column, values.type)
        said = corrections.said(column, here)
        is_changed = ~alike(values, here)
        corrections.note(column, (corrections.is_marked(column) | is_changed) & ~alike(values, said), said)
    return corrections.columns()
