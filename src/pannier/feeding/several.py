"""Feeds of several splits at once: one engine and one limit for all, which they have by turns."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import replace
from typing import Any, Generic, Self, TypeVar

from pannier.errors import NotFoundError, UsageError, did_you_mean
from pannier.feeding.feed import Feed
from pannier.feeding.job import AUGMENTED_SPLIT, FeedJob
from pannier.feeding.plan import Plan
from pannier.store.state import State

FORMAT = 1
# what says how often and in how large an epoch records come, with what nobody says
_OF_TRAINING: dict[str, Any] = {
    "steps": None,
    "variations": 1,
    "balance": None,
    "weights": None,
    "window": None,
    "plain": False,
}

F = TypeVar("F", bound=Feed)


class Feeds(Mapping[str, F], Generic[F]):
    """A feed for each of some splits, by name, as `Snapshot.feeds` tells. `close` closes them; a `with` block does it.

    One of them has the engine at a time. A loop over another in the middle of an epoch is well: what was made ahead for the
    first is made again when it goes on, and its batches are the same.
    """

    def __init__(self, feeds: Mapping[str, F]) -> None:
        self._feeds = dict(feeds)

    def __getitem__(self, split: str) -> F:
        if split not in self._feeds:
            raise NotFoundError(f"no feed of {split!r} among these{did_you_mean(split, self._feeds)}")
        return self._feeds[split]

    def __contains__(self, split: object) -> bool:
        return split in self._feeds

    def __iter__(self) -> Iterator[str]:
        return iter(self._feeds)

    def __len__(self) -> int:
        return len(self._feeds)

    def __repr__(self) -> str:
        parts = ", ".join(f"{name}: {feed.records:,} records" for name, feed in self._feeds.items())
        return f"<Feeds of {parts}>"

    @property
    def plan(self) -> Plan:
        """What all of them together hold."""
        return next(iter(self._feeds.values())).plan

    @property
    def position(self) -> dict[str, Any]:
        """Where each of them stands, as plain data; `Snapshot.feeds(..., position=...)` goes on from there."""
        return {"position": FORMAT, "feeds": {name: feed.position for name, feed in self._feeds.items()}}

    def to_dict(self) -> dict[str, Any]:
        """Plain data for JSON: by split what it feeds, and how it has done so far."""
        return {name: feed.to_dict() for name, feed in self._feeds.items()}

    def close(self) -> None:
        """Closes the feeds, and with the last of them the engine."""
        for feed in self._feeds.values():
            feed.close()

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()


def jobs_of_splits(
    job: FeedJob, state: State, splits: str | Sequence[str] | None, position: Mapping[str, Any] | None
) -> dict[str, FeedJob]:
    """By split, the job that one for training comes to. What says how often records come is of "train" alone.

    Raises UsageError, NotFoundError.
    """
    names = [name.strip() for name in splits.split(",")] if isinstance(splits, str) else splits
    names = [*state.splits] if names is None else [*names]
    if not state.splits:
        raise NotFoundError("no record of this snapshot has a split: pack with shares, or feed them as one")
    if not names or len(set(names)) < len(names):
        raise UsageError(f"splits = {splits!r}: name each split once, and one at least")
    said = [name for name, usual in _OF_TRAINING.items() if getattr(job, name) != usual]
    if said and AUGMENTED_SPLIT not in names:
        raise UsageError(f"`{said[0]}` is of {AUGMENTED_SPLIT!r} alone, which is not among these splits")
    stood = _read(position, names)
    jobs = {}
    for name in names:
        plainly: dict[str, Any] = {**_OF_TRAINING, "last": "keep", "shuffle": False, "augment": False}
        own = {} if name == AUGMENTED_SPLIT else plainly
        jobs[name] = replace(job, split=name, position=stood.get(name), **own)
    return jobs


def _read(position: Mapping[str, Any] | None, names: Sequence[str]) -> Mapping[str, Any]:
    if position is None:
        return {}
    stood = position.get("feeds") if isinstance(position, Mapping) else None
    if not isinstance(stood, Mapping) or position.keys() != {"position", "feeds"} or position["position"] != FORMAT:
        raise UsageError("`position` is none of several feeds: give what `feeds.position` was")
    if {*stood} != {*names}:
        raise UsageError(f"the position is of other splits: {', '.join(map(str, stood))}; here they are {', '.join(names)}")
    return stood
