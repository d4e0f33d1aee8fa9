"""Verify: reads every byte of a store and lists all that is wrong, what it harms and what to do."""

from __future__ import annotations

import contextlib
import hashlib
from collections.abc import Iterator
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np

from pannier.errors import ConflictError, DamageError, StoreError
from pannier.hashing import checked_seed
from pannier.shares import read_part
from pannier.store import canvases, index, leases, left_out, manifest, shards, snapshot
from pannier.store.documents import Document, digest
from pannier.store.files import DRAFT_PREFIX
from pannier.store.folders import unpacking
from pannier.store.names import Names
from pannier.store.upkeep.findings import FROM_COPY, Finding
from pannier.store.upkeep.referenced import distinct, is_in, referenced
from pannier.store.upkeep.verify_content import READ_FAILS, ContentCheck
from pannier.store.upkeep.verify_pictures import Pictures, Progress, check_shards, harmed
from pannier.store.versions import annotating
from pannier.store.writing import seen

if TYPE_CHECKING:
    from pannier.store.store import Store

KNOWN_FOLDERS = (
    shards.FOLDER,
    index.FOLDER,
    manifest.FOLDER,
    snapshot.FOLDER,
    left_out.FOLDER,
    seen.FOLDER,
    annotating.FOLDER,
    annotating.FILES,
    leases.FOLDER,
    unpacking.FOLDER,
    "tracks",
    "tags",
    canvases.FOLDER,
    "damaged",
)
_SHOWN_KEYS = 3


def verify(
    store: str | Path | Store,
    *,
    quick: bool = False,
    subset: str | float | None = None,
    seed: int = 0,
    repair: bool = False,
    repair_from: str | Path | Store | None = None,
    progress: Progress | None = None,
) -> list[Finding]:
    """All findings of a store, damage first; an empty list, or information alone, means that every byte is as written.

    Reads every file: pictures against their SHA-256, shards and manifests against their names, indexes against what their
    shards give, documents against their seals, content ids against their rows; names against the history they tell.
    quick: structure alone, no picture is read. subset: a part of the pictures is read, as "5%" or 0.05, fixed by the seed.
    repair: makes again what is derived. repair_from: brings back from a copy of the store what that has. Then it is looked
    again, and what is still wrong is given. progress: called with (bytes done, bytes in all).
    Memory: a few pieces of 4 MiB, 40 bytes a picture and one manifest. Raises ConflictError while the store is tidied.
    """
    from pannier.store.store import Store, open_store

    share = 1.0 if subset is None else float(read_part(subset))
    try:
        opened = store if isinstance(store, Store) else open_store(store)
    except DamageError as error:
        return [Finding(error.file or str(store), str(error), "the whole store", FROM_COPY)]
    with contextlib.ExitStack() as stack:
        _hold(stack, opened)
        found = _Verification(opened, share, checked_seed(seed), quick, progress).run()
        if repair or repair_from is not None:
            from pannier.store.upkeep.repairing import repair as mend

            mend(opened, found, repair_from)
            found = _Verification(opened, share, seed, quick, progress).run()
    return found


def _hold(stack: contextlib.ExitStack, store: Store) -> None:
    """Takes a lease, so that nothing is tidied meanwhile; what cannot be written to cannot be tidied either."""
    try:
        stack.enter_context(leases.holding(store.directory, leases.VERIFIER))
    except ConflictError:
        raise
    except StoreError:
        pass


class _Verification:
    def __init__(self, store: Store, share: float, seed: int, quick: bool, progress: Progress | None) -> None:
        self._store, self._directory = store, store.directory
        self._share, self._seed, self._quick, self._progress = share, seed, quick, progress
        self._pictures = Pictures()
        self._documents: dict[str, Document] = {}

    def run(self) -> list[Finding]:
        """All of them, damage first; a shard whose index alone is missing is damage where a record needs it."""
        found = list(self._all())
        return sorted(found, key=lambda finding: (not finding.is_damage, finding.file))

    def _all(self) -> Iterator[Finding]:
        yield from self._leftovers()
        yield from self._leases()
        options = {"share": self._share, "seed": self._seed, "quick": self._quick, "progress": self._progress}
        about_shards = list(check_shards(self._directory, self._pictures, **options))  # type: ignore[arg-type]
        yield from self._snapshot_documents()
        named: set[str] = set()
        yield from self._names(self._store.tracks, named)
        yield from self._names(self._store.tags, named)
        yield from self._missing_snapshots(named)
        content = ContentCheck(self._directory, *self._pictures.all(), quick=self._quick)
        yield from content.run(self._documents)
        yield from self._with_needed_indexes(about_shards)
        by_digest: dict[bytes, list[str]] = {}
        for key, sha256 in content.missing.items():
            by_digest.setdefault(sha256, []).append(key)
        yield from harmed(self._pictures, lambda sha256: by_digest.get(sha256, []))
        yield from self._lost(content.missing)
        yield from self._lists_and_files()
        yield from self._seen()
        for damage in canvases.verify_renderings(self._directory, quick=self._quick):
            advice = "it is derived: --repair deletes it, and pannier render makes it again"
            yield Finding(damage.file, damage.problem, "nothing: feeds decode those pictures instead", advice)

    def _with_needed_indexes(self, about_shards: list[Finding]) -> Iterator[Finding]:
        """A missing index is damage where its shard is in use: look-ups are slow without. A fresh shard may lack one."""
        for finding in about_shards:
            is_index = finding.file.startswith(index.FOLDER) and not finding.is_damage
            yield Finding(**{**vars(finding), "is_damage": self._is_used(finding.file)}) if is_index else finding

    def _is_used(self, segment_file: str) -> bool:
        """Whether a snapshot shows a picture that lies in the shard whose index is missing, and in no other."""
        shard = segment_file.rpartition("/")[2].removesuffix(index.SUFFIX)
        try:
            used = referenced(self._store, self._documents).pictures
            here = shards.locate(shards.shard_path(self._directory, shard)).sha256
            segments = [index.read_segment(self._directory, each) for each in self._indexed()]
        except READ_FAILS:
            return True
        elsewhere = distinct(np.concatenate([here[:0], *(segment.sha256 for segment in segments)]))
        return bool((is_in(here, used) & ~is_in(here, elsewhere)).any())

    def _indexed(self) -> list[str]:
        """The shards that have an index."""
        names = shards.shard_names(self._directory)
        return [name for name in names if self._directory.exists(index.segment_file(name))]

    def _leftovers(self) -> Iterator[Finding]:
        folders = ["", *KNOWN_FOLDERS]
        for kind in ("tracks", "tags", annotating.FOLDER):
            folders += [f"{kind}/{name}" for name in self._directory.list(kind) if name[0] != "."]
        for name in self._directory.list(canvases.FOLDER):
            folders += [f"{canvases.FOLDER}/{name}/{part}" for part in ("", shards.FOLDER, index.FOLDER)]
        for folder in folders:
            for name in self._directory.list(folder):
                path = f"{folder}/{name}" if folder else name
                if name.startswith(DRAFT_PREFIX):
                    advice = "harmless; pannier tidy removes it in time"
                    yield Finding(path, "left behind by a writer that was ended", "nothing", advice, False)
                elif not folder and name not in KNOWN_FOLDERS and name != "pannier.json":
                    yield Finding(path, "not a part of the store", "nothing", "move it elsewhere", False)
        for name in self._directory.list("damaged"):
            yield Finding(f"damaged/{name}", "set aside when the store was repaired", "nothing", "keep or delete it", False)

    def _leases(self) -> Iterator[Finding]:
        for lease in leases.leases(self._directory):
            if not lease.is_live:
                problem = f"left behind by {lease.text}, which has ended or stands still"
                yield Finding(
                    f"{leases.FOLDER}/{lease.name}", problem, "nothing", "harmless; pannier tidy removes it", False
                )

    def _snapshot_documents(self) -> Iterator[Finding]:
        for snapshot_id in self._store.snapshot_ids():
            file = f"{snapshot.FOLDER}/{snapshot_id}.json"
            try:
                document = snapshot.read_document(self._store, snapshot_id)
                snapshot.check_fields(document, snapshot_id)
                self._documents[snapshot_id] = document
            except READ_FAILS as error:
                where = getattr(error, "file", None) or file
                yield Finding(where, str(error), f"snapshot {snapshot_id[:12]}", FROM_COPY)

    def _names(self, names: Names, named: set[str]) -> Iterator[Finding]:
        """Entries are whole and without gaps, and a track goes on from where it was."""
        for name in names.ever_used():
            numbers = names.numbers(name)
            for number in sorted(set(range(1, numbers[-1] + 1)) - set(numbers)):
                yield Finding(names.file(name, number), "it is missing", f"the history of {name}", FROM_COPY)
            last: str | None = None
            for number in numbers:
                file = names.file(name, number)
                try:
                    entry = names.entry(name, number)
                except StoreError as error:
                    yield Finding(file, str(error), f"what {name} means", FROM_COPY)
                    last = None
                    continue
                if names.kind == "tracks" and last and entry.snapshot and not self._descends(entry.snapshot, last):
                    problem = f"it does not go on from entry {number - 1}: history was rewritten"
                    yield Finding(file, problem, f"the history of {name}", FROM_COPY)
                last = entry.snapshot
                if entry.snapshot and number == numbers[-1]:
                    named.add(entry.snapshot)

    def _descends(self, newer: str, older: str) -> bool:
        """Whether a snapshot descends from another, as far as documents can be read."""
        waiting, looked = [newer], set()
        while waiting:
            each = waiting.pop()
            if each == older or each not in self._documents:
                return True  # what cannot be read is said elsewhere
            if each not in looked:
                looked.add(each)
                waiting += self._documents[each]["parents"]
        return False

    def _missing_snapshots(self, named: set[str]) -> Iterator[Finding]:
        parents = {parent for document in self._documents.values() for parent in document["parents"]}
        for snapshot_id in sorted((named | parents) - set(self._store.snapshot_ids())):
            file = f"{snapshot.FOLDER}/{snapshot_id}.json"
            what = "a track or tag names it" if snapshot_id in named else "a later snapshot descends from it"
            yield Finding(file, "it is missing", what, FROM_COPY)

    def _lost(self, missing: dict[str, bytes]) -> Iterator[Finding]:
        """Records whose pictures are in no shard at all."""
        known = {sha256 for _, _, sha256 in self._pictures.damaged}
        lost = sorted(key for key, sha256 in missing.items() if sha256 not in known)
        if lost:
            shown = ", ".join(lost[:_SHOWN_KEYS]) + (
                f" and {len(lost) - _SHOWN_KEYS} more" if len(lost) > _SHOWN_KEYS else ""
            )
            advice = "bring them from a copy with --repair-from COPY, or pack those pictures again"
            problem = f"{len(lost)} pictures are in no shard, or not as long as they should be: {shown}"
            yield Finding(shards.FOLDER, problem, f"{len(lost)} records", advice, keys=tuple(lost))

    def _lists_and_files(self) -> Iterator[Finding]:
        """Lists, attached files and annotations; manifests, lists and files that nothing names."""
        lists: set[str] = set()
        manifests: set[str] = set()
        files: dict[str, str] = {}
        for snapshot_id, document in self._documents.items():
            manifests.update(document[part]["name"] for part in ("base", "delta") if document[part])
            lists.update([document["left_out"]] if document["left_out"] else [])
            files |= {each["sha256"]: f"{each['name']} of snapshot {snapshot_id[:12]}" for each in document["attachments"]}
        for name in sorted(lists):
            try:
                left_out.read_left_out(self._directory, name)
            except StoreError as error:
                where = getattr(error, "file", None) or left_out.left_out_file(name)
                yield Finding(where, str(error), "the list of what was left out", FROM_COPY)
        yield from self._annotations(files)
        yield from self._unnamed(manifest.FOLDER, manifests)
        yield from self._unnamed(left_out.FOLDER, lists)
        yield from self._files(files)

    def _annotations(self, files: dict[str, str]) -> Iterator[Finding]:
        """Annotations are whole and of snapshots that are there; the files that they attach go into `files`."""
        for snapshot_id in self._directory.list(annotating.FOLDER):
            if snapshot_id[0] == ".":
                continue
            numbers = annotating.annotation_numbers(self._directory, snapshot_id)
            if not self._directory.exists(f"{snapshot.FOLDER}/{snapshot_id}.json"):
                file = f"{annotating.FOLDER}/{snapshot_id}"
                yield Finding(file, "its snapshot is not here", "nothing", "harmless: the snapshot was removed", False)
            for number in sorted(set(range(1, numbers[-1] + 1 if numbers else 1)) - set(numbers)):
                file = annotating.annotation_file(snapshot_id, number)
                yield Finding(file, "it is missing", f"what was added to snapshot {snapshot_id[:12]}", FROM_COPY)
            for number in numbers:
                file = annotating.annotation_file(snapshot_id, number)
                try:
                    found = annotating.read_annotation(self._directory, snapshot_id, number)
                    files |= {each.sha256: f"{each.name} of snapshot {snapshot_id[:12]}" for each in found.attachments}
                except StoreError as error:
                    yield Finding(file, str(error), f"what was added to snapshot {snapshot_id[:12]}", FROM_COPY)

    def _files(self, files: dict[str, str]) -> Iterator[Finding]:
        """Attached files hash to their names."""
        there = [name for name in self._directory.list(annotating.FILES) if name[0] != "."]
        for name in sorted(set(files) - set(there)):
            yield Finding(f"{annotating.FILES}/{name}", "it is missing", f"attachment {files[name]}", FROM_COPY)
        for name in there:
            path = f"{annotating.FILES}/{name}"
            if not self._quick:
                with open(self._directory.path(path), "rb") as content:
                    is_whole = hashlib.file_digest(content, "sha256").hexdigest() == name
                if not is_whole:
                    harms = f"attachment {files[name]}" if name in files else "nothing"
                    yield Finding(path, "it is damaged", harms, FROM_COPY)
                    continue
            if name not in files:
                yield Finding(path, "no snapshot names it", "nothing", "harmless: a writer was ended", False)

    def _unnamed(self, folder: str, named: set[str]) -> Iterator[Finding]:
        for name in self._directory.list(folder):
            stem = name.removesuffix(".arrow")
            if name[0] == "." or stem in named:
                continue
            if digest(self._directory.read(f"{folder}/{name}")) == stem:
                yield Finding(f"{folder}/{name}", "no snapshot names it", "nothing", "harmless: a writer was ended", False)
            else:
                yield Finding(f"{folder}/{name}", "it is damaged, and no snapshot names it", "nothing", "delete it")

    def _seen(self) -> Iterator[Finding]:
        for name in self._directory.list(seen.FOLDER):
            if name.endswith(seen.SUFFIX) and name[0] != ".":
                try:
                    seen.segment_table(self._directory, name)
                except DamageError as error:
                    harms = "nothing for long: the next pack reads again the files that it tells of"
                    yield Finding(f"{seen.FOLDER}/{name}", str(error), harms, "it is derived: --repair deletes it")
