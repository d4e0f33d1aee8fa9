"""Changing: labels, splits, side columns and members of what is there, as a new snapshot. No shard is touched."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, fields, replace
from typing import Any, Protocol

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from pannier.array_types import Flags
from pannier.columns import NameColumn, Rows, all_names, differs
from pannier.dealing.shares import Dealing, DealingOptions, SaidDealing, split_given
from pannier.errors import UsageError, did_you_mean
from pannier.packing.commit import Proposal, commit
from pannier.packing.corrections import CHANGEABLE, Corrections, check_classes
from pannier.packing.doubts import Doubt, doubts_in
from pannier.packing.grouping import Settled, settle
from pannier.packing.revision import Revision
from pannier.packing.three_way import mark_corrected
from pannier.packing.unlike import unlike_pairs
from pannier.results import Result, plain
from pannier.sources.rows import LeftOut
from pannier.sources.rules import GROUP, groups_by, read_rename
from pannier.sources.table_files import Nulls
from pannier.store.facts import Fact, plain_value, read_facts
from pannier.store.leases import WRITER, holding
from pannier.store.manifest import rows_there
from pannier.store.manifest_files import COLUMNS, SOURCE_SAID
from pannier.store.names import FIRST_STRAND, checked_name
from pannier.store.records import rows_where
from pannier.store.state import OpenedStore, State, miniatures_of
from pannier.versions.differing import differences

FIRST_ROWS = 20


@dataclass(frozen=True, kw_only=True)
class ChangeOptions(DealingOptions):
    """What is to be changed.

    from_: a table (a path, a data frame, Arrow or dicts) of rows by `key`, or without it by `sha256` or a column that tells
    records by path, name or stem: `label`, `split` and any side columns. An empty cell changes nothing, and columns that
    follow from the rest (number, file, width ...) are not read. key_column: which column holds the keys. null: cells that
    mean nothing, "NULL,n/a". new_classes: labels may be no classes yet.
    where: SQL over the records' columns, says which records the rest is for. set: a value for label, split or a side column,
    e.g. {"label": "satin"} or "label=satin"; None or NULL is none. all: `set` is for every record, which must be said where
    neither `where` nor `from_` says which. remove: those records go. rename:
    classes that are called otherwise. shares, seed, counts, carve, of, folds, group_by, near, freeze, allow_leaks: see
    `Dealing`; what deals, deals all anew but frozen splits. as_of: an older snapshot, whose content the new one gets; goes
    alone. facts: keys and values, e.g. {"reason": "second look"}. preview: nothing is written.
    """

    from_: Any | None = None
    key_column: str = "key"
    null: Nulls = ()
    new_classes: bool = False
    where: str | None = None
    set: Mapping[str, Any] | str | Sequence[str] | None = None
    all: bool = False
    remove: bool = False
    rename: str | Mapping[str, str] | Sequence[str] | None = None
    note: str = ""
    name: str | None = None
    description: str | None = None
    facts: Mapping[str, Fact] | str | Sequence[str] | None = None
    unlike: Any = None
    as_of: str | None = None
    strand: str = FIRST_STRAND
    preview: bool = False

    def check_as_of(self) -> None:
        """Raises UsageError where something is said beside it."""
        beside = ("note", "facts", "as_of", "strand", "preview")
        said = (each.name for each in fields(self) if each.name not in beside and getattr(self, each.name) != each.default)
        also = next(said, None)
        if also:
            raise UsageError(f"`as_of` brings all of an old snapshot back and goes alone, without `{also}`")


@dataclass(kw_only=True, eq=False, repr=False)
class ChangeResult(Result):
    """What a change did, or would do. `changes` are lists [kind, label, split, records]; `first` the first records that
    change, each (key, label before, label after, split before, split after), None after for one that is removed.

    `unknown` are keys of the table that no record has, `not_read` its columns that follow from the rest, `notes` say how its
    rows were told where that was not by key. `state` is the
    strand's newest, `is_new` whether it was made now.
    """

    state: State
    is_new: bool = False
    selected: int = 0
    changes: list[list[Any]] = field(default_factory=list)
    first: list[tuple[str, str | None, str | None, str | None, str | None]] = field(default_factory=list)
    unknown: list[str] = field(default_factory=list)
    not_read: list[str] = field(default_factory=list)
    notes: list[str] = field(default_factory=list)
    left_out: list[LeftOut] = field(default_factory=list)
    doubts: list[Doubt] = field(default_factory=list)
    deviation: dict[str | None, int] = field(default_factory=dict)
    tied: dict[str | None, tuple[str, int]] = field(default_factory=dict)

    def to_dict(self) -> dict[str, Any]:
        """Plain data for JSON."""
        names = ("key", "label_before", "label", "split_before", "split")
        return {
            "snapshot": self.state.id,
            "is_new": self.is_new,
            "selected": self.selected,
            "changes": [dict(zip(("kind", "label", "split", "records"), row, strict=True)) for row in self.changes],
            "first": [dict(zip(names, row, strict=True)) for row in self.first],
            "unknown": self.unknown,
            "not_read": self.not_read,
            "notes": self.notes,
            "doubts": plain(self.doubts),
            "left_out": [item._asdict() for item in self.left_out],
        }


def change(store: OpenedStore, options: ChangeOptions) -> ChangeResult:
    """Makes the next snapshot of a strand out of its newest. Raises UsageError, SourceError where splits would leak."""
    checked_name(options.strand)
    if options.as_of is not None:
        options.check_as_of()
        old = store.state(options.as_of)
        proposing: _Proposing = _Returning(old, options)
    else:
        proposing = _Changing(_Said.of(options))
    head = store.state(options.strand)
    if options.preview:
        proposal = proposing.propose(head)
        if proposal is not None:
            proposing.result.changes = differences(head.manifest, proposal.upon(head.manifest)).change_counts()
        return proposing.result
    with holding(store.storage, WRITER):
        state, is_new, _ = commit(store, options.strand, proposing.propose)
    assert state is not None
    result = proposing.result
    result.state, result.is_new, result.changes = state, is_new, state.document["changes"] if is_new else []
    return result


class _Proposing(Protocol):
    result: ChangeResult

    def propose(self, parent: State | None) -> Proposal | None: ...


class _Returning:
    """Going back: a new snapshot with the content of an old one, and its way of dealing. Nothing in history is rewritten."""

    def __init__(self, old: State, options: ChangeOptions) -> None:
        self._old, self._options = old, options
        self.result = ChangeResult(state=old)

    def propose(self, parent: State | None) -> Proposal | None:
        assert parent is not None
        old, result = self._old, self.result
        result.state, result.selected = parent, len(old)
        if differences(parent.manifest, old.manifest).is_empty:
            return None
        return Proposal(
            changes=None,
            content=old.manifest,
            note=self._options.note or f"as of {self._options.as_of}",
            name=old.name,
            description=old.description,
            dealing=old.dealing,
            facts=read_facts(self._options.facts),
        )


@dataclass(frozen=True)
class _Said:
    """What is to be changed, read."""

    corrections: Corrections | None
    where: str | None
    values: dict[str, Any]
    remove: bool
    rename: dict[str, str]
    dealing: SaidDealing
    about: dict[str, Any]
    new_classes: bool
    unlike: Any
    is_for_all: bool

    @staticmethod
    def of(options: ChangeOptions) -> _Said:
        about: dict[str, Any] = {"note": options.note, "name": options.name, "description": options.description}
        about["facts"] = read_facts(options.facts)
        source, values, rename = options.from_, _read_set(options.set), read_rename(options.rename)
        corrections = None if source is None else Corrections.read(source, options.key_column, options.null)
        which, dealing = (corrections, options.where, values, options.remove, rename), options.read_dealing()
        said = _Said(*which, dealing, about, options.new_classes, options.unlike, options.all)
        said.check()
        return said

    @property
    def is_about_all(self) -> bool:
        """Whether it concerns every record's split, also those of records that are not chosen."""
        return self.dealing.deals or self.dealing.group_by is not None or self.dealing.near is not None

    @property
    def columns(self) -> set[str]:
        """The columns that it gives values."""
        return {*self.values, *(self.corrections.table.column_names if self.corrections is not None else ())}

    def check(self) -> None:
        frozen = self.dealing.freeze or self.dealing.thaw
        about = self.about["name"] is not None or self.about["description"] is not None or self.unlike is not None
        if self.remove and (self.values or self.rename):
            raise UsageError("`remove` goes alone: what is removed has no label to set")
        if self.remove and self.where is None and self.corrections is None:
            raise UsageError("`remove`: say which records with `where` or `from_`")
        is_for_all = self.where is None and self.corrections is None
        if self.values and is_for_all != self.is_for_all:
            if is_for_all:
                first = next(iter(self.values))
                what = f"`set` {first}=... without `where` or `from_` would change every record"
                raise UsageError(f"{what}: say which with `where`, or `all` where that is meant", argument="all")
            raise UsageError("`all` and `where` or `from_` say two things: leave one of them out")
        if self.is_for_all and not self.values:
            raise UsageError("`all` goes with `set`: every record gets that value")
        if not (
            self.corrections is not None or self.values or self.remove or self.rename or frozen or about or self.is_about_all
        ):
            raise UsageError("say what to change: `from_` TABLE, `set` label=..., `remove`, `rename` old=new, or `shares`")


class _Changing:
    """What was said, done to whatever the strand's head is when it is its turn."""

    def __init__(self, said: _Said) -> None:
        self._said = said
        self.result: ChangeResult

    def propose(self, parent: State | None) -> Proposal | None:
        assert parent is not None
        said, manifest = self._said, parent.manifest
        if said.corrections is not None:
            said = replace(said, corrections=said.corrections.told(parent))
        dealing = said.dealing.upon(parent.dealing)
        if said.unlike is not None:
            dealing = replace(dealing, unlike=unlike_pairs(said.unlike, parent))
        revision, unknown, selected = _revised(parent, said)
        if said.is_about_all:
            rest = np.setdiff1d(np.arange(len(manifest)), np.concatenate([revision.there, revision.gone]))
            revision = revision.with_records(rest)
        if said.dealing.group_by is not None:
            groups = groups_by(_for_sql(revision.table), said.dealing.group_by)
            _set_side(revision, GROUP, groups, np.ones(len(revision), bool))
        settled = Settled(revision, {}, {})
        if not revision.is_empty and self._concerns_splits(revision, dealing):
            acting = dealing.acting(parent.dealing, parent.splits)
            settled = settle(revision, parent.counts, acting, miniatures_of(parent), anew=said.dealing.deals)
            revision = settled.revision
        is_changed = differs(revision.before("label"), revision.labels) | differs(revision.before("split"), revision.splits)
        revision = _marked(revision.only(is_changed | revision.takes_side))
        self.result = ChangeResult(
            state=parent,
            selected=selected,
            first=_first(revision),
            unknown=unknown,
            not_read=[] if said.corrections is None else said.corrections.derived(manifest),
            notes=[said.corrections.note] if said.corrections is not None and said.corrections.note else [],
            left_out=revision.left_out,
            doubts=doubts_in(revision, parent.classes),
            deviation=settled.deviation,
            tied=settled.tied,
        )
        if revision.is_empty and dealing == parent.dealing and not self._renames(parent):
            return None
        return Proposal(revision.changes(), dealing=dealing, left_out=revision.left_out, **said.about)

    def _concerns_splits(self, revision: Revision, dealing: Dealing) -> bool:
        """Whether records could come to lie in other splits, or tie splits together; new labels alone do not."""
        if self._said.is_about_all or len(revision.gone) or GROUP in self._said.columns:
            return True
        codes, _ = revision.manifest.codes("split")
        is_undealt = dealing.deals and bool((codes < 0).any())
        return is_undealt or bool(differs(revision.before("split"), revision.splits).any())

    def _renames(self, parent: State) -> bool:
        return any(self._said.about[field] not in (None, getattr(parent, field)) for field in ("name", "description"))


def _revised(parent: State, said: _Said) -> tuple[Revision, list[str], int]:
    """The records that what was said changes, keys of the table that none has, and how many records it was for."""
    manifest = parent.manifest
    chosen: Flags = np.ones(len(manifest), bool)
    if said.where is not None:
        chosen = np.zeros(len(manifest), bool)
        chosen[rows_where(manifest, said.where)] = True
    old_rows: Rows = np.empty(0, np.int64)
    unknown: list[str] = []
    table = None
    if said.corrections is not None:
        old_rows = rows_there(manifest, said.corrections.table)
        unknown = said.corrections.table.column("key").take(pa.array(np.flatnonzero(old_rows < 0))).to_pylist()
        kept = np.flatnonzero((old_rows >= 0) & chosen[old_rows])
        table = said.corrections.fitted(parent, new_classes=said.new_classes)
        table, old_rows = table.take(pa.array(kept)), old_rows[kept]
        in_table: Flags = np.zeros(len(manifest), bool)
        in_table[old_rows] = True
        chosen = in_table
    rows = np.flatnonzero(chosen)
    if said.remove:
        return Revision.of_records(manifest, rows[:0], gone=rows), unknown, len(rows)
    revision = Revision.of_records(manifest, rows)
    at = np.searchsorted(rows, old_rows)
    if table is not None:
        _take_from(revision, table, at)
    if said.values.get("label") is not None and not said.new_classes:
        check_classes([str(said.values["label"])], parent, "`set` label")
    for name, value in said.values.items():
        _set(revision, name, value)
    names = [said.rename.get(name, name) for name in revision.labels.names]
    missing = [name for name in said.rename if name not in parent.classes]
    if missing:
        raise UsageError(f"`rename` {missing[0]}=...: there is no such class{did_you_mean(missing[0], parent.classes)}")
    revision.labels = revision.labels.mapped(names)
    return revision, unknown, len(rows)


def _marked(revision: Revision) -> Revision:
    """With notes of what was corrected: in columns that the manifest has, since a source may have said them."""
    known = revision.manifest.side_columns
    after = [
        ("label", revision.labels.to_arrow().cast(pa.string())),
        ("split", revision.splits.to_arrow().cast(pa.string())),
    ]
    after += [(name, revision.table.column(name).combine_chunks()) for name in known]
    for name, values in mark_corrected(revision.manifest, revision.there, after).items():
        _set_side(revision, name, values, np.ones(len(revision), bool))
    return revision


def _take_from(revision: Revision, table: Any, at: Rows) -> None:
    """A table's columns for the rows at those places; its empty cells change nothing."""
    for name in table.column_names:
        if name in ("key", "hash"):
            continue
        values = table.column(name)
        if name in CHANGEABLE:
            given = NameColumn.of(values)
            is_given = given.codes >= 0
            before = revision.labels if name == "label" else revision.splits
            names = all_names(before, given)
            codes = before.numbered_by(names)
            codes[at[is_given]] = given.numbered_by(names)[is_given]
            _replace(revision, name, NameColumn(codes, names))
        else:
            whole = _spread(values, at, len(revision))
            _set_side(revision, name, whole, pc.is_valid(whole).to_numpy(zero_copy_only=False))


def _set(revision: Revision, name: str, value: Any) -> None:
    """One value for all rows."""
    if name in CHANGEABLE:
        codes = np.zeros(len(revision), np.int32) if value is not None else np.full(len(revision), -1, np.int32)
        _replace(revision, name, NameColumn(codes, [] if value is None else [str(value).strip()]))
        return
    kind = revision.manifest.side_type(name)
    if isinstance(value, _Written) and not (kind is not None and pa.types.is_string(kind)):
        value = value.value()
    try:
        scalar = pa.scalar(value, kind) if kind is not None else pa.scalar(value)
    except (pa.ArrowException, ValueError, TypeError):
        raise UsageError(f"`set` {name}={value}: the column holds {kind}") from None
    if value is None and kind is None:
        raise UsageError(f"`set` {name}=NULL: no record has a column {name!r}")
    _set_side(revision, name, pa.repeat(scalar, len(revision)), np.ones(len(revision), bool))


def _replace(revision: Revision, name: str, values: NameColumn) -> None:
    if name == "label":
        revision.labels = values
    else:
        revision.splits = values


def _set_side(revision: Revision, name: str, values: Any, is_given: Any) -> None:
    """A side column of the rows where it is given; the rows in which that changes something take it."""
    table = revision.table
    before = table.column(name).combine_chunks() if name in table.column_names else pa.nulls(len(table), values.type)
    if before.type != values.type:
        raise UsageError(f"column {name!r} holds {before.type} in the store and {values.type} in the table: cast it there")
    after = pc.if_else(pa.array(is_given), values, before)
    same = pc.fill_null(pc.equal(after, before), False).to_numpy(zero_copy_only=False)
    both_null = pc.and_(pc.is_null(after), pc.is_null(before)).to_numpy(zero_copy_only=False)
    table = table.drop_columns([name]) if name in table.column_names else table
    revision.table = table.append_column(name, after)
    revision.takes_side = revision.takes_side | ~(same | both_null)


def _spread(values: Any, at: Rows, count: int) -> Any:
    """Values at those places among `count`, NULL elsewhere."""
    values = values.combine_chunks() if isinstance(values, pa.ChunkedArray) else values
    places = np.full(count, -1, np.int64)
    places[at] = np.arange(len(at))
    return values.take(pa.array(places, mask=places < 0))


def _first(revision: Revision) -> list[tuple[str, str | None, str | None, str | None, str | None]]:
    """The first records that change, in order of keys."""
    keys = revision.table.column("key").to_pylist()
    labels, splits = revision.before("label"), revision.before("split")
    order = sorted(range(len(keys)), key=lambda row: keys[row].encode())[:FIRST_ROWS]
    first = [(keys[i], labels[i], revision.labels[i], splits[i], revision.splits[i]) for i in order]
    gone = revision.manifest.take(revision.gone[:FIRST_ROWS], ["key", "label", "split"]).to_pylist()
    first += [(row["key"], row["label"], None, row["split"], None) for row in gone]
    return first[:FIRST_ROWS]


def _read_set(values: Mapping[str, Any] | str | Sequence[str] | None) -> dict[str, Any]:
    """Columns and values from a dict, or from "label=satin". Raises UsageError."""
    if values is None:
        return {}
    if not isinstance(values, Mapping):
        pieces = [piece.partition("=") for piece in ([values] if isinstance(values, str) else values)]
        if any(not equals or not name.strip() for name, equals, _ in pieces):
            raise UsageError("`set`: write a column and its value, as `set` label=satin")
        values = {name.strip(): None if text.strip() == "NULL" else _Written(text.strip()) for name, _, text in pieces}
    for name in values:
        if name in (*COLUMNS, SOURCE_SAID.name) and name not in CHANGEABLE:
            raise UsageError(f"`set` {name}=...: that is a fact of the picture, or its key, and cannot be changed")
        if not re.fullmatch(r"[A-Za-z_][A-Za-z0-9_ .-]*", name):
            raise UsageError(f"`set`: {name!r} is no name for a column")
        if name == "split" and values[name] is not None:
            split_given(str(values[name]))
        if name in CHANGEABLE and values[name] is not None and not str(values[name]).strip():
            raise UsageError(f"`set` {name}=: an empty {name} is none; write {name}=NULL for that")
    return dict(values)


class _Written(str):
    """A value as it was typed: text for labels, splits and columns of text, else what it can be read as."""

    def value(self) -> Fact:
        return plain_value(str(self))


def _for_sql(table: Any) -> Any:
    return table.drop_columns(["hash", "sha256", "crc32"])
