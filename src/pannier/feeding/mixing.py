"""Several feeds as one: their batches in turn, each feed as often as its share says."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import replace
from typing import Any, Self

from pannier.budget import limit_bytes
from pannier.errors import UsageError
from pannier.feeding.batch import Batch
from pannier.feeding.feed import Feed
from pannier.results import Result

FORMAT = 1
# shares that add up to more than this are written otherwise
LARGEST_ROUND = 10_000


class Mix(Result):
    """Batches of several feeds, as `mix` tells. Iterating gives one epoch, the next `for` the next.

    `batch.source` is the number of the feed that a batch is of. `close` closes the feeds; a `with` block does it.
    """

    def __init__(self, feeds: Sequence[Feed], shares: Sequence[int], steps: int | None, given: int) -> None:
        self.feeds, self.shares = tuple(feeds), tuple(shares)
        self._round = turns_of(shares)
        self.steps = -(-len(feeds[0]) * sum(shares) // shares[0]) if steps is None else steps
        self._given = given
        self._loops = [_without_end(feed) for feed in feeds]

    def __repr__(self) -> str:
        parts = ", ".join(f"{share} of {feed.split or 'all'}" for feed, share in zip(self.feeds, self.shares, strict=True))
        return f"<Mix of {parts}: {len(self)} batches an epoch>"

    def __len__(self) -> int:
        """Batches an epoch."""
        return self.steps

    def to_dict(self) -> dict[str, Any]:
        """Plain data for JSON: shares, batches given, and how each feed has done."""
        feeds = [feed.to_dict() for feed in self.feeds]
        return {"shares": [*self.shares], "batches": self._given, "batches_per_epoch": len(self), "feeds": feeds}

    def __iter__(self) -> Iterator[Batch]:
        """The next epoch, or the rest of one that was begun."""
        for _ in range(self.steps - self._given % self.steps):
            source = self._round[self._given % len(self._round)]
            batch = next(self._loops[source])
            self._given += 1
            yield replace(batch, source=source)
            del batch

    @property
    def position(self) -> dict[str, Any]:
        """Where it stands, as plain data; `mix(..., position=...)` goes on with exactly the next batch."""
        of = {"shares": [*self.shares], "steps": self.steps}
        return {"position": FORMAT, "batches": self._given, "of": of, "feeds": [feed.position for feed in self.feeds]}

    def close(self) -> None:
        """Closes the feeds."""
        for feed in self.feeds:
            feed.close()

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()


def mix(
    feeds: Sequence[tuple[Feed, int]],
    *,
    steps: int | None = None,
    memory_limit: str | int | None = "auto",
    position: Mapping[str, Any] | None = None,
) -> Mix:
    """Several feeds as one: of every `3 + 1` batches of `[(one, 3), (other, 1)]` three are of the one, evenly spread.

    feeds: with whole numbers as shares; none has begun, and their batches are of one shape and dtype. Each goes on, epoch
    after epoch, for as long as the mix does.
    steps: batches an epoch, by default as many as it takes to give one epoch of the first feed.
    memory_limit: of all of them together, parted equally where a feed's own is not lower.
    position: of a mix of before, which this one goes on from.
    Raises UsageError, LimitError.
    """
    shares = [share for _, share in feeds]
    fed = [feed for feed, _ in feeds]
    if not fed or any(type(share) is not int or share < 1 for share in shares) or sum(shares) > LARGEST_ROUND:
        raise UsageError(f"shares of {shares}: say for each feed a whole number from 1, {LARGEST_ROUND:,} at most in all")
    if steps is not None and (type(steps) is not int or steps < 1):
        raise UsageError(f"steps = {steps!r}: must be a whole number of 1 or more")
    kinds = {feed.array_kind for feed in fed}
    if len(kinds) > 1 or len({id(feed) for feed in fed}) < len(fed):
        raise UsageError("feeds that are mixed are different ones, whose batches have one shape and dtype")
    if not all(len(feed) for feed in fed):
        raise UsageError("a feed without records cannot be mixed")
    limit = limit_bytes(memory_limit)
    given, positions = _read(position, shares, len(fed))
    for feed, its_position in zip(fed, positions, strict=True):
        feed.rearrange(None if limit is None else limit // len(fed), its_position)
    mixed = Mix(fed, shares, steps, given)
    if position is not None and position["of"]["steps"] != mixed.steps:
        raise UsageError(
            f"the position is of a mix of {position['of']['steps']!r} batches an epoch, here it is {mixed.steps}"
        )
    return mixed


def turns_of(shares: Sequence[int]) -> list[int]:
    """One round of turns: each is of the one that is furthest behind its share, the first of several."""
    whole, taken, turns = sum(shares), [0] * len(shares), []
    for number in range(1, whole + 1):
        behind = [share * number - whole * had for share, had in zip(shares, taken, strict=True)]
        turns.append(behind.index(max(behind)))
        taken[turns[-1]] += 1
    return turns


def _read(position: Mapping[str, Any] | None, shares: Sequence[int], count: int) -> tuple[int, Sequence[Any]]:
    """The batches that were given, and where each feed stood. Raises UsageError where it is the position of no such mix."""
    if position is None:
        return 0, [None] * count
    if not isinstance(position, Mapping) or position.keys() != {"position", "batches", "of", "feeds"}:
        raise UsageError("`position` is none of a mix: give what `mix.position` was")
    of, feeds, given = position["of"], position["feeds"], position["batches"]
    is_one = isinstance(of, Mapping) and isinstance(feeds, Sequence) and type(given) is int and given >= 0
    if position["position"] != FORMAT or not is_one or of.get("shares") != [*shares] or len(feeds) != count:
        raise UsageError(f"the position is of another mix: here shares are {[*shares]}")
    return given, feeds


def _without_end(feed: Feed) -> Iterator[Batch]:
    for epoch in feed.epochs():
        yield from epoch
