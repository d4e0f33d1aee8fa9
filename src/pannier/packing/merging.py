"""Merging: what records that are brought in make of a snapshot. A record that is there keeps its label and split."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from pannier.columns import Codes, NameColumn, Rows, all_names, digests_of
from pannier.errors import ConflictError
from pannier.packing.revision import Revision, side_differs
from pannier.store.manifest import Manifest, names_there, rows_there


@dataclass
class Counts:
    """What became of the records that were brought in. `differing` keys have another label or split in the source."""

    added: int = 0
    changed: int = 0
    unchanged: int = 0
    relabelled: int = 0
    removed: int = 0
    differing: list[str] = field(default_factory=list)
    deviation: dict[str | None, int] = field(default_factory=dict)


def merge(incoming: Any, manifest: Manifest, *, relabel: bool) -> tuple[Revision, Counts]:
    """`incoming` are manifest rows in order of (hash of key, key), as the source has them: what is new or changed of them.

    A record that is there keeps its label and split, unless `relabel` is said; what it lacks it gets.
    """
    old_rows = rows_there(manifest, incoming)
    label_names, labels, old_labels = _alike(incoming, old_rows, manifest, "label")
    split_names, splits, old_splits = _alike(incoming, old_rows, manifest, "split")
    is_there = old_rows >= 0
    is_other_picture = is_there.copy()
    ours, theirs = digests_of(incoming.column("sha256"))[is_there], manifest.pictures(old_rows[is_there])
    is_other_picture[is_there] = (ours != theirs).any(axis=1)

    label, split = np.where(is_there, old_labels, labels), np.where(is_there & (old_splits >= 0), old_splits, splits)
    other_side = side_differs(incoming, old_rows, manifest)
    differs = is_there & ((labels != old_labels) | ((splits >= 0) & (splits != split)) | other_side)
    counts = Counts(changed=int(is_other_picture.sum()), unchanged=int((is_there & ~is_other_picture).sum()))
    if relabel:
        counts.relabelled = int(differs.sum())
        label, split = np.where(differs, labels, label), np.where(differs & (splits >= 0), splits, split)
    else:
        counts.differing = incoming.column("key").take(pa.array(np.flatnonzero(differs))).to_pylist()
    takes_side = ~is_there | is_other_picture | (other_side & relabel)
    chosen = np.flatnonzero(takes_side | (label != old_labels) | (split != old_splits))
    labels_after = NameColumn(label[chosen].astype(np.int32), label_names)
    splits_after = NameColumn(split[chosen].astype(np.int32), split_names)
    rows = (incoming.take(pa.array(chosen)), old_rows[chosen], takes_side[chosen])
    return Revision(manifest, *rows, labels_after, splits_after), counts


def rows_gone(manifest: Manifest, source_keys: Any, prefix: str) -> Rows:
    """The records below `prefix` whose keys the source does not have."""
    keys = manifest.values("key")
    is_kept = pc.is_in(keys, value_set=source_keys.cast(keys.type))
    gone: Rows = np.flatnonzero(pc.and_not(pc.starts_with(keys, prefix), is_kept).to_numpy(zero_copy_only=False))
    return gone


def refuse_both_sides_changed(incoming: Any, head: Manifest, seen: Manifest) -> None:
    """Raises ConflictError where a key was given other bytes since `seen`, by somebody else than us."""
    in_head, in_seen = rows_there(head, incoming), rows_there(seen, incoming)
    rows = np.flatnonzero(in_head >= 0)
    ours = digests_of(incoming.column("sha256"))[rows]
    theirs = head.pictures(in_head[rows])
    before = np.zeros_like(theirs)
    known = in_seen[rows] >= 0
    before[known] = seen.pictures(in_seen[rows][known])
    changed = (theirs != ours).any(axis=1) & ((theirs != before).any(axis=1) | ~known)
    if changed.any():
        key = incoming.column("key")[int(rows[np.argmax(changed)])].as_py()
        raise ConflictError(
            f"record {key!r} was given other bytes by somebody else while this was packing; their snapshot stands "
            "and these pictures are stored: run the same command again to have yours on top"
        )


def _alike(incoming: Any, there: Rows, manifest: Manifest, column: str) -> tuple[list[str], Codes, Codes]:
    """A column of names as the source and as the parent has it, both numbered by the same names."""
    ours, theirs = NameColumn.of(incoming.column(column)), names_there(manifest, there, column)
    names = all_names(ours, theirs)
    return names, ours.numbered_by(names), theirs.numbered_by(names)
