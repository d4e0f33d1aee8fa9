"""Tidying: what nothing refers to any more goes, mostly dead shards are packed anew; never what somebody needs."""

from __future__ import annotations

import contextlib
from dataclasses import dataclass, field
from typing import Any

from pannier.choices import Progress
from pannier.columns import Digests
from pannier.errors import ConflictError, DamageError, NotFoundError
from pannier.results import Result, plain
from pannier.storage import layout
from pannier.storage.protocol import Storage
from pannier.store.index import restore_segments
from pannier.store.leases import READER, TIDIER, VERIFIER, WRITER, Held, check_there, kept_up, leases, others
from pannier.store.state import OpenedStore, names_by_snapshot
from pannier.units import read_seconds
from pannier.upkeep.referenced import Referenced, age_in_seconds, referenced
from pannier.upkeep.repacking import live_pictures, repack
from pannier.versions.attaching import addition_file, addition_numbers, read_additions

DEFAULT_AGE = "10d"
# a shard of which more than this share of bytes is dead is packed anew
MOSTLY_DEAD = 0.5
# a younger draft may be a lease in the making, which nothing else protects
DRAFT_SECONDS = 600
_IMMUTABLE = {layout.MANIFESTS: "manifest", layout.LEFT_OUT: "list", layout.FILES: "attachment"}


@dataclass(frozen=True, repr=False)
class Going(Result):
    """One file that goes, or went: what it is, how many bytes it frees, why nothing needs it."""

    file: str
    kind: str
    byte_count: int
    reason: str


@dataclass(eq=False, repr=False)
class Tidied(Result):
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

    def to_dict(self) -> dict[str, Any]:
        """Plain data for JSON."""
        names = ("byte_count", "moved_bytes", "repacked", "doubles", "kept", "is_done")
        return {name: getattr(self, name) for name in names} | {"going": plain(self.going)}

    def add(self, storage: Storage, file: str, kind: str, reason: str) -> None:
        with contextlib.suppress(NotFoundError):
            self.going.append(Going(file, kind, storage.size(file), reason))


def tidy(
    store: OpenedStore, *, older_than: str | float = DEFAULT_AGE, yes: bool = False, progress: Progress | None = None
) -> Tidied:
    """What would go from a store, and how much that frees; with `yes` it goes.

    Goes: snapshots that no strand, tag or reader leads to and that are older than `older_than` ("10d", "12h" or seconds),
    with what they alone name; pictures that no snapshot shows, by whole shards, or by packing mostly dead ones anew, once
    they are as old; what ended writers left. What a running writer or reader needs stays. Killed at any instant, nothing
    is lost. Raises ConflictError beside a running writer, DamageError where what is referenced cannot be read.
    """
    seconds = read_seconds(older_than)
    check_there(store.storage)
    if not yes:
        return _Tidying(store, seconds, None).plan()
    held = Held(store.storage, TIDIER)
    with kept_up(held):
        busy = others(store.storage, held, (WRITER, VERIFIER, TIDIER))
        if busy:
            raise ConflictError(f"{busy[0].text} is at work here: nothing was tidied; try again when that has ended")
        return _Tidying(store, seconds, held).run(progress)


class _Tidying:
    def __init__(self, store: OpenedStore, seconds: float, held: Held | None) -> None:
        self._store, self._storage, self._seconds, self._held = store, store.storage, seconds, held
        self._result = Tidied()

    def plan(self) -> Tidied:
        """What would go, in the order in which it goes."""
        busy = others(self._storage, self._held, (WRITER, VERIFIER, TIDIER))
        self._result.kept += [f"{each.text} is at work: nothing can go before that has ended" for each in busy]
        self._clock = self._storage.now()
        self._readers = others(self._storage, self._held, (READER,))
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
        restore_segments(self._storage)
        result = self.plan()
        assert self._held is not None
        result.moved_bytes, new = repack(self._storage, self._live, self._held.renew)
        result.going = [each for each in result.going if each.file not in new]  # written by a tidying that was ended
        for done, going in enumerate(result.going, 1):
            self._held.renew()
            self._held.check()
            with contextlib.suppress(NotFoundError):
                self._storage.remove(going.file)
            if progress:
                progress(done, len(result.going))
        for folder in (layout.ADDITIONS, layout.SINGLES):
            self._storage.prune(folder)
        result.is_done = True
        return result

    def _kept_snapshots(self) -> Referenced:
        """What names, readers and age keep, and all that those descend from."""
        snapshot_ids = set(self._store.snapshot_ids())
        read = {snapshot for lease in self._readers for snapshot in lease.snapshots} & snapshot_ids
        young = {each for each in snapshot_ids if age_in_seconds(self._storage, each, self._clock) < self._seconds}
        return referenced(self._storage, names_by_snapshot(self._store).keys() | read | young)

    def _refuse_damage(self, kept: Referenced) -> None:
        """What is kept must be there and readable, or else it could not be told what it needs. Raises DamageError."""
        for file in kept.files():
            if not self._storage.exists(file):
                raise DamageError(f"{file} is missing, so nothing is tidied: run pannier verify first", file=file)

    def _snapshots(self, kept: Referenced) -> None:
        for snapshot_id in self._store.snapshot_ids():
            if snapshot_id not in kept.documents:
                reason = "no strand, tag or reader leads to it"
                self._result.add(self._storage, layout.snapshot_file(snapshot_id), "snapshot", reason)
        snapshot_ids = set(self._store.snapshot_ids()) & kept.documents.keys()
        for snapshot_id in self._storage.list(layout.ADDITIONS):
            if snapshot_id not in snapshot_ids:
                for number in addition_numbers(self._storage, snapshot_id):
                    file = addition_file(snapshot_id, number)
                    self._result.add(self._storage, file, "addition", "its snapshot goes")

    def _immutable(self, kept: Referenced) -> None:
        """Manifests, lists and attached files that no kept snapshot names, once they are old enough."""
        named = kept.files()
        for snapshot_id in kept.documents:
            for addition in read_additions(self._storage, snapshot_id):
                named |= {attachment.file for attachment in addition.attachments}
        for folder, kind in _IMMUTABLE.items():
            for name in self._storage.list(folder):
                file = f"{folder}/{name}"
                if file not in named and self._is_old(file):
                    self._result.add(self._storage, file, kind, "no snapshot that stays names it")

    def _shards(self, pictures: Digests) -> None:
        """Shards without a live picture go; those that are mostly dead are packed anew. A picture lives in one of them."""
        live, self._doubled = live_pictures(self._storage, pictures, self._is_old)
        self._result.doubles = self._doubled
        self._live: dict[str, Any] = {}
        for name, shard in live.items():
            file = layout.shard_file(name)
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
            share = "most of its pictures are in no" if shard.live.any() else "none of its pictures is in a"
            reason = f"{share} snapshot"
            # the index goes first: a shard without one is whole, an index without its shard would look like damage
            self._result.add(self._storage, layout.segment_file(name), "index", "its shard goes")
            self._result.add(self._storage, file, "shard", reason)

    def _expired_leases(self) -> None:
        """First of all: a writer that stood still for too long must find its lease gone."""
        for lease in leases(self._storage):
            if not lease.is_live:
                for file in lease.files:
                    self._result.add(self._storage, file, "lease", "it has expired, or its process has ended")

    def _leftovers(self) -> None:
        """Drafts of writers that were ended, and copies for hard links that no file is linked to."""
        for file in self._storage.drafts():
            if self._is_old(file, DRAFT_SECONDS):
                self._result.add(self._storage, file, "draft", "left by a writer that was ended")
        for folder in self._storage.list(layout.SINGLES):
            for name in self._storage.list(f"{layout.SINGLES}/{folder}"):
                file = f"{layout.SINGLES}/{folder}/{name}"
                with contextlib.suppress(NotFoundError):
                    if not self._storage.is_linked(file):
                        self._result.add(self._storage, file, "copy", "no exported file is linked to it")

    def _is_old(self, file: str, at_least: float = 0) -> bool:
        try:
            return self._clock - self._storage.changed(file) >= max(self._seconds, at_least)
        except NotFoundError:
            return False
