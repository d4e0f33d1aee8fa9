"""Copying: a snapshot with its history into another store, only what that lacks; ids are equal there."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from pannier.columns import Digests
from pannier.errors import ConflictError, DamageError
from pannier.store.documents import Document, canonical, sealed, unsealed
from pannier.store.facts import author, now
from pannier.store.files import disk_errors_translated
from pannier.store.index import read_segment, restore_segments
from pannier.store.leases import WRITER, holding, reading
from pannier.store.names import FIRST_TRACK, Entry, checked_name
from pannier.store.shards import shard_path
from pannier.store.snapshot import FOLDER as SNAPSHOTS
from pannier.store.snapshot import Snapshot
from pannier.store.upkeep.referenced import referenced
from pannier.store.upkeep.repacking import pictures_in, write_shards
from pannier.store.versions import annotating
from pannier.store.versions.history import is_ancestor

if TYPE_CHECKING:
    from pannier.store.store import Store

Progress = Callable[[int, int], None]


@dataclass
class Copied:
    """What copying brought into the other store. `track` is what names the snapshot there."""

    snapshot: Snapshot
    track: str
    pictures: int = 0
    byte_count: int = 0
    snapshots: int = 0


def copy(store: Store, name: str, other: Store, *, track: str | None = None, progress: Progress | None = None) -> Copied:
    """Brings a snapshot and all it descends from into another store: pictures that are not there, manifests, facts, files.

    track: how it is called there; by default as here where that is a track, else main. Interrupted, what is there stays,
    and the same call goes on. Raises ConflictError where that track has snapshots that this one does not descend from.
    """
    snapshot = store.snapshot(name)
    track = checked_name(track or (name if store.tracks.head(name) else FIRST_TRACK))
    lease = reading(store.directory, [snapshot.id])
    try:
        with holding(other.directory, WRITER):
            _refuse_fork(store, snapshot, other, track)
            copied = Copied(snapshot, track)
            found = referenced(store, [snapshot.id])
            _copy_pictures(store, other, found.pictures, copied, progress)
            for file in sorted(found.files()):
                _copy_file(store, other, file)
            for snapshot_id in _oldest_first(found.documents):
                content = canonical(found.documents[snapshot_id])
                copied.snapshots += other.directory.create(f"{SNAPSHOTS}/{snapshot_id}.json", content)
                _copy_annotations(store, other, snapshot_id)
            _name(other, track, snapshot.id)
            copied.snapshot = Snapshot(other, snapshot.id)
            return copied
    finally:
        if lease is not None:
            lease.end()


def _refuse_fork(store: Store, snapshot: Snapshot, other: Store, track: str) -> None:
    head = other.tracks.head(track)
    if head is None or head.snapshot == snapshot.id:
        return
    if head.snapshot in store.snapshot_ids() and is_ancestor(store, head.snapshot, snapshot.id):
        return
    raise ConflictError(
        f"{track} in {other.path} has snapshots that this one does not descend from; nothing was copied: "
        "choose another name there with --track"
    )


def _copy_pictures(store: Store, other: Store, pictures: Digests, copied: Copied, progress: Progress | None) -> None:
    """Those that the other store lacks, shard by shard, each checked."""
    restore_segments(other.directory)
    other.index.refresh()
    missing = pictures[other.index.find(pictures).segment < 0]
    copied.pictures = total = len(missing)
    done = 0

    def step() -> None:
        nonlocal done
        done += 1
        if progress:
            progress(done, total)

    store.index.refresh()
    places = store.index.find(missing)
    lost = np.flatnonzero(places.segment < 0)
    if len(lost):
        raise DamageError(f"{len(lost)} of the pictures are in no shard of {store.path}: run pannier verify there")
    for number in np.unique(places.segment).tolist():
        name = places.shards[number]
        wanted = np.zeros(len(read_segment(store.directory, name).row), bool)
        wanted[places.row[places.segment == number]] = True
        written, _ = write_shards(other.directory, pictures_in(shard_path(store.directory, name), wanted), step)
        copied.byte_count += written
    other.index.refresh()


def _copy_file(store: Store, other: Store, file: str) -> None:
    """A file that is named by its content, checked on its way."""
    if other.directory.exists(file):
        return
    folder, _, name = file.rpartition("/")
    with (
        disk_errors_translated(file),
        open(store.directory.path(file), "rb") as source,
        other.directory.draft(folder) as draft,
    ):
        if annotating.copied(source, draft.file) != name.removesuffix(".arrow"):
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


def _copy_annotations(store: Store, other: Store, snapshot_id: str) -> None:
    """What was added to a snapshot here and is not there yet, after what is there."""
    theirs = [_essence(other, snapshot_id, n) for n in annotating.annotation_numbers(other.directory, snapshot_id)]
    for number in annotating.annotation_numbers(store.directory, snapshot_id):
        document = _essence(store, snapshot_id, number)
        if document in theirs:
            continue
        for each in document["attachments"]:
            _copy_file(store, other, f"{annotating.FILES}/{each['sha256']}")
        last = annotating.annotation_numbers(other.directory, snapshot_id)
        new = last[-1] + 1 if last else 1
        other.directory.create(annotating.annotation_file(snapshot_id, new), sealed(document | {"number": new}))


def _essence(store: Store, snapshot_id: str, number: int) -> Document:
    file = annotating.annotation_file(snapshot_id, number)
    document = unsealed(store.directory.read(file), file)
    document.pop("number")
    return document


def _name(other: Store, track: str, snapshot_id: str) -> None:
    last = other.tracks.last(track)
    if last is not None and last.snapshot == snapshot_id:
        return
    entry = Entry(last.number + 1 if last else 1, snapshot_id, now(), author())
    if not other.tracks.append(track, entry):
        raise ConflictError(f"{track} in {other.path} was changed in the meantime: copy again")
