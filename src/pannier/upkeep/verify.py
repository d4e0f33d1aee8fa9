"""Verify: reads every byte of a store and lists all that is wrong, what it harms and what to do."""

from __future__ import annotations

import contextlib
import hashlib
from collections.abc import Callable, Iterator
from concurrent.futures import Executor
from functools import partial
from pathlib import Path
from typing import Any

import numpy as np

from pannier.choices import Progress
from pannier.columns import to_digests
from pannier.dealing.shares import read_part
from pannier.errors import ConflictError, DamageError, NotFoundError, StoreError
from pannier.hashing import checked_seed
from pannier.packing.seen import segment_table
from pannier.storage import layout
from pannier.storage.opening import open_storage, pieces_of, side_by_side
from pannier.storage.protocol import Far, Storage
from pannier.store.canvases import verify_renderings
from pannier.store.documents import Document, digest
from pannier.store.index import read_segment
from pannier.store.leases import READER, TIDIER, VERIFIER, WRITER, Held, holding, leases, others
from pannier.store.left_out import read_left_out
from pannier.store.miniatures import miniature_table
from pannier.store.names import Entry, MovingNames
from pannier.store.shards import locate, shard_names
from pannier.store.snapshots import DocumentReader, Told
from pannier.store.state import OpenedStore, check_format, has_snapshots, is_store, names_by_snapshot, open_store
from pannier.upkeep.findings import FROM_COPY, Finding
from pannier.upkeep.referenced import distinct, is_in, referenced
from pannier.upkeep.repairing import bring_lost_entries
from pannier.upkeep.repairing import repair as mend
from pannier.upkeep.verify_backup import lacking
from pannier.upkeep.verify_content import READ_FAILS, ContentCheck
from pannier.upkeep.verify_pictures import Looking, Pictures, check_shards, harmed
from pannier.upkeep.verify_splits import check_splits
from pannier.versions.attaching import addition_file, addition_numbers, read_addition

_SHOWN_KEYS = 3
_WRITTEN_AGAIN = "verify it with `repair`: that file is the same in every store"


def verify(
    store: str | Path | OpenedStore,
    *,
    quick: bool = False,
    sample: str | float | None = None,
    seed: int = 0,
    repair: bool = False,
    repair_from: str | Path | OpenedStore | None = None,
    against: str | Path | OpenedStore | None = None,
    progress: Progress | None = None,
    executor: Executor | None = None,
) -> list[Finding]:
    """All findings of a store, damage first; an empty list, or information alone, means that every byte is as written.

    Reads every file: pictures against their SHA-256, shards and manifests against their names, indexes against what their
    shards give, documents against their seals, content ids against their rows; names against the history they tell; splits
    against what the newest snapshots say is kept together (exact duplicates, groups, near-duplicates).
    quick: structure alone, no picture is read. sample: a part of the pictures is read, as "5%" or 0.05, fixed by the seed.
    repair: makes again what is derived. repair_from: brings back from a copy of the store what that has. Then it is looked
    again, and what is still wrong is given. against: the original of which this is a copy; what that has and this lacks, or
    has otherwise, is damage. progress: called with (bytes done, bytes in all). executor: whose workers read, a shard each.
    Files that others are making meanwhile are not told of. A store that cannot be written to is verified all the same.
    Memory: a few pieces of 4 MiB, 40 bytes a picture and one manifest. Raises ConflictError while the store is tidied.
    """
    share = 1.0 if sample is None else float(read_part(sample, "sample"))
    try:
        opened = store if isinstance(store, OpenedStore) else _opened(store, mends=repair or repair_from is not None)
        if isinstance(opened.storage, Far):  # what is kept near by proves nothing
            opened = OpenedStore.on(opened.storage.directly())
    except DamageError as error:
        return [Finding(error.file or str(store), str(error), "the whole store", _WRITTEN_AGAIN)]
    with contextlib.ExitStack() as stack:
        how = (_hold(stack, opened), Looking(share, checked_seed(seed), quick), progress, executor)
        copy = open_store(repair_from) if isinstance(repair_from, str | Path) else repair_from
        if copy is not None:
            bring_lost_entries(opened, copy)
        findings = _Verification(opened, *how).run()
        if repair or copy is not None:
            mend(opened, findings, copy)
            findings = _Verification(opened, *how).run()
        if against is not None and not any(finding.is_damage for finding in findings):
            original = open_store(against) if isinstance(against, str | Path) else against
            findings = [*lacking(opened, original), *findings]
    return findings


def _opened(address: str | Path, *, mends: bool) -> OpenedStore:
    """A store. If it is to be repaired, also one whose `pannier.json` is damaged or missing."""
    try:
        return open_store(address)
    except (DamageError, NotFoundError) as error:
        storage = open_storage(address)
        is_lost = isinstance(error, DamageError) or not is_store(storage)
        if mends and is_lost and has_snapshots(storage):
            return OpenedStore.on(storage)
        raise


def _hold(stack: contextlib.ExitStack, store: OpenedStore) -> Held | None:
    """Takes a lease, so that nothing is tidied meanwhile; what cannot be written to cannot be tidied either."""
    try:
        return stack.enter_context(holding(store.storage, VERIFIER))
    except ConflictError:
        raise
    except StoreError:
        return None


def _entry(names: MovingNames, name: str, number: int) -> Entry | StoreError:
    """One entry, or why it cannot be read."""
    try:
        return names.entry(name, number)
    except StoreError as error:
        return error


class _Verification:
    def __init__(
        self, store: OpenedStore, held: Held | None, how: Looking, progress: Progress | None, executor: Executor | None
    ) -> None:
        self._store, self._storage = store, store.storage
        self._how, self._quick, self._progress, self._executor = how, how.quick, progress, executor
        self._pictures = Pictures()
        # what they are making is not left behind by anybody
        self._is_shared = bool(others(store.storage, held, (WRITER, READER, VERIFIER, TIDIER)))
        self._documents: dict[str, Document] = {}

    def run(self) -> list[Finding]:
        """All of them, damage first; a shard whose index alone is missing is damage where a record needs it."""
        findings = list(self._all())
        return sorted(findings, key=lambda finding: (not finding.is_damage, finding.file))

    def _all(self) -> Iterator[Finding]:
        yield from self._format()
        yield from self._leftovers()
        yield from self._leases()
        about_shards = list(check_shards(self._storage, self._pictures, self._how, self._progress, self._executor))
        yield from self._snapshot_documents()
        named: set[str] = set()
        yield from self._names(self._store.strands, named)
        yield from self._names(self._store.tags, named)
        yield from self._missing_snapshots(named)
        content = ContentCheck(self._storage, *self._pictures.all(), quick=self._quick)
        yield from content.run(self._documents)
        yield from self._with_needed_indexes(about_shards)
        by_digest: dict[bytes, list[str]] = {}
        for key, sha256 in content.missing.items():
            by_digest.setdefault(sha256, []).append(key)
        yield from harmed(self._pictures, lambda sha256: by_digest.get(sha256, []))
        yield from self._lost(content.missing)
        yield from self._no_pictures()
        if not self._quick:
            yield from check_splits(self._store)
        yield from self._lists_and_files()
        yield from self._derived(layout.SEEN, segment_table, "the next pack reads again the files that it tells of")
        yield from self._derived(layout.MINIATURES, miniature_table, "they are made from the pictures again")
        for file, problem in verify_renderings(self._storage, quick=self._quick):
            advice = "it is derived: `repair` deletes it, and pannier render makes it again"
            yield Finding(file, problem, "nothing: feeds decode those pictures instead", advice)

    def _with_needed_indexes(self, about_shards: list[Finding]) -> Iterator[Finding]:
        """A missing index is damage where its shard is in use: look-ups are slow without. A fresh shard may lack one."""
        for finding in about_shards:
            is_index = finding.file.startswith(layout.INDEX) and not finding.is_damage
            yield Finding(**{**vars(finding), "is_damage": self._is_used(finding.file)}) if is_index else finding

    def _is_used(self, file: str) -> bool:
        """Whether a snapshot shows a picture that lies in the shard whose index is missing, and in no other."""
        shard = layout.stem(file)
        try:
            used = referenced(self._storage, self._documents).pictures
            here = locate(self._storage, shard).sha256
            segments = [read_segment(self._storage, each) for each in self._indexed()]
        except READ_FAILS:
            return True
        elsewhere = distinct(np.concatenate([here[:0], *(segment.sha256 for segment in segments)]))
        return bool((is_in(here, used) & ~is_in(here, elsewhere)).any())

    def _indexed(self) -> list[str]:
        """The shards that have an index."""
        names = shard_names(self._storage)
        return [name for name in names if self._storage.exists(layout.segment_file(name))]

    def _format(self) -> Iterator[Finding]:
        try:
            check_format(self._storage)
        except (DamageError, NotFoundError) as error:
            yield Finding(layout.FORMAT_FILE, str(error), "the whole store", _WRITTEN_AGAIN)

    def _leftovers(self) -> Iterator[Finding]:
        for file in () if self._is_shared else self._storage.drafts():
            advice = "harmless; pannier tidy removes it in time"
            yield Finding(file, "left behind by a writer that was ended", "nothing", advice, False)
        for name in self._storage.list(""):
            if name not in layout.FOLDERS and name not in (layout.FORMAT_FILE, layout.LISTING_FILE):
                yield Finding(name, "not a part of the store", "nothing", "move it elsewhere", False)
        for name in self._storage.list(layout.DAMAGED):
            advice = "keep or delete it"
            yield Finding(f"{layout.DAMAGED}/{name}", "set aside when the store was repaired", "nothing", advice, False)

    def _leases(self) -> Iterator[Finding]:
        for lease in leases(self._storage):
            if not lease.is_live:
                problem = f"left behind by {lease.text}, which has ended or stands still"
                yield Finding(lease.files[-1], problem, "nothing", "harmless; pannier tidy removes it", False)

    def _snapshot_documents(self) -> Iterator[Finding]:
        documents = DocumentReader(self._storage)
        for snapshot_id in self._store.snapshot_ids():
            file = layout.snapshot_file(snapshot_id)
            try:
                self._documents[snapshot_id] = Told(snapshot_id, documents.read(snapshot_id)).document
            except READ_FAILS as error:
                where = getattr(error, "file", None) or file
                yield Finding(where, str(error), f"snapshot {snapshot_id[:12]}", FROM_COPY)

    def _names(self, names: MovingNames, named: set[str]) -> Iterator[Finding]:
        """Entries are whole and without gaps, and a strand goes on from where it was."""
        for name in names.ever_used():
            numbers = names.numbers(name)
            for number in sorted(set(range(1, numbers[-1] + 1)) - set(numbers)):
                yield Finding(names.file(name, number), "it is missing", f"the history of {name}", FROM_COPY)
            last: str | None = None
            entries = side_by_side(self._storage, partial(_entry, names, name), numbers)
            for number, entry in zip(numbers, entries, strict=True):
                file = names.file(name, number)
                if isinstance(entry, StoreError):
                    yield Finding(file, str(entry), f"what {name} means", FROM_COPY)
                    last = None
                    continue
                if names.kind == layout.STRANDS and last and entry.snapshot and not self._descends(entry.snapshot, last):
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
            file = layout.snapshot_file(snapshot_id)
            what = "a strand or tag names it" if snapshot_id in named else "a later snapshot descends from it"
            yield Finding(file, "it is missing", what, FROM_COPY)

    def _lost(self, missing: dict[str, bytes]) -> Iterator[Finding]:
        """Records whose pictures are in no shard at all."""
        known = {sha256 for _, _, sha256 in self._pictures.damaged}
        lost = sorted(key for key, sha256 in missing.items() if sha256 not in known)
        if lost:
            more = f" and {len(lost) - _SHOWN_KEYS} more" if len(lost) > _SHOWN_KEYS else ""
            shown = ", ".join(lost[:_SHOWN_KEYS]) + more
            advice = "bring them from a copy with `repair_from` COPY, or pack those pictures again"
            problem = f"{len(lost)} pictures are in no shard, or not as long as they should be: {shown}"
            yield Finding(layout.SHARDS, problem, f"{len(lost)} records", advice, keys=tuple(lost))

    def _no_pictures(self) -> Iterator[Finding]:
        """Stored bytes that are intact but not an image, which only another program writes.

        They are damage while a strand or tag shows them; in older snapshots alone they are worth a note.
        """
        foreign = to_digests(self._pictures.foreign)
        is_shown = np.zeros(len(foreign), bool)
        for snapshot_id in names_by_snapshot(self._store) if len(foreign) else ():
            with contextlib.suppress(*READ_FAILS):
                manifest = self._store.state_of(snapshot_id).manifest
                is_shown |= is_in(foreign, distinct(manifest.pictures(np.arange(len(manifest)))))
        for shows, is_damage in ((is_shown, True), (~is_shown, False)):
            if shows.any():
                named = sorted(each.tobytes().hex() for each in foreign[shows])
                shown = ", ".join(f"'{each}'" for each in named[:_SHOWN_KEYS])
                advice = f'remove their records with pannier change, `remove` and `where` "sha256 IN ({shown})"'
                harms = "feeds stop at the records that show them" if is_damage else "old snapshots alone"
                yield Finding(layout.SHARDS, f"{len(named)} of the stored files are not images", harms, advice, is_damage)

    def _lists_and_files(self) -> Iterator[Finding]:
        """Lists, attached files and additions; manifests, lists and files that nothing names."""
        lists: set[str] = set()
        manifests: set[str] = set()
        files: dict[str, str] = {}
        for snapshot_id, document in self._documents.items():
            manifests.update(document[part]["name"] for part in ("base", "delta") if document[part])
            lists.update([document["left_out"]] if document["left_out"] else [])
            files |= {each["sha256"]: f"{each['name']} of snapshot {snapshot_id[:12]}" for each in document["attachments"]}
        for name in sorted(lists):
            try:
                read_left_out(self._storage, name)
            except StoreError as error:
                where = getattr(error, "file", None) or layout.left_out_file(name)
                yield Finding(where, str(error), "the list of what was left out", FROM_COPY)
        yield from self._additions(files)
        yield from self._unnamed(layout.MANIFESTS, manifests)
        yield from self._unnamed(layout.LEFT_OUT, lists)
        yield from self._files(files)

    def _additions(self, files: dict[str, str]) -> Iterator[Finding]:
        """Additions are whole and of snapshots that are there; the files that they attach go into `files`."""
        for snapshot_id in self._storage.list(layout.ADDITIONS):
            numbers = addition_numbers(self._storage, snapshot_id)
            if not self._storage.exists(layout.snapshot_file(snapshot_id)):
                file = f"{layout.ADDITIONS}/{snapshot_id}"
                yield Finding(file, "its snapshot is not here", "nothing", "harmless: the snapshot was removed", False)
            for number in sorted(set(range(1, numbers[-1] + 1 if numbers else 1)) - set(numbers)):
                file = addition_file(snapshot_id, number)
                yield Finding(file, "it is missing", f"what was added to snapshot {snapshot_id[:12]}", FROM_COPY)
            for number in numbers:
                file = addition_file(snapshot_id, number)
                try:
                    addition = read_addition(self._storage, snapshot_id, number)
                    files |= {a.sha256: f"{a.name} of snapshot {snapshot_id[:12]}" for a in addition.attachments}
                except StoreError as error:
                    yield Finding(file, str(error), f"what was added to snapshot {snapshot_id[:12]}", FROM_COPY)

    def _files(self, files: dict[str, str]) -> Iterator[Finding]:
        """Attached files hash to their names."""
        attached = self._storage.list(layout.FILES)
        for name in sorted(set(files) - set(attached)):
            yield Finding(f"{layout.FILES}/{name}", "it is missing", f"attachment {files[name]}", FROM_COPY)
        for name in attached:
            path = layout.attached_file(name)
            if not self._quick and self._sha256(path) != name:
                harms = f"attachment {files[name]}" if name in files else "nothing"
                yield Finding(path, "it is damaged", harms, FROM_COPY)
                continue
            if name not in files and not self._is_shared:
                yield Finding(path, "no snapshot names it", "nothing", "harmless: a writer was ended", False)

    def _sha256(self, file: str) -> str:
        hasher = hashlib.sha256()
        for piece in pieces_of(self._storage, file):
            hasher.update(piece)
        return hasher.hexdigest()

    def _unnamed(self, folder: str, named: set[str]) -> Iterator[Finding]:
        for name in self._storage.list(folder):
            if layout.stem(name) in named:
                continue
            if digest(self._storage.read(f"{folder}/{name}")) != layout.stem(name):
                yield Finding(f"{folder}/{name}", "it is damaged, and no snapshot names it", "nothing", "delete it")
            elif not self._is_shared:
                yield Finding(f"{folder}/{name}", "no snapshot names it", "nothing", "harmless: a writer was ended", False)

    def _derived(self, folder: str, read: Callable[[Storage, str], Any], harms: str) -> Iterator[Finding]:
        """Of a folder of derived tables what is damaged."""
        for name in self._storage.list(folder):
            file = f"{folder}/{name}"
            try:
                if name.endswith(layout.ARROW):
                    read(self._storage, name)
            except NotFoundError:
                continue  # merged into another in this moment
            except DamageError as error:
                yield Finding(file, str(error), f"nothing for long: {harms}", "it is derived: `repair` deletes it")
