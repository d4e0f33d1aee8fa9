"""Doubles: pictures that are there twice, or nearly, pair by pair, and the sets that they tie together."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from concurrent.futures import Executor
from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np

from pannier.choices import Progress
from pannier.columns import Digests, connected, frame_of, numbered
from pannier.images.near import USUAL_DISTANCE, Fetch, checked_distance, near_links
from pannier.results import Result
from pannier.store.records import Record
from pannier.store.state import State, miniatures_of


@dataclass(frozen=True, repr=False)
class Double(Result):
    """Two records that show the same picture (`likeness` 1), or nearly; as a row of a table, to be declared `unlike`."""

    key: str
    other: str
    likeness: float
    label: str | None
    other_label: str | None
    split: str | None
    other_split: str | None
    unlike: str = ""

    @property
    def straddles(self) -> bool:
        return self.split != self.other_split

    @property
    def is_two_labels(self) -> bool:
        return self.label != self.other_label


@dataclass(frozen=True, eq=False, repr=False)
class Doubles(Result):
    """What is there twice, or nearly. `pairs`: in two splits first, then under two labels, then the most alike; as many as
    connect what is alike. `sets`: the keys of each set connected so, the largest first. `near`: how unlike they may be.
    """

    state: State
    near: int
    pairs: list[Double]
    sets: list[list[str]]

    def to_dict(self) -> dict[str, Any]:
        """Plain data for JSON."""
        return {"near": self.near, "pairs": [each.to_dict() for each in self.pairs], "sets": self.sets}

    def to_frame(self) -> Any:
        """The pairs as a pandas table, whose column `unlike` is to be filled in. Raises UsageError without pandas."""
        return frame_of((each.to_dict() for each in self.pairs), list(Double.__dataclass_fields__))

    @cached_property
    def records(self) -> dict[str, Record]:
        """The records of all pairs by key."""
        keys = {key for each in self.pairs for key in (each.key, each.other)}
        return {key: self.state.record(self.state.row_of(key)) for key in sorted(keys)}


def doubles(
    state: State, near: int | None = None, progress: Progress | None = None, executor: Executor | None = None
) -> Doubles:
    """Looks for them in a snapshot; near: 0 to 12, by default as the snapshot was dealt, or 6. executor: whose workers
    decode what has no miniature yet. Raises UsageError."""
    near = checked_distance(near) if near is not None else state.dealing.near
    near = USUAL_DISTANCE if near is None else near
    manifest = state.manifest
    digests = manifest.pictures(np.arange(len(manifest)))
    numbers, firsts = numbered(digests)
    shown = miniatures_of(state, executor)(digests[firsts])
    found = near_links(shown, digests[firsts], near, state.dealing.unlike, progress=progress)
    others = np.flatnonzero(firsts[numbers] != np.arange(len(digests)))
    links = np.concatenate([firsts[found.pairs], np.stack([firsts[numbers[others]], others], axis=1)])
    likeness = np.concatenate([np.minimum(found.likeness, 1), np.ones(len(others))])
    rows, at = np.unique(links, return_inverse=True)
    told = manifest.take(rows, ["key", "label", "split"]).to_pylist()
    pairs = [
        _double(told[one], told[other], float(each))
        for (one, other), each in zip(at.reshape(-1, 2).tolist(), likeness, strict=True)
    ]
    sets = _sets([each["key"] for each in told], at.reshape(-1, 2))
    return Doubles(state, near, sorted(pairs, key=_worst_first), sets)


def near_pairs(state: State, fetch_of: Callable[[Digests], Fetch], near: int, new: Digests | None = None) -> list[Double]:
    """Near-duplicates of a snapshot that lie in two splits, worst first; new: only pairs with one of those pictures.

    As many pairs as connect what is alike; those declared unlike are none. Records without a split lie in none.
    """
    manifest = state.manifest
    digests = manifest.pictures(np.arange(len(manifest)))
    firsts = numbered(digests)[1]
    asked = len(firsts)
    if new is not None:
        both = numbered(np.concatenate([digests[firsts], new]))[0]
        is_new = np.isin(both[: len(firsts)], both[len(firsts) :])
        firsts, asked = np.concatenate([firsts[is_new], firsts[~is_new]]), int(is_new.sum())
    found = near_links(fetch_of(digests[firsts]), digests[firsts], near, state.dealing.unlike, asked=asked)
    told = manifest.take(firsts[found.pairs.ravel()], ["key", "label", "split"]).to_pylist()
    pairs = [
        _double(one, other, min(float(likeness), 1.0))
        for one, other, likeness in zip(told[::2], told[1::2], found.likeness, strict=True)
    ]
    return sorted((each for each in pairs if each.straddles and each.split and each.other_split), key=_worst_first)


def _double(one: dict[str, Any], other: dict[str, Any], likeness: float) -> Double:
    one, other = sorted((one, other), key=lambda record: str(record["key"]).encode())
    names = (one["label"], other["label"], one["split"], other["split"])
    return Double(one["key"], other["key"], round(likeness, 3), *names)


def _worst_first(each: Double) -> tuple[Any, ...]:
    return not each.straddles, not each.is_two_labels, -each.likeness, each.key, each.other


def _sets(keys: Sequence[str], links: Any) -> list[list[str]]:
    numbers, count = connected(len(keys), links)
    sets: list[list[str]] = [[] for _ in range(count)]
    for key, number in zip(keys, numbers.tolist(), strict=True):
        sets[number].append(key)
    return sorted((sorted(each) for each in sets), key=lambda each: (-len(each), each))
