"""Doubts: what a snapshot to be would have that harms training, though every picture in it is whole."""

from __future__ import annotations

from collections import Counter
from collections.abc import Collection, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
import pyarrow as pa

from pannier.array_types import Flags
from pannier.columns import differs, joined, numbered
from pannier.errors import SourceError
from pannier.kinds import DoubtKind
from pannier.packing.revision import Revision
from pannier.results import Result
from pannier.sources.naming import alike
from pannier.sources.rows import LeftOut
from pannier.store.manifest import names_there


@dataclass(frozen=True, repr=False)
class Doubt(Result):
    """One doubt. Two labels: `keys` are one picture, each under one of `labels`. Alike classes: `labels` are two class names
    that may be one, with `records` records each; the second is the rarer one, and `keys` are its records.

    is_tie: both names are as frequent, and new: nobody can tell which one is right; `keys` are the records of both.
    """

    kind: DoubtKind
    keys: tuple[str, ...]
    labels: tuple[str, ...]
    records: tuple[int, ...] = ()
    is_tie: bool = False

    @property
    def in_words(self) -> str:
        if self.kind == "alike classes":
            return " and ".join(f"{label!r} ({count:,})" for label, count in zip(self.labels, self.records, strict=True))
        return " = ".join(f"{key} ({label})" for key, label in zip(self.keys, self.labels, strict=True))


def doubt_table(doubts: Sequence[Doubt]) -> Any:
    """A row a record in doubt: key, label, doubt. With labels put right it is what `change` takes `from_`."""
    rows = [
        {"key": key, "label": label, "doubt": f"{each.kind}: {each.in_words}"}
        for each in doubts
        for key, label in zip(each.keys, _labels_of(each), strict=True)
    ]
    return pa.Table.from_pylist(rows, pa.schema([("key", pa.string()), ("label", pa.string()), ("doubt", pa.string())]))


def _labels_of(doubt: Doubt) -> Sequence[str]:
    """The label of each of a doubt's keys."""
    if doubt.kind == "two labels":
        return doubt.labels
    if doubt.is_tie:
        one, other = doubt.labels
        return [one] * doubt.records[0] + [other] * doubt.records[1]
    return doubt.labels[1:] * len(doubt.keys)


def without_doubtful(revision: Revision, classes: Collection[str]) -> Revision:
    """Without its rows that are in doubt, which are listed; records that it leaves as they are stay.

    Of two class names that may be one, the rows of the rarer are left out. Raises SourceError where they are as frequent.
    """
    doubts = doubts_in(revision, classes)
    tie = next((each for each in doubts if each.is_tie), None)
    if tie is not None:
        one, other = tie.labels
        raise SourceError(
            f"classes {one!r} and {other!r} may be one and have {tie.records[0]:,} records each: say which name is right "
            f"with `rename` {other}={one} or the other way round, or keep both with `doubtful` keep"
        )
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
    """Pairs of class names that may be one, of which one is new. The rarer name is the suspicious one; where both are as
    frequent, the new one is, and of two new ones neither, unless one of them is rarer than a third."""
    names = revision.labels.names
    new = sorted({names[code] for code in np.unique(revision.labels.codes).tolist() if code >= 0} - {*classes})
    pairs = [(old, each) for at, each in enumerate(new) for old in [*classes, *new[:at]]]
    found = [pair for pair in pairs if alike(*pair)]
    if not found:
        return []
    counts = _records_by_class(revision)
    ordered = [sorted(pair, key=lambda name: (-counts[name], name not in classes, name)) for pair in found]
    doubts = []
    suspicious = {rarer for usual, rarer in ordered if counts[usual] > counts[rarer] or usual in classes}
    for usual, rarer in ordered:
        is_tie = counts[usual] == counts[rarer] and usual not in classes
        if is_tie and suspicious & {usual, rarer}:
            continue  # a third name, more frequent, tells of both
        keys = (*(_keys_of_class(revision, usual) if is_tie else ()), *_keys_of_class(revision, rarer))
        doubts.append(Doubt("alike classes", keys, (usual, rarer), (counts[usual], counts[rarer]), is_tie))
    return doubts


def _records_by_class(revision: Revision) -> Counter[str]:
    """How many records of each class there will be."""
    there = Counter(name for name in revision.labels.to_list() if name is not None)
    stays = _untouched(revision)
    codes, names = revision.manifest.codes("label")
    numbers = np.bincount(codes[stays][codes[stays] >= 0], minlength=len(names))
    there.update(dict(zip(names, numbers.tolist(), strict=True)))
    return there


def _keys_of_class(revision: Revision, name: str) -> tuple[str, ...]:
    """The keys of a class' records, those that the revision does not touch, too."""
    rows = [at for at, each in enumerate(revision.labels.names) if each == name]
    keys = revision.keys(np.flatnonzero(np.isin(revision.labels.codes, rows)))
    codes, names = revision.manifest.codes("label")
    others = np.flatnonzero(np.isin(codes, [at for at, each in enumerate(names) if each == name]) & _untouched(revision))
    keys += revision.manifest.take(others, ["key"]).column(0).to_pylist()
    return tuple(sorted(keys))


def _untouched(revision: Revision) -> Flags:
    """The manifest's records that the revision neither changes nor removes."""
    stays: Flags = np.ones(len(revision.manifest), bool)
    stays[np.concatenate([revision.there[revision.is_there], revision.gone])] = False
    return stays


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
