"""Two sides: strands that have moved apart are brought together by key, column by column, from where they parted."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any, NamedTuple, TypeVar

import numpy as np
import pyarrow as pa

from pannier.choices import Side, checked_choice
from pannier.columns import NAMES, NameColumn, order_by_hash
from pannier.dealing.shares import Dealing
from pannier.errors import SourceError, UsageError
from pannier.packing.commit import Proposal, commit
from pannier.packing.doubts import Doubt, doubts_in
from pannier.packing.grouping import settle
from pannier.packing.revision import Revision
from pannier.results import Result, plain
from pannier.sources.rows import LeftOut
from pannier.sources.table_files import read_table
from pannier.sources.tables import table_from
from pannier.store.leases import WRITER, holding
from pannier.store.manifest import Manifest, rows_there
from pannier.store.manifest_files import FACTS, SCHEMA, SOURCE_SAID
from pannier.store.names import FIRST_STRAND, checked_name
from pannier.store.state import OpenedStore, State, ancestors, miniatures_of
from pannier.versions.differing import differences
from pannier.versions.naming import start_strand

T = TypeVar("T")
_Row = dict[str, Any]
# one for all, since no number that is none equals another
_NAN = float("nan")
# what a conflict about a whole record is called: one side removed it, the other changed it
RECORD, PICTURE = "record", "picture"


class SideConflict(NamedTuple):
    """What both sides changed, and not alike: of a record a column, its picture, or whether it is there."""

    key: str
    column: str
    base: Any
    ours: Any
    theirs: Any

    def to_dict(self) -> dict[str, Any]:
        """Plain data for JSON."""
        return self._asdict()


@dataclass(frozen=True, kw_only=True)
class MergeOptions:
    """theirs: a strand, a tag or a snapshot that the strand takes in. strand: ours, which goes on.

    decided: the table of conflicts with a column `take` filled in, ours or theirs (a path, a data frame or dicts). prefer:
    ours or theirs, for all conflicts that it leaves open. preview: nothing is written.
    """

    theirs: str = field(kw_only=False)
    strand: str = FIRST_STRAND
    decided: Any | None = None
    prefer: Side | None = None
    note: str = ""
    preview: bool = False


@dataclass(kw_only=True, eq=False, repr=False)
class MergeResult(Result):
    """What bringing two strands together did, or would do. `changes` are lists [kind, label, split, records], upon ours.

    `conflicts` are those that nobody decided: while there are any, nothing is written. `base` is the snapshot from which
    both come, None where they share none.
    """

    state: State
    is_new: bool = False
    base: str | None = None
    changes: list[list[Any]] = field(default_factory=list)
    conflicts: list[SideConflict] = field(default_factory=list)
    left_out: list[LeftOut] = field(default_factory=list)
    doubts: list[Doubt] = field(default_factory=list)

    def conflict_table(self) -> Any:
        """The conflicts as an Arrow table to fill in: key, column, base, ours, theirs, and `take`, which is empty."""
        names = ("key", "column", "base", "ours", "theirs")
        texts = {name: [_shown(getattr(each, name)) for each in self.conflicts] for name in names}
        return pa.table(
            {
                name: pa.array(values, pa.string())
                for name, values in (texts | {"take": [None] * len(self.conflicts)}).items()
            }
        )

    def to_dict(self) -> dict[str, Any]:
        """Plain data for JSON."""
        return {
            "snapshot": self.state.id,
            "is_new": self.is_new,
            "base": self.base,
            "changes": [dict(zip(("kind", "label", "split", "records"), row, strict=True)) for row in self.changes],
            "conflicts": plain(self.conflicts),
            "left_out": [item._asdict() for item in self.left_out],
            "doubts": plain(self.doubts),
        }


def merge(store: OpenedStore, options: MergeOptions) -> MergeResult:
    """Brings what theirs has changed into our strand. What one side changed is taken, what both changed alike once.

    What they changed differently is a conflict; nothing is written before each is decided. Both stay parents of the new
    snapshot. Raises SourceError where splits would leak, UsageError, NotFoundError.
    """
    checked_name(options.strand)
    if options.prefer is not None:
        checked_choice("prefer", options.prefer, Side)
    theirs, head = store.state(options.theirs), store.state(options.strand)
    if head.id in dict(ancestors(store.storage, theirs.id)) and head.id != theirs.id:
        if not options.preview:
            start_strand(store, options.strand, options.theirs, note=options.note)
        changes = differences(head.manifest, theirs.manifest).change_counts()
        state, is_new = (head, False) if options.preview else (theirs, True)
        return MergeResult(state=state, is_new=is_new, base=head.id, changes=changes)
    meeting = _Meeting(store, theirs, options)
    if options.preview:
        proposal = meeting.propose(head)
        if proposal is not None:
            meeting.result.changes = differences(head.manifest, proposal.upon(head.manifest)).change_counts()
        return meeting.result
    with holding(store.storage, WRITER):
        made, is_new, _ = commit(store, options.strand, meeting.propose)
    assert made is not None
    result = meeting.result
    result.state, result.is_new, result.changes = made, is_new, made.document["changes"] if is_new else []
    return result


class _Meeting:
    """Theirs, to be laid upon whatever our strand's head is at its turn."""

    def __init__(self, store: OpenedStore, theirs: State, options: MergeOptions) -> None:
        self._store, self._theirs, self._options = store, theirs, options
        self._decided = _read_decided(options.decided)
        self.result: MergeResult

    def propose(self, parent: State | None) -> Proposal | None:
        assert parent is not None
        theirs, base = self._theirs, _where_they_parted(self._store, parent, self._theirs)
        self.result = MergeResult(state=parent, base=None if base is None else base.id)
        if base is not None and base.id == theirs.id:
            return None
        before = base.manifest if base is not None else Manifest.empty()
        revision = self._revision(before, parent.manifest, theirs.manifest)
        if self.result.conflicts:
            return None
        parted = Dealing() if base is None else base.dealing
        dealing = _three_ways(parted, parent.dealing, theirs.dealing)
        if not revision.is_empty:
            acting = dealing.acting(parent.dealing, parent.splits)
            revision = settle(revision, parent.counts, acting, miniatures_of(parent)).revision
        self.result.left_out, self.result.doubts = revision.left_out, doubts_in(revision, parent.classes)
        recipes = {(tuple(each["source"]), each.get("prefix")): each for each in [*theirs.recipes, *parent.recipes]}
        name, description = (
            _three_ways("" if base is None else getattr(base, about), getattr(parent, about), getattr(theirs, about))
            for about in ("name", "description")
        )
        return Proposal(
            revision.changes(),
            dealing=dealing,
            left_out=revision.left_out,
            note=self._options.note or f"with {self._options.theirs}",
            name=name,
            description=description,
            recipes=list(recipes.values()),
            second=theirs.id,
        )

    def _revision(self, base: Manifest, ours: Manifest, theirs: Manifest) -> Revision:
        """What theirs changed since they parted, as rows upon ours; conflicts that nobody decided go into the result."""
        touched = differences(base, theirs, by_key=True)
        before = _rows(base, touched.there) | _rows(base, touched.gone)
        after = _rows(theirs, touched.rows) | _rows(theirs, touched.added)
        keys = sorted({*before, *after}, key=lambda key: key.encode())
        hashes = pa.array([(after.get(key) or before[key])["hash"] for key in keys], pa.uint64())
        there = rows_there(ours, pa.table({"hash": hashes, "key": pa.array(keys, pa.large_string())}))
        own = dict(zip((keys[at] for at in np.flatnonzero(there >= 0)), _listed(ours, there[there >= 0]), strict=True))
        taken, rows, gone = [], [], []
        for key, row in zip(keys, there.tolist(), strict=True):
            result = self._merged(key, before.get(key), own.get(key), after.get(key))
            if result == own.get(key):
                continue
            if result is None:
                gone.append(row)
            else:
                taken.append(result)
                rows.append(row)
        return _as_revision(ours, theirs, taken, rows, gone)

    def _merged(self, key: str, base: _Row | None, ours: _Row | None, theirs: _Row | None) -> _Row | None:
        """One record from both sides."""
        if ours in (base, theirs):
            return theirs
        if ours is None or theirs is None:
            told = [None if row is None else "there" for row in (base, ours, theirs)]
            return ours if self._take(SideConflict(key, RECORD, *told)) == "ours" else theirs
        known = base or {}
        result = ours | {SOURCE_SAID.name: _three_ways(*(row.get(SOURCE_SAID.name) for row in (known, ours, theirs)))}
        facts = {*FACTS, "hash", "key", SOURCE_SAID.name}
        for column in sorted({*ours, *theirs} - facts):
            values = [row.get(column) for row in (known, ours, theirs)]
            result[column] = values[2 if self._takes_theirs(key, column, values) else 1]
        pictures = [row["sha256"].hex() if row else None for row in (base, ours, theirs)]
        side = theirs if self._takes_theirs(key, PICTURE, pictures) else ours
        return result | {name: side[name] for name in FACTS}

    def _takes_theirs(self, key: str, column: str, values: Sequence[Any]) -> bool:
        base, ours, theirs = values
        if ours in (base, theirs) or theirs in (base,):
            return ours in (base,)
        return self._take(SideConflict(key, column, base, ours, theirs)) == "theirs"

    def _take(self, conflict: SideConflict) -> Side:
        decided = self._decided.get((conflict.key, conflict.column), self._options.prefer)
        if decided is None:
            self.result.conflicts.append(conflict)
        return decided or "ours"


def _where_they_parted(store: OpenedStore, ours: State, theirs: State) -> State | None:
    """The newest snapshot from which both come; None where they share none."""
    own = dict(ancestors(store.storage, ours.id))
    shared = {each: document for each, document in ancestors(store.storage, theirs.id) if each in own}
    older = {parent for document in shared.values() for parent in document["parents"]}
    newest = max(shared.keys() - older, key=lambda each: (shared[each]["time"], each), default=None)
    return None if newest is None else store.state_of(newest)


def _three_ways(base: T, ours: T, theirs: T) -> T:
    """Ours, unless theirs alone has changed it."""
    return theirs if ours in (base,) else ours


def _listed(manifest: Manifest, rows: Any) -> list[_Row]:
    """Rows as dicts, without what is NULL in side columns, so that a column that is not there is as one that is empty."""
    listed: list[_Row] = manifest.take(rows).to_pylist()
    return [
        {name: _NAN if value != value else value for name, value in row.items() if value is not None or name in SCHEMA.names}
        for row in listed
    ]


def _rows(manifest: Manifest, rows: Any) -> dict[str, _Row]:
    return {row["key"]: row for row in _listed(manifest, rows)}


def _as_revision(ours: Manifest, theirs: Manifest, taken: list[_Row], rows: list[int], gone: list[int]) -> Revision:
    columns = [_column(field.type, [row[field.name] for row in taken]) for field in SCHEMA]
    table = pa.table(columns, names=SCHEMA.names)
    for name in sorted({*ours.side_columns, *theirs.side_columns}):
        kinds = [kind for kind in (ours.side_type(name), theirs.side_type(name)) if kind is not None]
        if len({*kinds}) > 1:
            raise SourceError(f"side column {name!r} holds {kinds[0]} in ours and {kinds[1]} in theirs: cast one of them")
        table = table.append_column(name, pa.array([row.get(name) for row in taken], kinds[0]))
    if ours.notes_corrections or theirs.notes_corrections:
        table = table.append_column(SOURCE_SAID, pa.array([row.get(SOURCE_SAID.name) for row in taken], SOURCE_SAID.type))
    order = order_by_hash(table.column("hash").to_numpy(), table.column("key"))
    table, there = table.take(pa.array(order)), np.array(rows, np.int64)[order]
    labels, splits = (NameColumn.of(table.column(name)) for name in ("label", "split"))
    all_of_it = np.ones(len(table), bool)
    return Revision(ours, table, there, all_of_it, labels, splits, np.array(gone, np.int64), side_is_whole=True)


def _column(kind: Any, values: list[Any]) -> Any:
    return NameColumn.of(pa.array(values, pa.string())).to_arrow() if kind == NAMES else pa.array(values, kind)


def _read_decided(source: Any | None) -> Mapping[tuple[str, str], Side]:
    """By key and column which side is taken; rows where `take` is empty say nothing. Raises UsageError."""
    if source is None:
        return {}
    is_file = isinstance(source, (str, Path))
    table = (read_table(Path(source)) if is_file else table_from(source)).table
    missing = [name for name in ("key", "column", "take") if name not in table.column_names]
    if missing:
        raise UsageError(f"`decided` {source if is_file else 'table'}: it has no column {missing[0]!r}")
    decided: dict[tuple[str, str], Side] = {}
    for row in table.select(["key", "column", "take"]).to_pylist():
        if row["take"] is not None:
            decided[row["key"], row["column"]] = checked_choice("take", row["take"], Side)
    return decided


def _shown(value: Any) -> str | None:
    return None if value is None else str(value)
