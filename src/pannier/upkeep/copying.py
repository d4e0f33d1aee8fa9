"""Copying: a snapshot with its history into another store, only what that lacks; ids are equal there."""

from __future__ import annotations

import hashlib
from collections.abc import Mapping, Sequence
from concurrent.futures import Executor
from dataclasses import dataclass, field
from typing import Any

from pannier.array_types import Flags
from pannier.choices import Progress
from pannier.columns import Digests
from pannier.errors import ConflictError, DamageError, StoreError
from pannier.executors import done_by, for_workers
from pannier.results import Result
from pannier.storage.layout import attached_file, snapshot_file, stem
from pannier.storage.opening import open_storage, pieces_of
from pannier.store.documents import Document, canonical, sealed, unsealed
from pannier.store.facts import author, now
from pannier.store.index import restore_segments
from pannier.store.leases import WRITER, holding, reading
from pannier.store.names import FIRST_STRAND, Entry, MovingNames, checked_name
from pannier.store.state import OpenedStore, State
from pannier.upkeep.referenced import referenced
from pannier.upkeep.repacking import found_pictures, pictures_in, write_shards
from pannier.versions import attaching
from pannier.versions.history import is_ancestor


@dataclass(eq=False, repr=False)
class Copied(Result):
    """What copying brought into the other store. `strand` names the snapshot there, `names` are all that were brought."""

    state: State
    strand: str
    pictures: int = 0
    byte_count: int = 0
    snapshots: int = 0
    names: list[str] = field(default_factory=list)

    def to_dict(self) -> dict[str, Any]:
        """Plain data for JSON."""
        names = ("strand", "pictures", "byte_count", "snapshots", "names")
        return {"snapshot": self.state.id} | {name: getattr(self, name) for name in names}


def copy(
    store: OpenedStore,
    name: str,
    other: OpenedStore,
    *,
    strand: str | None = None,
    preview: bool = False,
    progress: Progress | None = None,
    executor: Executor | None = None,
) -> Copied:
    """Brings a snapshot and all it descends from into another store: pictures that are not there, manifests, facts, files.

    strand: how it is called there; by default as here where that is a strand, else main. Interrupted, what is there stays,
    and the same call goes on. preview: say what that store lacks. executor: whose workers bring pictures, shard by shard.
    Raises ConflictError where that strand has snapshots that this one does not descend from.
    """
    snapshot = store.state(name)
    strand = checked_name(strand or (name if store.strands.head(name) else FIRST_STRAND))
    return _copied(store, other, Copied(snapshot, strand), {strand: snapshot.id}, {}, preview, progress, executor)


def copy_all(
    store: OpenedStore,
    other: OpenedStore,
    *,
    preview: bool = False,
    progress: Progress | None = None,
    executor: Executor | None = None,
) -> Copied:
    """Brings all strands and tags into another store, entry by entry, with all that they lead to: a mirror, which can
    repair every file of this store, and which the same call renews.

    Raises NotFoundError where there is no strand, DamageError where an entry is damaged here, ConflictError where a strand
    or tag leads elsewhere there. A name whose entries are numbered otherwise there, as in a store that it was copied to
    alone, goes on from where it is; verifying against this store tells of it.
    """
    strands = {name: head.snapshot for name, head in store.strands.heads()}
    tags = {name: head.snapshot for name, head in store.tags.heads()}
    first = FIRST_STRAND if FIRST_STRAND in strands or not strands else min(strands)
    copied = Copied(store.state(first), first)
    return _copied(store, other, copied, strands, tags, preview, progress, executor, with_entries=True)


def _copied(
    store: OpenedStore,
    other: OpenedStore,
    copied: Copied,
    strands: Mapping[str, str],
    tags: Mapping[str, str],
    preview: bool,
    progress: Progress | None,
    executor: Executor | None,
    *,
    with_entries: bool = False,
) -> Copied:
    """Brings what strands and tags lead to, and then those, by their names there. with_entries: also what they led to."""
    copied.names = [*strands, *tags]
    ids = sorted({*strands.values(), *tags.values(), *(once_named(store) if with_entries else ())})
    if preview:
        _refuse_others(store, other, strands, tags)
        return _previewed(store, other, ids, copied)
    lease = reading(store.storage, ids)
    try:
        with holding(other.storage, WRITER):
            _refuse_others(store, other, strands, tags)
            wanted = referenced(store.storage, ids)
            _copy_pictures(store, other, wanted.pictures, copied, progress, executor)
            for file in sorted(wanted.files()):
                _copy_file(store, other, file)
            for snapshot_id in _oldest_first(wanted.documents):
                content = canonical(wanted.documents[snapshot_id])
                copied.snapshots += other.storage.create(snapshot_file(snapshot_id), content)
                _copy_additions(store, other, snapshot_id)
            if with_entries:
                for here, there in ((store.strands, other.strands), (store.tags, other.tags)):
                    for name in here.ever_used():
                        _copy_entries(here, there, name)
            for name, snapshot_id in strands.items():  # a mirror stays one where a strand of it is copied alone
                head = store.strands.head(name)
                if other.strands.numbers(name) and head is not None and head.snapshot == snapshot_id:
                    _copy_entries(store.strands, other.strands, name)
            for names, heads in ((other.strands, strands), (other.tags, tags)):
                for name, snapshot_id in heads.items():
                    _name(names, name, snapshot_id, other)
            copied.state = other.state_of(copied.state.id)
            return copied
    finally:
        if lease is not None:
            lease.end()


def _previewed(store: OpenedStore, other: OpenedStore, ids: Sequence[str], copied: Copied) -> Copied:
    """What would be copied."""
    wanted = referenced(store.storage, ids)
    places = store.index.find(_missing(other, wanted.pictures))
    copied.pictures, copied.byte_count = len(places.length), int(places.length.sum())
    copied.snapshots = len(wanted.documents.keys() - set(other.snapshot_ids()))
    return copied


def _missing(other: OpenedStore, pictures: Digests) -> Digests:
    """Those that the other store lacks."""
    other.index.refresh()
    return pictures[other.index.find(pictures).segment < 0]


def _refuse_others(store: OpenedStore, other: OpenedStore, strands: Mapping[str, str], tags: Mapping[str, str]) -> None:
    """Raises ConflictError where a name leads elsewhere in the other store."""
    for strand, snapshot_id in strands.items():
        head = other.strands.head(strand)
        if head is None or head.snapshot == snapshot_id or other.strands.lacking(store.strands, strand):
            continue
        if head.snapshot not in store.snapshot_ids() or not is_ancestor(store, head.snapshot, snapshot_id):
            raise ConflictError(
                f"{strand} in {other.storage.address} has snapshots that this one does not descend from; nothing was "
                "copied: choose another name there with `strand`"
            )
    for tag, snapshot_id in tags.items():
        head = other.tags.head(tag)
        if head is not None and head.snapshot != snapshot_id and not other.tags.lacking(store.tags, tag):
            raise ConflictError(f"tag {tag} in {other.storage.address} names another snapshot; nothing was copied")


def _copy_pictures(
    store: OpenedStore,
    other: OpenedStore,
    pictures: Digests,
    copied: Copied,
    progress: Progress | None,
    executor: Executor | None,
) -> None:
    """Those that the other store lacks, shard by shard, each checked."""
    restore_segments(other.storage)
    missing = _missing(other, pictures)
    copied.pictures = total = len(missing)
    done = 0

    def step(count: int = 1) -> None:
        nonlocal done
        done += count
        if progress:
            progress(done, total)

    store.index.refresh()
    lost = int((store.index.find(missing).segment < 0).sum())
    if lost:
        raise DamageError(f"{lost} of the pictures are in no shard of {store.storage.address}: run pannier verify there")
    if executor is not None:
        where = (for_workers(store.storage.address), for_workers(other.storage.address))
        pieces = (((*where, file, wanted), int(wanted.sum())) for file, wanted in found_pictures(store, missing))
        for _, count, written in done_by(executor, _copy_elsewhere, pieces, paths=where):
            copied.byte_count += written
            step(count)
        restore_segments(other.storage)  # a worker may have died between a shard and its index
        unstored = len(_missing(other, missing))
        if unstored:
            what = f"{unstored:,} pictures that workers have copied are not in {other.storage.address}"
            raise StoreError(f"{what}: that path leads to another disk on one of them; no snapshot was copied")
        return
    for file, wanted in found_pictures(store, missing):
        written, _ = write_shards(other.storage, pictures_in(store.storage, file, wanted), step)
        copied.byte_count += written
    other.index.refresh()


def _copy_elsewhere(given: tuple[str, str, str, Flags]) -> int:
    """Brings the wanted pictures of one shard: how many bytes."""
    address, other, file, wanted = given
    there = open_storage(other)
    with holding(there, WRITER):
        return write_shards(there, pictures_in(open_storage(address), file, wanted), lambda: None)[0]


def _copy_file(store: OpenedStore, other: OpenedStore, file: str) -> None:
    """A file that is named by its content, checked on its way."""
    if other.storage.exists(file):
        return
    hasher = hashlib.sha256()
    with other.storage.draft(file.rpartition("/")[0]) as draft:
        for piece in pieces_of(store.storage, file):
            hasher.update(piece)
            draft.sink.write(piece)
        if hasher.hexdigest() != stem(file):
            raise DamageError(f"{file} is damaged: its digest is not its name", file=file)
        draft.publish(file)


def _oldest_first(documents: dict[str, Document]) -> list[str]:
    """Parents before children, so that a snapshot's parents are there when it is."""
    order: list[str] = []
    waiting = sorted(documents, reverse=True)
    while waiting:
        snapshot_id = waiting.pop()
        parents = [each for each in documents[snapshot_id]["parents"] if each not in order]
        if snapshot_id in order:
            continue
        if parents:
            waiting += [snapshot_id, *parents]
        else:
            order.append(snapshot_id)
    return order


def _copy_additions(store: OpenedStore, other: OpenedStore, snapshot_id: str) -> None:
    """What was added to a snapshot here and is not there yet, after what is there."""
    theirs = additions_without_number(other, snapshot_id)
    for document in additions_without_number(store, snapshot_id):
        if document in theirs:
            continue
        for each in document["attachments"]:
            _copy_file(store, other, attached_file(each["sha256"]))
        last = attaching.addition_numbers(other.storage, snapshot_id)
        new = last[-1] + 1 if last else 1
        other.storage.create(attaching.addition_file(snapshot_id, new), sealed(document | {"number": new}))


def additions_without_number(store: OpenedStore, snapshot_id: str) -> list[Document]:
    """What was added to a snapshot later, in order; numbers may differ from store to store."""
    files = [attaching.addition_file(snapshot_id, n) for n in attaching.addition_numbers(store.storage, snapshot_id)]
    documents = [unsealed(store.storage.read(file), file) for file in files]
    return [{name: value for name, value in each.items() if name != "number"} for each in documents]


def once_named(store: OpenedStore) -> set[str]:
    """The snapshots that strands and tags have led to and that are there. Raises DamageError."""
    entries = (entry for names in (store.strands, store.tags) for name in names.ever_used() for entry in names.entries(name))
    return {entry.snapshot for entry in entries if entry.snapshot is not None} & {*store.snapshot_ids()}


def _copy_entries(here: MovingNames, there: MovingNames, name: str) -> None:
    """The entries of a name that the other store lacks, where those that it has are the same."""
    for number in there.lacking(here, name):
        there.take(name, number, here.content(name, number))


def _name(names: MovingNames, name: str, snapshot_id: str, other: OpenedStore) -> None:
    last = names.last(name)
    if last is not None and last.snapshot == snapshot_id:
        return
    entry = Entry(last.number + 1 if last else 1, snapshot_id, now(), author())
    if not names.append(name, entry):
        raise ConflictError(f"{name} in {other.storage.address} was changed in the meantime: copy again")
