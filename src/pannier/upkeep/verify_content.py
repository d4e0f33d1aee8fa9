"""Verifying manifests: digests, content ids, and that every record's picture is there; each base and delta once."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Iterator, Sequence
from typing import Any

import numpy as np
import pyarrow as pa

from pannier.columns import Digests, SortedDigests, digests_of, numbered
from pannier.errors import DamageError, PannierError
from pannier.storage.layout import snapshot_file
from pannier.storage.protocol import Storage
from pannier.store.content import BUCKET_SHIFT, BUCKETS, content_id
from pannier.store.documents import Document, digest
from pannier.store.manifest import Manifest, overridden_rows
from pannier.store.manifest_files import ManifestFile
from pannier.store.snapshots import SHOWN_DIGITS
from pannier.upkeep.findings import FROM_COPY, Finding
from pannier.versions.differing import differences

# rows that are looked up at a time
_ROWS_AT_ONCE = 1 << 18

READ_FAILS = (PannierError, pa.ArrowException, KeyError, TypeError, ValueError)


class ContentCheck:
    """Checks the manifests of snapshots. `missing` are records whose pictures are not to be had: (key, SHA-256)."""

    def __init__(self, storage: Storage, digests: Digests, lengths: Any, *, quick: bool) -> None:
        self._storage, self._quick = storage, quick
        _, first = numbered(digests) if len(digests) else (None, np.empty(0, np.int64))
        self._known, self._lengths = SortedDigests(digests[first]), lengths[first]
        self.missing: dict[str, bytes] = {}

    def run(self, documents: dict[str, Document]) -> Iterator[Finding]:
        """All findings about the manifests that those documents, by snapshot, name."""
        by_base: dict[str, list[tuple[str, Document]]] = defaultdict(list)
        for snapshot_id, document in documents.items():
            by_base[document["base"]["name"]].append((snapshot_id, document))
        for upon in by_base.values():
            upon.sort(key=lambda each: (each[1]["delta"] or {}).get("rows", 0))
            yield from self._upon_one_base(upon)

    def _upon_one_base(self, upon: Sequence[tuple[str, Document]]) -> Iterator[Finding]:
        file = ManifestFile(**upon[0][1]["base"])
        ids = ", ".join(snapshot_id[:SHOWN_DIGITS] for snapshot_id, _ in upon[:3]) + (", ..." if len(upon) > 3 else "")
        harms = f"snapshot{'s' if len(upon) > 1 else ''} {ids}"
        base, problem = self._read(file, None)
        if base is None:
            yield Finding(file.path, problem, harms, FROM_COPY)
            return
        if problem:
            yield Finding(file.path, problem, harms, FROM_COPY)
        yield from _nullable(base, harms)
        if not self._quick and not self._fits(base, np.arange(BUCKETS)):
            yield Finding(file.path, "its bucket digests do not fit its rows", harms, FROM_COPY)
        replaced = np.zeros(len(base), np.int64)
        last = base
        for snapshot_id, document in upon:
            yield from self._snapshot(snapshot_id, document, file, base, last, replaced)
            last = self._last or last
        self._look_for_pictures(base, np.flatnonzero(replaced < len(upon)))

    def _snapshot(
        self, snapshot_id: str, document: Document, file: ManifestFile, base: Manifest, last: Manifest, replaced: Any
    ) -> Iterator[Finding]:
        """One snapshot upon a base: its delta, and its content id; only the buckets that differ from the last one's."""
        self._last: Manifest | None = None
        harms = f"snapshot {snapshot_id[:SHOWN_DIGITS]}"
        manifest = base
        if document["delta"]:
            delta = ManifestFile(**document["delta"])
            found, problem = self._read(file, delta)
            if problem or found is None:
                yield Finding(delta.path, problem, harms, FROM_COPY)
            if found is None:
                return
            manifest = found
            yield from _nullable(manifest, harms, delta)
            rows = manifest.delta_rows
            replaced[overridden_rows(base.table(), rows)] += 1
            stays = ~rows.column("removed").to_numpy(zero_copy_only=False)
            told = (digests_of(rows.column("sha256")), rows.column("byte_count").to_numpy())
            self._note_missing(*told, rows.column("key").take, stays)
            if not self._quick and not self._fits(manifest, _changed_buckets(last, manifest)):
                yield Finding(snapshot_file(snapshot_id), "its content id does not fit its rows", harms, FROM_COPY)
        if content_id(manifest.digests) != document["content_id"] or len(manifest) != document["records"]:
            yield Finding(snapshot_file(snapshot_id), "its content id does not fit its rows", harms, FROM_COPY)
        self._last = manifest

    def _read(self, file: ManifestFile, delta: ManifestFile | None) -> tuple[Manifest | None, str]:
        """A manifest, or what is wrong with its last file."""
        which = delta or file
        try:
            manifest = Manifest.read(self._storage, file, delta)
        except READ_FAILS as error:
            return None, str(error) if isinstance(error, DamageError) else f"it cannot be read ({error})"
        if not self._quick and digest(self._storage.read(which.path)) != which.name:
            return manifest, "its digest is not its name"
        return manifest, ""

    def _fits(self, manifest: Manifest, buckets: Any) -> bool:
        """Whether the digests of those buckets, computed from the rows, are those that the files give."""
        starts, stops = manifest.bucket_borders(buckets)
        held = buckets[stops > starts].tolist()
        is_claimed = manifest.digests.keys() & set(buckets.tolist()) == set(held)
        return is_claimed and all(manifest.digests[bucket] == value for bucket, value in manifest.bucket_digests(held))

    def _look_for_pictures(self, manifest: Manifest, rows: Any) -> None:
        for at in range(0, len(rows), _ROWS_AT_ONCE):
            some = rows[at : at + _ROWS_AT_ONCE]
            digests, lengths = (manifest.gather(some, name) for name in ("sha256", "byte_count"))
            self._note_missing(digests, lengths, manifest.take(some, ["key"]).column(0).take, np.ones(len(some), bool))

    def _note_missing(self, digests: Digests, lengths: Any, keys: Callable[[Any], Any], asked: Any) -> None:
        """Notes the records, of those asked for, whose pictures are not there with the length that the manifest gives."""
        found = self._known.places(digests)
        lost = np.flatnonzero(((found < 0) | (np.append(self._lengths, -1)[found] != lengths)) & asked)
        for key, row in zip(keys(pa.array(lost)).to_pylist(), lost.tolist(), strict=True):
            self.missing[key] = digests[row].tobytes()


def _nullable(manifest: Manifest, harms: str, delta: ManifestFile | None = None) -> Iterator[Finding]:
    """That a base, or the delta that is given, declares columns nullable which are not."""
    for file in manifest.nullable_files:
        if file == (delta or manifest.base_file):
            problem = "it declares columns nullable that are not; it was written by an early version"
            advice = f"harmless to {harms}: it is read correctly, and the next base is written correctly"
            yield Finding(file.path, problem, "nothing", advice, False)


def _changed_buckets(last: Manifest, manifest: Manifest) -> Any:
    """The buckets in which two manifests upon one base may differ: by their digests, and by the rows of their deltas."""
    every = last.digests.keys() | manifest.digests.keys()
    claimed = [bucket for bucket in every if last.digests.get(bucket) != manifest.digests.get(bucket)]
    before, after = (Manifest(each.delta_rows, None, {}) for each in (last, manifest))
    difference = differences(before, after)
    hashes = [
        m.hashes_at(rows) for m, rows in ((after, difference.added), (after, difference.rows), (before, difference.gone))
    ]
    buckets = (np.concatenate(hashes) >> np.uint64(BUCKET_SHIFT)).astype(np.int64)
    return np.unique(np.concatenate([np.array(claimed, np.int64), buckets]))
