"""Tidying: what nothing refers to any more goes, mostly dead shards are packed anew; never what somebody needs."""

from __future__ import annotations

import contextlib
import re
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any

from pannier.columns import Digests
from pannier.errors import ConflictError, DamageError, NotFoundError, UsageError
from pannier.store import index, left_out, manifest, shards
from pannier.store.files import DRAFT_PREFIX
from pannier.store.folders import unpacking
from pannier.store.leases import FOLDER as LEASES
from pannier.store.leases import READER, TIDIER, VERIFIER, WRITER, Held, kept_up, leases, others
from pannier.store.snapshot import FOLDER as SNAPSHOTS
from pannier.store.upkeep.referenced import Referenced, age_in_seconds, named_snapshots, referenced
from pannier.store.upkeep.repacking import live_pictures, repack
from pannier.store.versions import annotating

if TYPE_CHECKING:
    from pannier.store.store import Store

DEFAULT_AGE = "14d"
# a shard of which more than this share of bytes is dead is packed anew
MOSTLY_DEAD = 0.5
# a younger draft may be a lease in the making, which nothing else protects
DRAFT_SECONDS = 600
_UNITS = {"s": 1, "m": 60, "h": 3600, "d": 86400, "w": 7 * 86400}
_IMMUTABLE = (manifest.FOLDER, left_out.FOLDER, annotating.FILES)

Progress = Callable[[int, int], None]


@dataclass(frozen=True)
class Going:
    """One file that goes, or went: what it is, how many bytes it frees, why nothing needs it."""

    file: str
    kind: str
    byte_count: int
    reason: str


@dataclass
class Tidied:
    """What tidying would do, or did. `repacked` are shards whose live pictures (`moved_bytes`) move into new ones.

    `kept` says what stays for now although it could go, and why. `is_done` is False for a plan.
    """

    going: list[Going] = field(default_factory=list)
    repacked: list[str] = field(default_factory=list)
    moved_bytes: int = 0
    doubles: int = 0
    kept: list[str] = field(default_factory=list)
    is_done: bool = False

    @property
    def byte_count(self) -> int:
        """What it frees, beyond what is written anew."""
        return sum(each.byte_count for each in self.going) - self.moved_bytes

    def add(self, store: Store, file: str, kind: str, reason: str) -> None:
        with contextlib.suppress(NotFoundError):
            self.going.append(Going(file, kind, store.directory.byte_count(file), reason))


def tidy(
    store: Store, *, older_than: str | float = DEFAULT_AGE, apply: bool = False, progress: Progress | None = None
) -> Tidied:
    """What would go from a store, and how much that frees; with `apply` it goes.

    Goes: snapshots that no track, tag or reader leads to and that are older than `older_than` ("14d", "12h" or seconds),
    with what they alone name; pictures that no snapshot shows, by whole shards, or by packing mostly dead ones anew, once
    they are as old; what ended writers left. What a running writer or reader needs stays. Killed at any instant, nothing
    is lost. Raises ConflictError beside a running writer, DamageError where what is referenced cannot be read.
    """
    seconds = read_age(older_than)
    if not apply:
        return _Tidying(store, seconds, None).plan()
    held = Held(store.directory, TIDIER)
    with kept_up(held):
        busy = others(store.directory, held, (WRITER, VERIFIER, TIDIER))
        if busy:
            raise ConflictError(f"{busy[0].text} is at work here: nothing was tidied; try again when that has ended")
        return _Tidying(store, seconds, held).run(progress)


def read_age(text: str | float) -> float:
    """Seconds from "14d", "12h", "30m", "2w" or a number of seconds. Raises UsageError."""
    found = re.fullmatch(r"\s*([0-9]+(?:\.[0-9]+)?)\s*([smhdw]?)\s*", str(text))
    if not found:
        raise UsageError(f"{text!r} is no age: write it as 14d, 12h or 30m")
    return float(found[1]) * _UNITS.get(found[2], 1)


class _Tidying:
    def __init__(self, store: Store, seconds: float, held: Held | None) -> None:
        self._store, self._directory, self._seconds, self._held = store, store.directory, seconds, held
        self._result = Tidied()

    def plan(self) -> Tidied:
        """What would go, in the order in which it goes."""
        busy = others(self._directory, self._held, (WRITER, VERIFIER, TIDIER))
        self._result.kept += [f"{each.text} is at work: nothing can go before that has ended" for each in busy]
        with self._directory.draft(LEASES) as draft:
            self._clock = draft.path.stat().st_mtime
        self._readers = others(self._directory, self._held, (READER,))
        kept = self._kept_snapshots()
        self._refuse_damage(kept)
        self._expired_leases()
        self._snapshots(kept)
        self._immutable(kept)
        self._shards(kept.pictures)
        self._leftovers()
        return self._result

    def run(self, progress: Progress | None) -> Tidied:
        """Does it: new shards first, then what goes, whatever names something before what it names."""
        index.restore_segments(self._directory)
        result = self.plan()
        assert self._held is not None
        result.moved_bytes, new = repack(self._store, self._live, self._held.renew)
        result.going = [each for each in result.going if each.file not in new]  # written by a tidying that was ended
        for done, going in enumerate(result.going, 1):
            self._held.renew()
            self._held.check()
            with contextlib.suppress(NotFoundError):
                self._directory.remove(going.file)
            if progress:
                progress(done, len(result.going))
        self._remove_empty_folders()
        result.is_done = True
        return result

    def _kept_snapshots(self) -> Referenced:
        """What names, readers and age keep, and all that those descend from."""
        there = set(self._store.snapshot_ids())
        read = {each for lease in self._readers for each in lease.snapshots} & there
        young = {each for each in there if age_in_seconds(self._store, each, self._clock) < self._seconds}
        return referenced(self._store, named_snapshots(self._store) | read | young)

    def _refuse_damage(self, kept: Referenced) -> None:
        """What is kept must be there and readable, or else it could not be told what it needs. Raises DamageError."""
        for file in kept.files():
            if not self._directory.exists(file):
                raise DamageError(f"{file} is missing, so nothing is tidied: run pannier verify first", file=file)

    def _snapshots(self, kept: Referenced) -> None:
        for snapshot_id in self._store.snapshot_ids():
            if snapshot_id not in kept.documents:
                reason = "no track, tag or reader leads to it"
                self._result.add(self._store, f"{SNAPSHOTS}/{snapshot_id}.json", "snapshot", reason)
        there = set(self._store.snapshot_ids()) & kept.documents.keys()
        for snapshot_id in self._directory.list(annotating.FOLDER):
            if snapshot_id not in there and snapshot_id[0] != ".":
                for number in annotating.annotation_numbers(self._directory, snapshot_id):
                    file = annotating.annotation_file(snapshot_id, number)
                    self._result.add(self._store, file, "annotation", "its snapshot goes")

    def _immutable(self, kept: Referenced) -> None:
        """Manifests, lists and attached files that no kept snapshot names, once they are old enough."""
        named = kept.files()
        for snapshot_id in kept.documents:
            for each in annotating.read_annotations(self._directory, snapshot_id):
                named |= {attachment.file for attachment in each.attachments}
        kinds = {manifest.FOLDER: "manifest", left_out.FOLDER: "list", annotating.FILES: "attachment"}
        for folder in _IMMUTABLE:
            for name in self._directory.list(folder):
                file = f"{folder}/{name}"
                if name[0] != "." and file not in named and self._is_old(file):
                    self._result.add(self._store, file, kinds[folder], "no snapshot that stays names it")

    def _shards(self, pictures: Digests) -> None:
        """Shards without a live picture go; those that are mostly dead are packed anew. A picture lives in one of them."""
        live, self._doubled = live_pictures(self._store, pictures, self._is_old)
        self._result.doubles = self._doubled
        self._live: dict[str, Any] = {}
        for name, shard in live.items():
            file = f"{shards.FOLDER}/{name}{shards.SUFFIX}"
            if shard.live.all() or not self._is_old(file):
                continue
            dead_bytes, all_bytes = int(shard.length[~shard.live].sum()), max(1, int(shard.length.sum()))
            if shard.live.any():
                if dead_bytes <= MOSTLY_DEAD * all_bytes:
                    continue
                if self._readers:
                    self._result.kept.append(f"{file}: readers are at work; it is packed anew another time")
                    continue
                self._result.repacked.append(name)
                self._result.moved_bytes += all_bytes - dead_bytes
                self._live[name] = shard.live
            reason = (
                "most of its pictures are in no snapshot" if shard.live.any() else "none of its pictures is in a snapshot"
            )
            # the index goes first: a shard without one is whole, an index without its shard would look like damage
            self._result.add(self._store, index.segment_file(name), "index", "its shard goes")
            self._result.add(self._store, file, "shard", reason)

    def _expired_leases(self) -> None:
        """First of all: a writer that stood still for too long must find its lease gone."""
        for lease in leases(self._directory):
            if not lease.is_live:
                self._result.add(self._store, f"{LEASES}/{lease.name}", "lease", "it has expired, or its process has ended")

    def _leftovers(self) -> None:
        """Drafts of writers that were ended, and copies for hard links that no file is linked to."""
        for path in self._directory.root.rglob(f"{DRAFT_PREFIX}*"):
            file = path.relative_to(self._directory.root).as_posix()
            if self._is_old(file, DRAFT_SECONDS):
                self._result.add(self._store, file, "draft", "left by a writer that was ended")
        for path in self._directory.path(unpacking.FOLDER).glob("*/*"):
            with contextlib.suppress(OSError):
                if path.stat().st_nlink == 1:  # no exported folder is linked to it any more
                    file = path.relative_to(self._directory.root).as_posix()
                    self._result.add(self._store, file, "copy", "no exported file is linked to it")

    def _is_old(self, file: str, at_least: float = 0) -> bool:
        try:
            return self._clock - self._directory.changed(file) >= max(self._seconds, at_least)
        except NotFoundError:
            return False

    def _remove_empty_folders(self) -> None:
        for folder in (annotating.FOLDER, unpacking.FOLDER):
            for path in self._directory.path(folder).glob("*"):
                with contextlib.suppress(OSError):
                    path.rmdir()
