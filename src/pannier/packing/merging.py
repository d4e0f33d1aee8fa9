"""Merging: what records that are brought in make of a snapshot, and of what was corrected there since."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from pannier.array_types import Flags
from pannier.choices import Relabel
from pannier.columns import NameColumn, Rows, digests_of
from pannier.errors import ConflictError
from pannier.images.near import USUAL_DISTANCE
from pannier.packing.grouping import Likeness
from pannier.packing.revision import Revision, both_sides, side_names
from pannier.packing.three_way import Conflict, Corrections, Decided, alike, decide, there_in
from pannier.store.manifest import SCHEMA, Manifest, rows_there


@dataclass
class Counts:
    """What became of the records that were brought in. `reencoded` of the changed ones have other bytes that look alike.

    `conflicts`: what was corrected here and is said otherwise than before by the source, too; it stays as it is.
    """

    added: int = 0
    changed: int = 0
    reencoded: int = 0
    unchanged: int = 0
    relabelled: int = 0
    resplit: int = 0
    removed: int = 0
    conflicts: list[Conflict] = field(default_factory=list)
    deviation: dict[str | None, int] = field(default_factory=dict)


def merge(
    incoming: Any, manifest: Manifest, *, likeness: Likeness, relabel: Relabel | None = None
) -> tuple[Revision, Counts]:
    """`incoming` are manifest rows in order of (hash of key, key), as the source has them: what is new or changed of them.

    Column by column: what the source alone has changed since it last spoke is the source's; what was corrected here stays;
    where both changed, it stays and is a conflict, unless `relabel` says whose word goes. Another picture under an old key
    is as the source says; one saved anew, which looks alike, is the same picture.
    """
    there = rows_there(manifest, incoming)
    is_there, is_other_picture, is_reencoded = _pictures(incoming, there, manifest, likeness)
    is_fresh = ~is_there | (is_other_picture & ~is_reencoded)
    corrections = Corrections(manifest, there)
    decided: dict[str, Decided] = {}
    for name in ("label", "split", *side_names(incoming)):
        if name in ("label", "split"):
            source, here = incoming.column(name).cast(pa.string()).combine_chunks(), there_in(manifest, there, name)
        else:
            source, here = both_sides(incoming, there, manifest, name)
        says = np.ones(len(there), bool) if name == "label" else pc.is_valid(source).to_numpy(zero_copy_only=False)
        decided[name] = decide(name, source, here, corrections, is_fresh, says, relabel)
    noted = corrections.columns()
    side = {name: each.values for name, each in decided.items() if name not in ("label", "split")} | noted
    side_changes = np.zeros(len(there), bool)
    for name, values in side.items():
        side_changes |= ~alike(values, there_in(manifest, there, name, values.type))
    counts = Counts(
        changed=int(is_other_picture.sum()),
        reencoded=int(is_reencoded.sum()),
        unchanged=int((is_there & ~is_other_picture).sum()),
        relabelled=int((decided["label"].takes & ~is_fresh).sum()),
        resplit=int((decided["split"].takes & ~is_fresh).sum()),
        conflicts=_conflicts(incoming, decided),
    )
    takes_side = ~is_there | is_other_picture | side_changes
    chosen = np.flatnonzero(takes_side | decided["label"].takes | decided["split"].takes)
    table = incoming.select(SCHEMA.names)
    rest = {name: there_in(manifest, there, name, manifest.side_type(name)) for name in manifest.side_columns}
    for name, values in (rest | side).items():
        table = table.append_column(name, values)
    labels, splits = (NameColumn.of(decided[name].values.take(pa.array(chosen))) for name in ("label", "split"))
    rows = (table.take(pa.array(chosen)), there[chosen], takes_side[chosen])
    return Revision(manifest, *rows, labels, splits, side_is_whole=True), counts


def _pictures(incoming: Any, there: Rows, manifest: Manifest, likeness: Likeness) -> tuple[Flags, Flags, Flags]:
    """Which records are there, which of them get other bytes, and which of those look alike."""
    is_there = there >= 0
    ours, theirs = digests_of(incoming.column("sha256"))[is_there], manifest.pictures(there[is_there])
    is_other = is_there.copy()
    is_other[is_there] = (ours != theirs).any(axis=1)
    is_reencoded = np.zeros_like(is_other)
    at = is_other[is_there]
    if at.any():
        new, old = likeness(ours[at]), likeness(theirs[at])
        distance = np.array([(int(a) ^ int(b)).bit_count() for a, b in zip(new, old, strict=True)])
        is_reencoded[is_other] = (new != 0) & (old != 0) & (distance <= USUAL_DISTANCE)
    return is_there, is_other, is_reencoded


def _conflicts(incoming: Any, decided: Mapping[str, Decided]) -> list[Conflict]:
    keys, found = incoming.column("key"), []
    for name, each in decided.items():
        for row in np.flatnonzero(each.is_conflict).tolist():
            source = incoming.column(name)[row].as_py()
            found.append(Conflict(keys[row].as_py(), name, each.said[row].as_py(), source, each.values[row].as_py()))
    return sorted(found, key=lambda conflict: conflict[:2])


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
