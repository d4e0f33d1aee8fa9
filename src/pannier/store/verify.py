"""Verify: reads every byte of a store and lists all that is wrong, what it harms and what to do."""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np
import pyarrow as pa

from pannier.errors import DamageError, PannierError, StoreError
from pannier.store import annotating, index, leases, left_out, manifest, seen, shards, snapshot, unpacking
from pannier.store.content import BUCKETS
from pannier.store.documents import digest
from pannier.store.files import DRAFT_PREFIX

if TYPE_CHECKING:
    from pannier.store.store import Store

KNOWN_FOLDERS = (
    shards.FOLDER,
    index.FOLDER,
    manifest.FOLDER,
    snapshot.FOLDER,
    left_out.FOLDER,
    seen.FOLDER,
    "tracks",
    "tags",
    annotating.FOLDER,
    annotating.FILES,
    leases.FOLDER,
    unpacking.FOLDER,
    "rendered",
)

Progress = Callable[[int, int], None]


@dataclass(frozen=True)
class Finding:
    """One thing found: in which file, what is wrong, what it harms, what to do. Information alone where not `is_damage`."""

    file: str
    problem: str
    harms: str
    advice: str
    is_damage: bool = True


FROM_COPY = "bring the file back from a copy of the store"


def verify(store: str | Path | Store, *, progress: Progress | None = None) -> list[Finding]:
    """All findings of a store, damage first; an empty list, or information alone, means that every byte is as written.

    Reads every file: pictures against their SHA-256, shards and manifests against their names, indexes against what their
    shards give, documents against their seals, content ids against their rows. Memory: one picture and one manifest.
    """
    from pannier.store.store import Store, open_store

    try:
        opened = store if isinstance(store, Store) else open_store(store)
    except DamageError as error:
        return [Finding(error.file or str(store), str(error), "the whole store", FROM_COPY)]
    return sorted(_Verification(opened, progress).run(), key=lambda finding: (not finding.is_damage, finding.file))


class _Verification:
    def __init__(self, store: Store, progress: Progress | None) -> None:
        self._store, self._progress = store, progress
        self._directory = store.directory
        self._pictures: dict[bytes, int] = {}
        self._used: set[bytes] = set()

    def run(self) -> Iterator[Finding]:
        yield from self._leftovers()
        for name in shards.shard_names(self._directory):
            yield from self._shard(name)
        named: set[str] = set()
        yield from self._names(named)
        manifests: set[str] = set()
        lists: set[str] = set()
        for snapshot_id in self._store.snapshot_ids():
            yield from self._snapshot(snapshot_id, named, manifests, lists)
        yield from self._indexes()
        yield from self._seen()
        missing = named - set(self._store.snapshot_ids())
        for snapshot_id in sorted(missing):
            file = f"{snapshot.FOLDER}/{snapshot_id}.json"
            yield Finding(file, "it is missing", "a track or tag names it", FROM_COPY)
        yield from self._annotations()
        yield from self._unnamed(manifest.FOLDER, manifests)
        yield from self._unnamed(left_out.FOLDER, lists)

    def _leftovers(self) -> Iterator[Finding]:
        for folder in ("", *KNOWN_FOLDERS):
            for name in self._directory.list(folder):
                path = f"{folder}/{name}" if folder else name
                if name.startswith(DRAFT_PREFIX):
                    advice = "harmless; it may be deleted when nothing is being written"
                    yield Finding(path, "left behind by a writer that was ended", "nothing", advice, False)
                elif not folder and name not in KNOWN_FOLDERS and name != "pannier.json":
                    yield Finding(path, "not a part of the store", "nothing", "move it elsewhere", False)
        for kind in ("tracks", "tags"):
            for name in self._directory.list(kind):
                for file in self._directory.list(f"{kind}/{name}"):
                    if file.startswith(DRAFT_PREFIX):
                        advice = "harmless; it may be deleted when nothing is being written"
                        yield Finding(
                            f"{kind}/{name}/{file}", "left behind by a writer that was ended", "nothing", advice, False
                        )

    def _shard(self, name: str) -> Iterator[Finding]:
        file = f"{shards.FOLDER}/{name}{shards.SUFFIX}"
        path = shards.shard_path(self._directory, name)
        try:
            located = shards.locate(path)
        except DamageError as error:
            yield Finding(file, str(error), "every record whose picture lies in it", FROM_COPY)
            return
        if shards.shard_name(path, located) != name:
            problem = "its bytes outside the pictures are not those its name was made from"
            yield Finding(file, problem, "perhaps every record whose picture lies in it", FROM_COPY)
        with open(path, "rb") as shard:
            for row, (offset, length) in enumerate(zip(located.offset.tolist(), located.length.tolist(), strict=True)):
                shard.seek(offset)
                sha256 = located.sha256[row].tobytes()
                if hashlib.sha256(shard.read(length)).digest() == sha256:
                    self._pictures[sha256] = length
                else:
                    yield Finding(file, f"the picture in row {row} is damaged", "the records that show it", FROM_COPY)
                if self._progress:
                    self._progress(len(self._pictures), len(self._pictures))

    def _indexes(self) -> Iterator[Finding]:
        names = set(shards.shard_names(self._directory))
        for name in sorted(names):
            file = index.segment_file(name)
            again = "nothing for long: it is derived; delete it, and it is made again from the shard when needed"
            try:
                located = shards.locate(shards.shard_path(self._directory, name))
            except DamageError:
                continue  # said of the shard already
            expected = index.segment_bytes(located)
            if not self._directory.exists(file):
                is_used = any(digest.tobytes() in self._used for digest in located.sha256)
                harms = "speed alone: look-ups read the shard instead"
                yield Finding(file, "it is missing", harms, "the next pack makes it again from the shard", is_used)
            elif self._directory.read(file) != expected:
                yield Finding(file, "it is damaged", "records whose pictures lie in that shard", again)
        for name in self._directory.list(index.FOLDER):
            if name.endswith(index.SUFFIX) and name[0] != "." and name.removesuffix(index.SUFFIX) not in names:
                shard = name.removesuffix(index.SUFFIX)
                file = f"{shards.FOLDER}/{shard}{shards.SUFFIX}"
                yield Finding(
                    file, "it is missing, though its index is there", "records whose pictures lay in it", FROM_COPY
                )

    def _seen(self) -> Iterator[Finding]:
        for name in self._directory.list(seen.FOLDER):
            if name.endswith(seen.SUFFIX) and name[0] != ".":
                try:
                    seen.segment_table(self._directory, name)
                except DamageError as error:
                    harms = "nothing for long: the next pack reads again the files that it tells of"
                    yield Finding(f"{seen.FOLDER}/{name}", str(error), harms, "delete it: it is derived")

    def _names(self, named: set[str]) -> Iterator[Finding]:
        for names in (self._store.tracks, self._store.tags):
            for name in names.all_names():
                numbers = names.numbers(name)
                for number in sorted(set(range(1, numbers[-1] + 1)) - set(numbers)):
                    yield Finding(names.file(name, number), "it is missing", f"the history of {name}", FROM_COPY)
                for number in numbers:
                    try:
                        entry = names.entry(name, number)
                        named.update([entry.snapshot] if entry.snapshot else [])
                    except StoreError as error:
                        yield Finding(names.file(name, number), str(error), f"what {name} means", FROM_COPY)

    def _snapshot(self, snapshot_id: str, named: set[str], manifests: set[str], lists: set[str]) -> Iterator[Finding]:
        file = f"{snapshot.FOLDER}/{snapshot_id}.json"
        try:
            opened = snapshot.Snapshot(self._store, snapshot_id)
        except (PannierError, pa.ArrowException) as error:
            where = getattr(error, "file", None) or file
            yield Finding(where, str(error), f"snapshot {snapshot_id[:12]}", FROM_COPY)
            self._note_files(snapshot_id, manifests, lists)
            return
        self._note_files(snapshot_id, manifests, lists)
        rows = opened.manifest
        for part in (rows.base_file, rows.delta_file):
            if part and digest(self._directory.read(part.path)) != part.name:
                yield Finding(part.path, "its digest is not its name", f"snapshot {snapshot_id[:12]}", FROM_COPY)
        found = {bucket: value for bucket, value in rows.bucket_digests(list(range(BUCKETS))) if value is not None}
        if found != dict(rows.digests) or rows.content_id != opened.content_id:
            yield Finding(file, "its content id does not fit its rows", f"snapshot {snapshot_id[:12]}", FROM_COPY)
        yield from self._rows(opened)
        try:
            _ = opened.left_out
        except StoreError as error:
            yield Finding(getattr(error, "file", None) or file, str(error), "the list of what was left out", FROM_COPY)
        for parent in opened.parents:
            named.add(parent)

    def _annotations(self) -> Iterator[Finding]:
        """Annotations are whole and of snapshots that are there; attached files hash to their names."""
        files: dict[str, str] = {}
        for snapshot_id in self._directory.list(annotating.FOLDER):
            if snapshot_id[0] == ".":
                continue
            if not self._directory.exists(f"{snapshot.FOLDER}/{snapshot_id}.json"):
                file = f"{annotating.FOLDER}/{snapshot_id}"
                yield Finding(file, "its snapshot is not here", "nothing", "harmless: the snapshot was removed", False)
            for number in annotating.annotation_numbers(self._directory, snapshot_id):
                file = annotating.annotation_file(snapshot_id, number)
                try:
                    found = annotating.read_annotation(self._directory, snapshot_id, number)
                    files |= {each.sha256: f"{each.name} of snapshot {snapshot_id[:12]}" for each in found.attachments}
                except StoreError as error:
                    yield Finding(file, str(error), f"what was added to snapshot {snapshot_id[:12]}", FROM_COPY)
        there = [name for name in self._directory.list(annotating.FILES) if name[0] != "."]
        for name in sorted(set(files) - set(there)):
            yield Finding(f"{annotating.FILES}/{name}", "it is missing", f"attachment {files[name]}", FROM_COPY)
        for name in there:
            path = f"{annotating.FILES}/{name}"
            with open(self._directory.path(path), "rb") as content:
                is_whole = hashlib.file_digest(content, "sha256").hexdigest() == name
            if not is_whole:
                yield Finding(path, "it is damaged", f"attachment {files[name]}" if name in files else "nothing", FROM_COPY)
            elif name not in files:
                yield Finding(path, "no snapshot names it", "nothing", "harmless: a writer was ended", False)

    def _note_files(self, snapshot_id: str, manifests: set[str], lists: set[str]) -> None:
        try:
            document = snapshot.read_document(self._store, snapshot_id)
            manifests.update(document[part]["name"] for part in ("base", "delta") if document[part])
            lists.update([document["left_out"]] if document["left_out"] else [])
        except (PannierError, KeyError, TypeError):
            pass  # said already

    def _rows(self, opened: snapshot.Snapshot) -> Iterator[Finding]:
        """Every record's picture is there, of the length that the manifest gives."""
        table = opened.manifest.table()
        digests = table.column("sha256").to_pylist()
        self._used.update(digests)
        lengths = table.column("byte_count").to_numpy()
        there = np.array([self._pictures.get(each, -1) for each in digests], np.int64)
        lost = np.flatnonzero(there != lengths).tolist()
        if lost:
            keys = [table.column("key")[i].as_py() for i in lost[:3]]
            more = f" and {len(lost) - 3} more" if len(lost) > 3 else ""
            yield Finding(
                f"{snapshot.FOLDER}/{opened.id}.json",
                f"{len(lost)} of its pictures are not to be had: {', '.join(keys)}{more}",
                f"{len(lost)} records",
                "bring their shard back from a copy of the store, or pack those pictures again",
            )

    def _unnamed(self, folder: str, named: set[str]) -> Iterator[Finding]:
        for name in self._directory.list(folder):
            stem = name.removesuffix(".arrow")
            if name[0] == "." or stem in named:
                continue
            if digest(self._directory.read(f"{folder}/{name}")) == stem:
                yield Finding(f"{folder}/{name}", "no snapshot names it", "nothing", "harmless: a writer was ended", False)
            else:
                yield Finding(f"{folder}/{name}", "it is damaged, and no snapshot names it", "nothing", "delete it")
