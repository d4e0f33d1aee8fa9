"""Repairing: what is derived is made again; what a copy of the store has is brought back. Nothing is thrown away."""

from __future__ import annotations

from collections.abc import Iterable, Iterator

import numpy as np
import pyarrow as pa

from pannier.columns import Digests, digests_of
from pannier.errors import DamageError, NotFoundError, PannierError, StoreError
from pannier.storage import layout
from pannier.storage.opening import pieces_of
from pannier.storage.protocol import Storage
from pannier.store.canvases import Rendering
from pannier.store.documents import digest, unsealed
from pannier.store.index import restore_segments
from pannier.store.shards import Picture, locate, located_in, shard_names
from pannier.store.state import OpenedStore, write_format
from pannier.upkeep.findings import Finding
from pannier.upkeep.referenced import distinct, is_in
from pannier.upkeep.repacking import found_pictures, pictures_in, write_shards


def repair(store: OpenedStore, findings: Iterable[Finding], copy: OpenedStore | None) -> None:
    """Mends what it can of what verify found. Damaged files are set aside in `damaged/`, not deleted.

    The file by which a store is known is written again, and indexes are made from their shards; what packs remembered,
    miniatures and what is rendered go where damaged. From `copy`, a copy of the store: documents, manifests, lists, files
    and entries by their names, pictures by their SHA-256.
    """
    storage = store.storage
    damaged_shards: set[str] = set()
    pictures_missing = False
    for finding in findings:
        if not finding.is_damage:
            continue
        folder = layout.folder_of(finding.file)
        if finding.file == layout.FORMAT_FILE:
            _set_aside(storage, finding.file)
            write_format(storage)
        elif folder in (layout.SEEN, layout.MINIATURES, layout.INDEX):
            _set_aside(storage, finding.file)
        elif folder == layout.RENDERED:
            Rendering(storage, finding.file.split("/")[1]).remove(finding.file)
        elif folder == layout.SHARDS:
            pictures_missing = True
            if finding.file != layout.SHARDS and storage.exists(finding.file):
                damaged_shards.add(layout.stem(finding.file))
        elif copy is not None and not (
            folder in (layout.STRANDS, layout.TAGS) and not _is_mirrored(store, copy, finding.file)
        ):
            _bring_back(storage, copy.storage, finding.file)
    if copy is not None and (pictures_missing or damaged_shards):
        _bring_pictures(store, copy, damaged_shards)
    store.index.refresh()
    restore_segments(storage)


def bring_lost_entries(store: OpenedStore, copy: OpenedStore) -> None:
    """What was lost without a trace: the newest entries of names, and what was added to snapshots, that a mirror has beyond
    what is here. Where the two differ in what both have, nothing is brought; nor are entries of snapshots that are not
    here: the mirror may be newer than this store."""
    here_now = set(store.snapshot_ids())
    for ours, theirs in ((store.strands, copy.strands), (store.tags, copy.tags)):
        for name in theirs.ever_used():
            for number in ours.lacking(theirs, name):
                try:
                    snapshot = theirs.entry(name, number).snapshot
                except StoreError:  # it is damaged there
                    break
                if snapshot is not None and snapshot not in here_now:
                    break
                ours.take(name, number, theirs.content(name, number))
    for snapshot_id in set(copy.storage.list(layout.ADDITIONS)) & here_now:
        folder = f"{layout.ADDITIONS}/{snapshot_id}"
        here, there = ({*each.storage.list(folder)} for each in (store, copy))
        if all(store.storage.read(f"{folder}/{name}") == copy.storage.read(f"{folder}/{name}") for name in here & there):
            for name in sorted(there - here):
                _bring_back(store.storage, copy.storage, f"{folder}/{name}")


def _is_mirrored(store: OpenedStore, copy: OpenedStore, file: str) -> bool:
    """Whether the entries of the name that a file is of are those of the copy, as far as they can be read here.

    An entry of a copy that numbers them otherwise would make another history.
    """
    kind, name, _ = file.split("/")
    ours, theirs = (store.strands, copy.strands) if kind == layout.STRANDS else (store.tags, copy.tags)
    for number in ours.numbers(name):
        try:
            ours.entry(name, number)
        except StoreError:
            continue
        if ours.content(name, number) != theirs.content(name, number):
            return False
    return True


def _set_aside(storage: Storage, file: str) -> None:
    """Moves a damaged file out of the way, into `damaged/`, under a name that tells where it was."""
    if not storage.exists(file):
        return
    number, target = 1, f"{layout.DAMAGED}/{file.replace('/', '-')}"
    while storage.exists(target):
        number += 1
        target = f"{layout.DAMAGED}/{file.replace('/', '-')}.{number}"
    with storage.draft(layout.DAMAGED) as draft:
        for piece in pieces_of(storage, file):
            draft.sink.write(piece)
        draft.publish(target)
    storage.remove(file)


def _bring_back(storage: Storage, copy: Storage, file: str) -> None:
    """A file from the copy, where that has it whole; what lay here under its name is set aside."""
    try:
        content = copy.read(file)
        _check(file, content)
    except (NotFoundError, DamageError, PannierError):
        return
    _set_aside(storage, file)
    storage.create(file, content)


def _check(file: str, content: bytes) -> None:
    """Raises DamageError where a file's content is not what its name or its seal says."""
    if layout.folder_of(file) in (layout.SNAPSHOTS, layout.MANIFESTS, layout.LEFT_OUT, layout.FILES):
        if digest(content) != layout.stem(file):
            raise DamageError(f"{file} is damaged in the copy too", file=file)
    else:
        unsealed(content, file)


def _bring_pictures(store: OpenedStore, copy: OpenedStore, damaged: set[str]) -> None:
    """New shards with what is whole of the damaged ones, and what the copy has of the rest. The damaged are set aside first,
    since a new shard may bear the very name of one."""
    storage = store.storage
    for name in sorted(damaged):
        _set_aside(storage, layout.segment_file(name))
        _set_aside(storage, layout.shard_file(name))
    for file in storage.list(layout.INDEX):
        if not storage.exists(layout.shard_file(layout.stem(file))):
            _set_aside(storage, f"{layout.INDEX}/{file}")
    missing = _needed(store)
    for name in storage.list(layout.DAMAGED):
        if name.startswith(f"{layout.SHARDS}-"):
            missing = missing[~is_in(missing, _digests_in(storage))]
            write_shards(storage, _whole_pictures(storage, f"{layout.DAMAGED}/{name}", missing), lambda: None)
    missing = missing[~is_in(missing, _digests_in(storage))]
    write_shards(storage, _from_copy(copy, missing), lambda: None)


def _needed(store: OpenedStore) -> Digests:
    """The pictures of all snapshots that can be read."""
    needed = [np.empty((0, 32), np.uint8)]
    for snapshot_id in store.snapshot_ids():
        try:
            rows = store.state_of(snapshot_id).manifest
        except PannierError:
            continue
        needed = [distinct(np.concatenate([*needed, digests_of(rows.take(np.arange(len(rows)), ["sha256"]).column(0))]))]
    return needed[0]


def _digests_in(storage: Storage) -> Digests:
    """What the shards hold."""
    parts = [np.empty((0, 32), np.uint8), *(locate(storage, name).sha256 for name in shard_names(storage))]
    return distinct(np.concatenate(parts))


def _whole_pictures(storage: Storage, file: str, missing: Digests) -> Iterator[Picture]:
    """The missing pictures that are whole in a damaged shard, one by one, as far as it can be read at all."""
    try:
        wanted = is_in(located_in(storage.view(file), file).sha256, missing)
    except DamageError:
        return
    for row in np.flatnonzero(wanted).tolist():
        one = np.zeros(len(wanted), bool)
        one[row] = True
        try:
            yield from pictures_in(storage, file, one)
        except (PannierError, pa.ArrowException, ValueError):
            continue


def _from_copy(copy: OpenedStore, missing: Digests) -> Iterator[Picture]:
    copy.index.refresh()
    for file, wanted in found_pictures(copy, missing):
        try:
            yield from pictures_in(copy.storage, file, wanted)
        except (PannierError, pa.ArrowException):
            continue
