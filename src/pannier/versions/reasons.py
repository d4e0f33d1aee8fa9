"""Reasons: why a record is in its split: by hand, by a rule, by shares, tied to another record, or as it was before."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from pannier.columns import Rows, numbered
from pannier.hashing import text_hash
from pannier.images.near import near_links
from pannier.results import Result
from pannier.sources.rules import GROUP
from pannier.store.snapshots import SHOWN_DIGITS
from pannier.store.state import OpenedStore, State, miniatures_of
from pannier.versions.history import record_history

SHOWN_KEYS = 3


@dataclass(frozen=True, repr=False)
class Reason(Result):
    """Why a record is in its `split`, since which snapshot (its id), in words; `tied_to` are keys that had it there."""

    key: str
    split: str | None
    since: str
    because: str
    tied_to: tuple[str, ...] = ()

    def __str__(self) -> str:
        return f"{self.because}, since snapshot {self.since[:SHOWN_DIGITS]}"


def why(store: OpenedStore, snapshot: State, key: str) -> Reason:
    """Why a record of a snapshot is in its split. Raises NotFoundError where there is no such record.

    Looks for the snapshot in which it came to be there, and for what holds for it in that one.
    """
    split = snapshot.record(snapshot.row_of(key)).split
    steps = record_history(store, key, snapshot.id)
    step = next(each for each in steps if "came" in each.what or "split" in each.what)
    state = store.state_of(step.id)
    parent = store.state_of(state.parents[0]) if state.parents else None
    former = step.after["key"] if step.after is not None else key
    because, tied_to = _because(state, parent, state.row_of(former), split)
    moved = f"as {former}, which has moved: " if former != key else ""
    return Reason(key, split, step.id, moved + because, tied_to)


def _because(state: State, parent: State | None, row: int, split: str | None) -> tuple[str, tuple[str, ...]]:
    record, dealing = state.record(row), state.dealing
    dealt = {*(dealing.shares or {}), *dealing.counts}
    if "split" in record.source_said:
        return f"set by hand; the source says {record.source_said['split'] or 'none'}", ()
    if split is None:
        return "nothing deals records to splits, and no rule gives it one" if not dealt else "it was left as it is", ()
    for what, rows in _related(state, row):
        keys = _in_split_before(state, parent, rows, split)
        if keys:
            shown = ", ".join(keys[:SHOWN_KEYS]) + (
                f" and {len(keys) - SHOWN_KEYS:,} more" if len(keys) > SHOWN_KEYS else ""
            )
            return f"{what} {shown} in {split}", tuple(keys)
    rules = [each["split_by"] for each in state.recipes if each.get("split_by")]
    if split not in dealt:
        return (f"given by the rule {rules[-1]}" if rules else "given by the source, or by hand"), ()
    by_shares = _by_shares(state, record.label, split, row)
    return (f"given by the rule {rules[-1]} or, where that gives none, {by_shares}" if rules else by_shares), ()


def _by_shares(state: State, label: str | None, split: str, row: int) -> str:
    words = state.dealing.in_words()
    way = next((f"{name} {words[name]}" for name in ("counts", "carve", "shares") if split in words.get(name, "")), "shares")
    together = next((f", with {len(rows):,} more that stay together" for _, rows in _related(state, row) if len(rows)), "")
    return f"dealt by {way}, seed {state.dealing.seed}, among {label or 'what has no label'}{together}"


def _related(state: State, row: int) -> list[tuple[str, Rows]]:
    """The other records that must lie where it does, by what ties them."""
    manifest, dealing = state.manifest, state.dealing
    found = [("the same picture as", manifest.find_pictures(manifest.pictures(np.array([row]))))]
    if GROUP in manifest.side_columns:
        groups = manifest.values(GROUP).to_pylist()
        own = groups[row]
        same: Rows = np.array([at for at, each in enumerate(groups) if own is not None and each == own], np.int64)
        found.append((f"of group {own}, as", same))
    if dealing.near is not None:
        firsts = numbered(manifest.pictures(np.arange(len(manifest))))[1]
        own = manifest.find_pictures(manifest.pictures(np.array([row])))
        rows = np.concatenate([[row], np.setdiff1d(firsts, own)])
        digests = manifest.pictures(rows)
        pairs = near_links(miniatures_of(state)(digests), digests, dealing.near, dealing.unlike, asked=1).pairs
        found.append(("a near double of", rows[pairs[pairs[:, 0] == 0, 1]]))
    return [(what, rows[rows != row]) for what, rows in found]


def _in_split_before(state: State, parent: State | None, rows: Rows, split: str) -> list[str]:
    """Of some records the keys of those that were in the split before."""
    if parent is None:
        return []
    keys = state.manifest.take(rows, ["key"]).column(0).to_pylist()
    there = [(key, parent.manifest.find(key, text_hash(key))) for key in keys]
    return sorted(key for key, at in there if at is not None and parent.record(at).split == split)
