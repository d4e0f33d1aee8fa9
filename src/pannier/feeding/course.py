"""The course of a feed: which places of which pass come in a batch. A pass gives every record once, in its own order.

Numbers alone: what stands at a place is for the order to say. Parts take turns in a pass, place by place, so that they are
disjoint and make up the whole, whatever reads the others.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from functools import cached_property
from typing import NamedTuple

import numpy as np

from pannier.array_types import Numbers
from pannier.choices import Last


class Places(NamedTuple):
    """Places in passes, in the order in which they are fed."""

    passes: Numbers
    places: Numbers


@dataclass(frozen=True)
class Course:
    """`steps`: batches an epoch, across the borders of passes; None for one pass an epoch.

    last: what becomes of a last, smaller batch of a pass: "keep", "drop", or "wrap", filled from the pass's beginning. The
    last two give every part the same number of batches. turn, turns: only those batches that one of several makers makes.
    """

    count: int
    batch_size: int
    last: Last = "keep"
    steps: int | None = None
    part: int = 0
    parts: int = 1
    turn: int = 0
    turns: int = 1

    @cached_property
    def records(self) -> int:
        """Records of this part in a pass."""
        return max(0, -(-(self.count - self.part) // self.parts))

    @cached_property
    def batches(self) -> int:
        """Batches an epoch."""
        if self.steps is not None:
            return self.steps if self.records else 0
        if self.last == "drop":
            return self.count // self.parts // self.batch_size
        largest = self.records if self.last == "keep" else -(-self.count // self.parts)
        return -(-largest // self.batch_size) if self.records else 0

    @cached_property
    def pictures(self) -> int:
        """Pictures an epoch."""
        full = self.batches * self.batch_size
        return min(self.records, full) if self.steps is None and self.last == "keep" else full

    def numbers(self, epoch: int, until: int, begin: int = 0, end: int | None = None) -> Iterator[tuple[int, range]]:
        """By epoch, from `epoch` to before `until`, the batches that come: of the first from `begin` on, of each to `end`.

        An epoch's numbers may be none.
        """
        last = self.batches if end is None else end
        for each in range(epoch, until):
            first = begin if each == epoch else 0
            yield each, range(first + (self.turn - self.turn_of(each, first)) % self.turns, last, self.turns)

    def after(self, epoch: int, number: int) -> tuple[int, int]:
        """Which batch follows."""
        return (epoch, number + 1) if number + 1 < self.batches else (epoch + 1, 0)

    def turn_of(self, epoch: int, number: int) -> int:
        """Which of the makers makes a batch."""
        return (epoch * self.batches + number) % self.turns

    def at(self, epoch: int, numbers: range) -> Places:
        """What comes in those batches of an epoch."""
        starts = np.arange(numbers.start, numbers.stop, numbers.step, dtype=np.int64) * self.batch_size
        wanted = (starts[:, None] + np.arange(self.batch_size)).ravel()
        wanted = wanted[wanted < self.pictures]
        if self.steps is None:
            within = wanted % max(1, self.records)
            return Places(np.full(len(within), epoch, np.int64), within * self.parts + self.part)
        passes, within = np.divmod(wanted + epoch * self.steps * self.batch_size, max(1, self.records))
        return Places(passes, within * self.parts + self.part)
