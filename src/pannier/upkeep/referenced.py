"""What is referenced: the snapshots that names, leases and age keep, and the pictures that those show."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable
from dataclasses import dataclass

import numpy as np

from pannier.columns import Digests, digests_of, numbered
from pannier.errors import NotFoundError
from pannier.storage.layout import attached_file, left_out_file, snapshot_file
from pannier.storage.protocol import Storage
from pannier.store.documents import Document
from pannier.store.manifest import overridden_rows
from pannier.store.manifest_files import ManifestFile, read_table
from pannier.store.snapshots import read_document

# so many digests are collected before they are reduced to distinct ones
_ROWS_AT_ONCE = 1 << 18


@dataclass(frozen=True)
class Referenced:
    """The documents of the snapshots that are kept, by id, and the distinct pictures that they show, (n, 32) uint8."""

    documents: dict[str, Document]
    pictures: Digests

    def files(self) -> set[str]:
        """The manifests, lists and attached files that those snapshots name, as paths in the store."""
        named = set()
        for document in self.documents.values():
            named |= {ManifestFile(**document[part]).path for part in ("base", "delta") if document[part]}
            named |= {left_out_file(document["left_out"])} if document["left_out"] else set()
            named |= {attached_file(each["sha256"]) for each in document["attachments"]}
        return named


def referenced(storage: Storage, roots: Iterable[str]) -> Referenced:
    """The snapshots from which `roots` descend, themselves too, and their pictures. Raises DamageError.

    A snapshot is read by base and delta, each once: memory is the distinct pictures and one base.
    """
    documents: dict[str, Document] = {}
    waiting = list(roots)
    while waiting:
        snapshot_id = waiting.pop()
        if snapshot_id not in documents:
            documents[snapshot_id] = read_document(storage, snapshot_id)
            waiting += documents[snapshot_id]["parents"]
    return Referenced(documents, _pictures(storage, documents))


def _pictures(storage: Storage, documents: dict[str, Document]) -> Digests:
    """The distinct pictures: a row of a base counts unless every snapshot upon that base replaces or removes it."""
    by_base: dict[str, list[Document]] = defaultdict(list)
    for document in documents.values():
        by_base[document["base"]["name"]].append(document)
    digests = np.empty((0, 32), np.uint8)
    deltas: set[str] = set()
    for upon in by_base.values():
        base = read_table(storage, ManifestFile(**upon[0]["base"]))
        replaced = np.zeros(base.num_rows, np.int32)
        parts = [digests]
        for document in upon:
            if document["delta"]:
                delta = read_table(storage, ManifestFile(**document["delta"]))
                replaced[overridden_rows(base, delta)] += 1
                if document["delta"]["name"] not in deltas:
                    deltas.add(document["delta"]["name"])
                    stays = ~delta.column("removed").to_numpy(zero_copy_only=False)
                    parts.append(digests_of(delta.column("sha256"))[stays])
            parts = _fewer(parts)
        of_base = digests_of(base.column("sha256"))
        for at in range(0, len(of_base), _ROWS_AT_ONCE):
            some = slice(at, at + _ROWS_AT_ONCE)
            parts = _fewer([*parts, distinct(of_base[some][replaced[some] < len(upon)])])
        digests = distinct(np.concatenate(parts))
    return digests


def _fewer(parts: list[Digests]) -> list[Digests]:
    """The same digests, as distinct ones where there are many beside the first part."""
    if sum(map(len, parts)) <= 2 * len(parts[0]) + _ROWS_AT_ONCE:
        return parts
    return [distinct(np.concatenate(parts))]


def distinct(digests: Digests) -> Digests:
    """Each digest once, in order of their bytes."""
    if not len(digests):
        return digests
    _, first = numbered(digests)
    return digests[first]


def is_in(digests: Digests, known: Digests) -> np.ndarray[tuple[int], np.dtype[np.bool_]]:
    """Which digests are among those known, which are distinct and in order of their bytes."""
    if not len(known) or not len(digests):
        return np.zeros(len(digests), bool)
    numbers, _ = numbered(np.concatenate([known, digests]))
    is_known = np.zeros(int(numbers.max()) + 1, bool)
    is_known[numbers[: len(known)]] = True
    is_member: np.ndarray[tuple[int], np.dtype[np.bool_]] = is_known[numbers[len(known) :]]
    return is_member


def age_in_seconds(storage: Storage, snapshot_id: str, clock: float) -> float:
    """How long a snapshot has been there, by the store's clock."""
    try:
        return max(0.0, clock - storage.changed(snapshot_file(snapshot_id)))
    except NotFoundError:
        return 0.0
