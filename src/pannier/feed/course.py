"""The course of a feed: which places of which pass come in a batch. A pass gives every record once, in its own order.

Numbers alone: what stands at a place is for the order to say. Parts take turns in a pass, place by place, so that they are
disjoint and make up the whole, whatever reads the others.
"""

from __future__ import annotations

from dataclasses import dataclass
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
    last two give every part the same number of batches.
    """

    count: int
    batch_size: int
    last: Last = "keep"
    steps: int | None = None
    part: int = 0
    parts: int = 1

    @property
    def records(self) -> int:
        """Records of this part in a pass."""
        return max(0, -(-(self.count - self.part) // self.parts))

    @property
    def batches(self) -> int:
        """Batches an epoch."""
        if self.steps is not None:
            return self.steps if self.records else 0
        if self.last == "drop":
            return self.count // self.parts // self.batch_size
        largest = self.records if self.last == "keep" else -(-self.count // self.parts)
        return -(-largest // self.batch_size) if self.records else 0

    @property
    def pictures(self) -> int:
        """Pictures an epoch."""
        full = self.batches * self.batch_size
        return min(self.records, full) if self.steps is None and self.last == "keep" else full

    def at(self, epoch: int, begin: int, end: int) -> Places:
        """What comes in the batches from `begin` to before `end` of an epoch."""
        first, last = begin * self.batch_size, min(end * self.batch_size, self.pictures)
        if self.steps is None:
            within = np.arange(first, last, dtype=np.int64) % max(1, self.records)
            return Places(np.full(len(within), epoch, np.int64), within * self.parts + self.part)
        start = epoch * self.steps * self.batch_size
        passes, within = np.divmod(np.arange(start + first, start + last, dtype=np.int64), max(1, self.records))
        return Places(passes, within * self.parts + self.part)
