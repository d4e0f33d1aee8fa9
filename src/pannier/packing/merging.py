"""Merging: what records that are brought in make of a snapshot, and of what was corrected there since."""

from __future__ import annotations

from collections.abc import Callable, Collection, Mapping
from dataclasses import dataclass, field
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from pannier.array_types import Flags
from pannier.choices import Relabel
from pannier.columns import Digests, NameColumn, Rows, digests_of, numbered
from pannier.errors import ConflictError
from pannier.hashing import Hashes
from pannier.images.perceptual import ALIKE_BITS
from pannier.packing.doubts import Doubt
from pannier.packing.revision import Revision, both_sides, side_names
from pannier.packing.three_way import Conflict, Corrections, Decided, alike, decide, there_in
from pannier.store.manifest import Manifest, names_there, rows_there
from pannier.store.manifest_files import SCHEMA
from pannier.versions.differing import Difference

# the perceptual hashes of pictures that are stored, by their SHA-256
Likeness = Callable[[Digests], Hashes]


@dataclass
class Counts:
    """What became of the records that were brought in. `reencoded` of the changed ones have other bytes that look alike.

    `absent`: records of this source that it has no more, which stay; `absent_keys`: some of them.
    `doubts`: what harms training. `conflicts`: what was corrected here and is said otherwise than before by the source,
    too; it stays as it is. `deviation`: by class the records by which it misses its targets; `tied`: a key of the largest
    set in it that stays together, and its size.
    """

    added: int = 0
    changed: int = 0
    reencoded: int = 0
    unchanged: int = 0
    moved: int = 0
    relabelled: int = 0
    resplit: int = 0
    removed: int = 0
    absent: int = 0
    absent_keys: list[str] = field(default_factory=list)
    conflicts: list[Conflict] = field(default_factory=list)
    doubts: list[Doubt] = field(default_factory=list)
    deviation: dict[str | None, int] = field(default_factory=dict)
    tied: dict[str | None, tuple[str, int]] = field(default_factory=dict)

    def count(self, difference: Difference | None, likeness: Likeness) -> None:
        """Counts what has become of the records, in the numbers that the history has; None where nothing has."""
        kept = self.changed
        if difference is None:
            self.added = self.changed = self.reencoded = self.moved = self.relabelled = self.resplit = self.removed = 0
        else:
            counts = difference.counts
            self.added, self.removed, self.changed = counts["added"], counts["removed"], counts["changed"]
            self.moved, self.relabelled, self.resplit = counts["moved"], counts["relabelled"], counts["resplit"]
            other = difference.is_other_picture
            new, old = difference.after.pictures(difference.rows[other]), difference.before.pictures(difference.there[other])
            self.reencoded = int(look_alike(new, old, likeness).sum())
        self.unchanged += max(0, kept - self.changed)  # those that keep their picture, as in a frozen split


def merge(
    incoming: Any,
    manifest: Manifest,
    *,
    likeness: Likeness,
    relabel: Relabel | None = None,
    gone: Rows | None = None,
    is_another: bool = False,
    frozen: Collection[str] = (),
) -> tuple[Revision, Counts]:
    """`incoming` are manifest rows in order of (hash of key, key), as the source has them: what is new or changed of them.

    Column by column: what the source alone has changed since it last spoke is the source's; what was corrected here stays;
    where both changed, it stays and is a conflict, unless `relabel` says whose word goes. Another picture under an old key
    is as the source says; one saved anew, which looks alike, is the same picture. A picture under another key, whose old
    key is `gone` from the source or has another picture, is the same record: it keeps split, side columns and corrections.
    is_another: the source is not the one that these records are from. frozen: splits whose records keep their pictures, so
    that another picture does not end what was corrected of them.
    """
    own = rows_there(manifest, incoming)
    is_there, is_other_picture, is_reencoded = _pictures(incoming, own, manifest, likeness)
    there = _followed(
        incoming, own, is_other_picture & ~is_reencoded, np.empty(0, np.int64) if gone is None else gone, manifest
    )
    is_moved = (there >= 0) & (there != own)
    is_fresh = (there < 0) | (is_other_picture & ~is_reencoded & ~is_moved)
    is_fresh &= ~is_frozen(manifest, own, frozen)
    is_there, is_other_picture = there >= 0, is_other_picture & (there == own)
    corrections = Corrections(manifest, there, end_by_agreement=not is_another)
    decided: dict[str, Decided] = {}
    for name in ("label", "split", *side_names(incoming)):
        if name in ("label", "split"):
            source, here = incoming.column(name).cast(pa.string()).combine_chunks(), there_in(manifest, there, name)
        else:
            source, here = both_sides(incoming, there, manifest, name)
        says = np.ones(len(there), bool) if name == "label" else pc.is_valid(source).to_numpy(zero_copy_only=False)
        decided[name] = decide(name, source, here, corrections, is_fresh, says, relabel)
    noted = corrections.noted()
    side = {name: each.values for name, each in decided.items() if name not in ("label", "split")} | noted
    side_changes = np.zeros(len(there), bool)
    for name, values in side.items():
        side_changes |= ~alike(values, there_in(manifest, there, name, values.type))
    counts = Counts(
        changed=int(is_other_picture.sum()),
        reencoded=int(is_reencoded.sum()),
        unchanged=int((is_there & ~is_other_picture & ~is_moved).sum()),
        moved=int(is_moved.sum()),
        relabelled=int((decided["label"].takes & ~is_fresh).sum()),
        resplit=int((decided["split"].takes & ~is_fresh).sum()),
        conflicts=_conflicts(incoming, decided),
    )
    takes_side = ~is_there | is_other_picture | is_moved | side_changes
    chosen = np.flatnonzero(takes_side | decided["label"].takes | decided["split"].takes)
    table = incoming.select(SCHEMA.names).take(pa.array(chosen))
    rest = {name: there_in(manifest, there[chosen], name, manifest.side_type(name)) for name in manifest.side_columns}
    for name, values in (rest | {name: values.take(pa.array(chosen)) for name, values in side.items()}).items():
        table = table.append_column(name, values)
    labels, splits = (NameColumn.of(decided[name].values.take(pa.array(chosen))) for name in ("label", "split"))
    return Revision(manifest, table, there[chosen], takes_side[chosen], labels, splits, side_is_whole=True), counts


def is_frozen(manifest: Manifest, rows: Rows, frozen: Collection[str]) -> Flags:
    """Which rows of a manifest, -1 for none, are in a frozen split."""
    splits = names_there(manifest, rows, "split")
    flags: Flags = np.array([name in frozen for name in [*splits.names, None]], bool)[splits.codes]
    return flags


def _followed(incoming: Any, own: Rows, is_other: Flags, gone: Rows | None, manifest: Manifest) -> Rows:
    """The records that the rows continue: by key, but a picture that has left its key is followed to its new one.

    A key's picture has left it where the key is gone from the source, or has another picture now: so files that swapped
    names swap. Equal pictures are followed in order of their keys.
    """
    there, left = own.copy(), own[is_other] if gone is None else np.union1d(gone, own[is_other])
    seeking = np.flatnonzero((own < 0) | is_other)
    if not len(left) or not len(seeking):
        return there
    digests = digests_of(incoming.column("sha256"))[seeking], manifest.pictures(left)
    numbers = numbered(np.concatenate(digests))[0]
    wanted, offered = numbers[: len(seeking)], numbers[len(seeking) :]
    waiting: dict[int, list[int]] = {}
    for at in np.flatnonzero(np.isin(offered, wanted))[::-1].tolist():
        waiting.setdefault(int(offered[at]), []).append(int(left[at]))
    for at in np.flatnonzero(np.isin(wanted, offered)).tolist():
        if waiting[int(wanted[at])]:
            there[seeking[at]] = waiting[int(wanted[at])].pop()
    followed = there[there != own]
    there[is_other & (there == own) & np.isin(own, followed)] = -1  # its picture went elsewhere: a record of its own
    return there


def _pictures(incoming: Any, there: Rows, manifest: Manifest, likeness: Likeness) -> tuple[Flags, Flags, Flags]:
    """Which records are there, which of them get other bytes, and which of those look alike."""
    is_there = there >= 0
    ours, theirs = digests_of(incoming.column("sha256"))[is_there], manifest.pictures(there[is_there])
    is_other = is_there.copy()
    is_other[is_there] = (ours != theirs).any(axis=1)
    is_reencoded = np.zeros_like(is_other)
    at = is_other[is_there]
    if at.any():
        is_reencoded[is_other] = look_alike(ours[at], theirs[at], likeness)
    return is_there, is_other, is_reencoded


def look_alike(new: Digests, old: Digests, likeness: Likeness) -> Flags:
    """Which pictures look like the old ones in their places: resized, or saved anew."""
    if not len(new):
        return np.zeros(0, bool)
    ones, others = likeness(new), likeness(old)
    distance = np.array([(int(a) ^ int(b)).bit_count() for a, b in zip(ones, others, strict=True)])
    return (ones != 0) & (others != 0) & (distance <= ALIKE_BITS)


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
