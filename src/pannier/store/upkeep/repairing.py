"""Repairing: what is derived is made again; what a copy of the store has is brought back. Nothing is thrown away."""

from __future__ import annotations

import os
from collections.abc import Iterable, Iterator
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np
import pyarrow as pa

from pannier.columns import Digests, digests_of
from pannier.errors import DamageError, NotFoundError, PannierError
from pannier.store import canvases, index, left_out, manifest, shards, snapshot
from pannier.store.documents import digest, unsealed
from pannier.store.shards import Picture
from pannier.store.upkeep.findings import Finding
from pannier.store.upkeep.referenced import distinct, is_in
from pannier.store.upkeep.repacking import pictures_in, write_shards
from pannier.store.versions import annotating
from pannier.store.writing import seen

if TYPE_CHECKING:
    from pannier.store.store import Store

SET_ASIDE = "damaged"


def repair(store: Store, findings: Iterable[Finding], other: str | Path | Store | None) -> None:
    """Mends what it can of what verify found. Damaged files are set aside in `damaged/`, not deleted.

    Indexes are made again from their shards; what packs remembered, and what is rendered, goes where it is damaged. From
    `other`, a copy of the store: documents, manifests, lists, files and entries by their names, pictures by their SHA-256.
    """
    from pannier.store.store import Store, open_store

    copy = other if isinstance(other, Store) or other is None else open_store(other)
    damaged_shards: set[str] = set()
    pictures_missing = False
    for finding in findings:
        if not finding.is_damage:
            continue
        folder = finding.file.partition("/")[0]
        if folder in (seen.FOLDER, index.FOLDER):
            _set_aside(store, finding.file)
        elif folder == canvases.FOLDER:
            canvases.Rendering(store.directory, finding.file.split("/")[1]).remove(finding.file)
        elif folder == shards.FOLDER:
            pictures_missing = True
            if finding.file != shards.FOLDER and store.directory.exists(finding.file):
                damaged_shards.add(finding.file.rpartition("/")[2].removesuffix(shards.SUFFIX))
        elif copy is not None:
            _bring_back(store, copy, finding.file)
    if copy is not None and (pictures_missing or damaged_shards):
        _bring_pictures(store, copy, damaged_shards)
    store.index.refresh()
    index.restore_segments(store.directory)


def _set_aside(store: Store, file: str) -> None:
    """Moves a damaged file out of the way, into `damaged/`, under a name that tells where it was."""
    source = store.directory.path(file)
    if not source.exists():
        return
    folder = store.directory.path(SET_ASIDE)
    folder.mkdir(exist_ok=True)
    number, target = 1, folder / file.replace("/", "-")
    while target.exists():
        number += 1
        target = folder / f"{file.replace('/', '-')}.{number}"
    os.rename(source, target)


def _bring_back(store: Store, copy: Store, file: str) -> None:
    """A file from the copy, where that has it whole; what lay here under its name is set aside."""
    try:
        content = copy.directory.read(file)
        _check(file, content)
    except (NotFoundError, DamageError, PannierError):
        return
    _set_aside(store, file)
    store.directory.create(file, content)


def _check(file: str, content: bytes) -> None:
    """Raises DamageError where a file's content is not what its name or its seal says."""
    folder, name = file.partition("/")[0], file.rpartition("/")[2]
    stem = name.partition(".")[0]
    if folder in (snapshot.FOLDER, manifest.FOLDER, left_out.FOLDER, annotating.FILES):
        if digest(content) != stem:
            raise DamageError(f"{file} is damaged in the copy too", file=file)
    else:
        unsealed(content, file)


def _bring_pictures(store: Store, copy: Store, damaged: set[str]) -> None:
    """New shards with what is whole of the damaged ones, and what the copy has of the rest. The damaged are set aside first,
    since a new shard may bear the very name of one."""
    for name in sorted(damaged):
        _set_aside(store, index.segment_file(name))
        _set_aside(store, f"{shards.FOLDER}/{name}{shards.SUFFIX}")
    for name in store.directory.list(index.FOLDER):
        shard = name.removesuffix(index.SUFFIX)
        if name[0] != "." and not store.directory.exists(f"{shards.FOLDER}/{shard}{shards.SUFFIX}"):
            _set_aside(store, f"{index.FOLDER}/{name}")
    missing = _needed(store)
    for path in sorted(store.directory.path(SET_ASIDE).glob(f"{shards.FOLDER}-*")):
        missing = missing[~is_in(missing, _digests_in(store))]
        write_shards(store.directory, _whole_pictures(path, missing), lambda: None)
    missing = missing[~is_in(missing, _digests_in(store))]
    write_shards(store.directory, _from_copy(copy, missing), lambda: None)


def _needed(store: Store) -> Digests:
    """The pictures of all snapshots that can be read."""
    found = [np.empty((0, 32), np.uint8)]
    for snapshot_id in store.snapshot_ids():
        try:
            rows = snapshot.Snapshot(store, snapshot_id).manifest
        except PannierError:
            continue
        found = [distinct(np.concatenate([*found, digests_of(rows.take(np.arange(len(rows)), ["sha256"]).column(0))]))]
    return found[0]


def _digests_in(store: Store) -> Digests:
    """What the shards hold."""
    parts = [np.empty((0, 32), np.uint8)]
    parts += [shards.locate(shards.shard_path(store.directory, each)).sha256 for each in shards.shard_names(store.directory)]
    return distinct(np.concatenate(parts))


def _whole_pictures(path: Path, missing: Digests) -> Iterator[Picture]:
    """The missing pictures that are whole in a damaged shard, one by one, as far as it can be read at all."""
    try:
        wanted = is_in(shards.locate(path).sha256, missing)
    except DamageError:
        return
    for row in np.flatnonzero(wanted).tolist():
        one = np.zeros(len(wanted), bool)
        one[row] = True
        try:
            yield from pictures_in(path, one)
        except (PannierError, pa.ArrowException, ValueError):
            continue


def _from_copy(copy: Store, missing: Digests) -> Iterator[Picture]:
    copy.index.refresh()
    places = copy.index.find(missing)
    for number in np.unique(places.segment[places.segment >= 0]).tolist():
        name = places.shards[number]
        wanted = np.zeros(len(index.read_segment(copy.directory, name).row), bool)
        wanted[places.row[places.segment == number]] = True
        try:
            yield from pictures_in(shards.shard_path(copy.directory, name), wanted)
        except (PannierError, pa.ArrowException):
            continue
