"""Strands and tags: starting, taking over, renaming and removing them. Nothing is copied; every step is an entry."""

from __future__ import annotations

from collections import Counter
from dataclasses import replace
from typing import Any

from pannier.errors import ConflictError, NotFoundError, UsageError, did_you_mean
from pannier.storage.protocol import Storage
from pannier.store.facts import author, now
from pannier.store.leases import writes
from pannier.store.names import FIRST_STRAND, Entry, MovingNames, checked_name
from pannier.store.snapshots import read_document
from pannier.store.state import OpenedStore
from pannier.versions.differing import differences
from pannier.versions.history import is_ancestor

_SHOWN = 5


@writes
def start_strand(store: OpenedStore, strand: str, at: str = FIRST_STRAND, *, note: str = "") -> str:
    """Starts a strand at a snapshot, by name, without copying: its id. Where the strand is there, takes the snapshot over.

    Raises ConflictError where the strand has snapshots that the other has not.
    """
    checked_name(strand)
    snapshot = store.resolve(at)
    _refuse_other_kind(store.tags, strand, "a tag")
    last = store.strands.last(strand)
    if last is not None and last.snapshot is not None:
        if last.snapshot == snapshot:
            return snapshot
        if not is_ancestor(store, last.snapshot, snapshot):
            what = _differences(store, strand, at)
            raise ConflictError(f"{strand} has snapshots that {at} has not, so it cannot take {at} over; {what}")
    _append(store.strands, strand, last, snapshot, note)
    return snapshot


def _differences(store: OpenedStore, strand: str, at: str) -> str:
    """What two snapshots differ in, in a line: counts, and the first keys."""
    table = differences(store.state(strand).manifest, store.state(at).manifest).table()
    counts = Counter(table.column("change").to_pylist())
    if not counts:
        return "their records are the same, their histories are not"
    told = ", ".join(f"{number:,} {kind}" for kind, number in counts.items())
    first = ", ".join(f"{row['key']} ({row['change']})" for row in table.slice(0, _SHOWN).to_pylist())
    more = ", ..." if len(table) > _SHOWN else ""
    return f"from {strand} to {at}: {told}: {first}{more} (pannier compare lists all)"


@writes
def add_tag(store: OpenedStore, tag: str, at: str = FIRST_STRAND, *, note: str = "", overwrite: bool = False) -> str:
    """Tags a snapshot, by name: its id. Raises UsageError where the tag names another one, unless it is to `overwrite`."""
    checked_name(tag)
    snapshot = store.resolve(at)
    _refuse_other_kind(store.strands, tag, "a strand")
    last = store.tags.last(tag)
    if last is not None and last.snapshot == snapshot:
        return snapshot
    if last is not None and last.snapshot is not None and not overwrite:
        raise UsageError(
            f"tag {tag!r} names snapshot {last.snapshot[:12]} since {last.time}: say `overwrite` to have it name "
            f"{snapshot[:12]}, which is recorded"
        )
    _append(store.tags, tag, last, snapshot, note)
    return snapshot


def names_told(storage: Storage, names: MovingNames) -> list[dict[str, Any]]:
    """The strands or tags of a store as plain data: what each names, since when, and how many records that has."""
    told = []
    for name, head in names.heads():
        document = read_document(storage, head.snapshot)
        about = {"since": head.time, "author": head.author, "note": head.note or document["note"]}
        told.append({"name": name, "snapshot": head.snapshot, "records": document["records"], **about})
    return told


def rename(names: MovingNames, old: str, new: str) -> None:
    """Calls a strand or tag otherwise. A call that was cut off between its two entries can be repeated."""
    checked_name(new)
    head, last = _there(names, old), names.last(new)
    if last is not None and last.snapshot is not None and (last.snapshot, last.other_name) != (head.snapshot, old):
        raise UsageError(f"{new!r} is there already: choose another name, or remove it first")
    if last is None or last.snapshot is None:
        _append(names, new, last, head.snapshot, "", other_name=old)
    _append(names, old, head, None, "", other_name=new)


def remove(names: MovingNames, name: str, *, note: str = "") -> None:
    """Takes a name away, which is an entry too; its snapshots stay until they are tidied. Raises NotFoundError."""
    _append(names, name, _there(names, name), None, note)


def _there(names: MovingNames, name: str) -> Entry:
    head = names.head(name)
    if head is None:
        raise NotFoundError(f"no {names.kind.removesuffix('s')} {name!r}{did_you_mean(name, names.all_names())}")
    return head


def _append(
    names: MovingNames, name: str, last: Entry | None, snapshot: str | None, note: str, other_name: str | None = None
) -> None:
    entry = Entry(last.number + 1 if last else 1, snapshot, now(), author(), note, other_name)
    if names.append(name, entry):
        return
    taken = names.entry(name, entry.number)
    if replace(taken, time=entry.time, author=entry.author) != entry:
        raise ConflictError(f"{name!r} was changed by somebody else in the meantime: look again with pannier history")


def _refuse_other_kind(names: MovingNames, name: str, what: str) -> None:
    if names.head(name):
        raise UsageError(f"{name!r} is {what} already: choose another name")
