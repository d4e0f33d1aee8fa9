"""Verifying splits: what a snapshot says keeps records together in one split does, in the newest snapshot of each strand."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import numpy as np
import pyarrow as pa

from pannier.array_types import Flags
from pannier.columns import NameColumn, numbered
from pannier.errors import PannierError
from pannier.sources.rules import GROUP
from pannier.storage.layout import snapshot_file
from pannier.store.miniatures import KeptMiniatures
from pannier.store.state import OpenedStore, State
from pannier.upkeep.findings import Finding
from pannier.versions.doubles import near_pairs

_ADVICE = "split the records again with pannier change and `shares`, or move them with `set` split"


def check_splits(store: OpenedStore) -> Iterator[Finding]:
    """Exact duplicates, groups and near-duplicates in two splits, where the snapshot does not allow it.

    A strand whose newest snapshot cannot be read is left to the other checks. Decodes pictures that have no miniature yet.
    """
    seen: set[str] = set()
    for name in store.strands.ever_used():
        try:
            head = store.strands.head(name)
            if head is None or head.snapshot in seen:
                continue
            seen.add(head.snapshot)
            yield from _of_snapshot(store.state_of(head.snapshot))
        except PannierError:
            continue


def _of_snapshot(state: State) -> Iterator[Finding]:
    if state.dealing.leaks_allowed or len(state.splits) < 2:
        return
    manifest, file = state.manifest, snapshot_file(state.id)
    splits, names = manifest.codes("split")
    rows = np.flatnonzero(splits >= 0)

    def finding(what: str, one: int, other: int, count: int) -> Finding:
        keys = manifest.take([one, other], ["key"]).column(0).to_pylist()
        pair = f"{keys[0]!r} in {names[splits[one]]} and {keys[1]!r} in {names[splits[other]]}"
        more = f", and {count - 1:,} more" if count > 1 else ""
        return Finding(file, f"{what} in two splits: {pair}{more}", "what a model is tested on", _ADVICE, keys=tuple(keys))

    pictures = numbered(manifest.pictures(rows))[0]
    if (found := _in_two(pictures, splits[rows])) is not None:
        yield finding("one picture is", int(rows[found[0]]), int(rows[found[1]]), found[2])
    if GROUP in manifest.side_columns and state.dealing.group_by is not None:
        groups = NameColumn.of(pa.chunked_array(manifest.values(GROUP).chunks).cast(pa.string())).codes[rows]
        if (found := _in_two(groups, splits[rows])) is not None:
            yield finding("one group is", int(rows[found[0]]), int(rows[found[1]]), found[2])
    if state.dealing.near is not None:
        pairs = near_pairs(state, KeptMiniatures(state.storage, state.index, keeps=False).fetch, state.dealing.near)
        if pairs:
            first = pairs[0]
            pair = f"{first.key!r} in {first.split} and {first.other!r} in {first.other_split}"
            more = f", and {len(pairs) - 1:,} more pairs" if len(pairs) > 1 else ""
            keys = tuple(key for each in pairs for key in (each.key, each.other))
            problem = f"near-duplicates (near {state.dealing.near}) are in two splits: {pair}{more}"
            yield Finding(file, problem, "what a model is tested on", _ADVICE, keys=keys)


def _in_two(numbers: Any, splits: Any) -> tuple[int, int, int] | None:
    """Two places that share a number and not a split, and how many numbers are in several splits; -1 is no number."""
    order = np.lexsort((splits, numbers))
    same: Flags = (numbers[order][1:] == numbers[order][:-1]) & (numbers[order][1:] >= 0)
    crossing = np.flatnonzero(same & (splits[order][1:] != splits[order][:-1]))
    if not len(crossing):
        return None
    at = int(crossing[0])
    return int(order[at]), int(order[at + 1]), len(np.unique(numbers[order][crossing]))
