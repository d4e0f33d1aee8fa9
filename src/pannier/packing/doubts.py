"""Doubts: what a snapshot to be would have that harms training, though every picture in it is whole."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
import pyarrow as pa

from pannier.columns import differs, joined, numbered
from pannier.kinds import DoubtKind
from pannier.packing.revision import Revision
from pannier.results import Result
from pannier.sources.naming import alike
from pannier.sources.rows import LeftOut
from pannier.store.manifest import names_there


@dataclass(frozen=True, repr=False)
class Doubt(Result):
    """One doubt. Two labels: `keys` are one picture, each under one of `labels`. Alike classes: `labels` may be one class,
    `keys` are the records of the second, which is new.
    """

    kind: DoubtKind
    keys: tuple[str, ...]
    labels: tuple[str, ...]

    @property
    def in_words(self) -> str:
        if self.kind == "alike classes":
            return " and ".join(map(repr, self.labels)) + ", which is new"
        return " = ".join(f"{key} ({label})" for key, label in zip(self.keys, self.labels, strict=True))


def doubt_table(doubts: Sequence[Doubt]) -> Any:
    """A row a record in doubt: key, label, doubt. With labels put right it is what `change` takes `from_`."""
    rows = [
        {"key": key, "label": label, "doubt": f"{each.kind}: {each.in_words}"}
        for each in doubts
        for key, label in zip(
            each.keys, each.labels if each.kind == "two labels" else each.labels[1:] * len(each.keys), strict=True
        )
    ]
    return pa.Table.from_pylist(rows, pa.schema([("key", pa.string()), ("label", pa.string()), ("doubt", pa.string())]))


def _labels_of(doubt: Doubt) -> Sequence[str]:
    return doubt.labels if doubt.kind == "two labels" else doubt.labels[1:] * len(doubt.keys)


def without_doubtful(revision: Revision, classes: Collection[str]) -> Revision:
    """Without its rows that are in doubt, which are listed; records that it leaves as they are stay."""
    doubts = doubts_in(revision, classes)
    reasons = {key: each.in_words for each in doubts for key in each.keys}
    keys = revision.table.column("key").to_pylist()
    kept = np.array([key not in reasons for key in keys], bool)
    if kept.all():
        return revision
    left_out = [LeftOut(key, "doubtful", reasons[key]) for key in keys if key in reasons]
    revision = revision.only(kept)
    revision.left_out += left_out
    return revision


def doubts_in(revision: Revision, classes: Collection[str]) -> list[Doubt]:
    """What a revision's rows make doubtful, also with records that they do not change. `classes` were there before."""
    return _alike_classes(revision, classes) + _two_labels(revision)


def _alike_classes(revision: Revision, classes: Collection[str]) -> list[Doubt]:
    names = revision.labels.names
    new = sorted({names[code] for code in np.unique(revision.labels.codes).tolist() if code >= 0} - {*classes})
    pairs = [(old, each) for at, each in enumerate(new) for old in [*classes, *new[:at]]]
    found = [pair for pair in pairs if alike(*pair)]
    of_class = {name: np.flatnonzero(revision.labels.codes == names.index(name)) for _, name in found}
    return [Doubt("alike classes", tuple(sorted(revision.keys(of_class[new]))), (old, new)) for old, new in found]


def _two_labels(revision: Revision) -> list[Doubt]:
    """Pictures that some of the rows, or rows and other records, have under labels that differ."""
    manifest, digests = revision.manifest, revision.digests
    is_other = ~revision.is_there | revision.is_other_picture | differs(revision.before("label"), revision.labels)
    others = manifest.find_pictures(digests[is_other]) if len(manifest) else np.empty(0, np.int64)
    others = np.setdiff1d(others, np.concatenate([revision.there, revision.gone]))
    labels = joined([revision.labels, names_there(manifest, others, "label")])
    theirs = manifest.gather(others, "sha256") if len(others) else digests[:0]
    numbers = numbered(np.concatenate([digests, theirs]))[0]
    known = np.flatnonzero(labels.codes >= 0)
    pairs = np.unique(numbers[known] * len(labels.names) + labels.codes[known]) // max(1, len(labels.names))
    in_doubt = np.flatnonzero(np.bincount(pairs) > 1)
    rows = np.flatnonzero(np.isin(numbers, in_doubt))
    rows = rows[np.argsort(numbers[rows], kind="stable")]
    found = []
    for here in np.split(rows, np.flatnonzero(np.diff(numbers[rows])) + 1) if len(rows) else ():
        keys = revision.keys(here[here < len(revision)])
        keys += manifest.take(others[here[here >= len(revision)] - len(revision)], ["key"]).column(0).to_pylist()
        named = sorted(zip(keys, labels.take(here).to_list(), strict=True))
        found.append(Doubt("two labels", tuple(key for key, _ in named), tuple(label or "" for _, label in named)))
    return sorted(found, key=lambda doubt: doubt.keys)
