"""Rows of a base with those of a delta among them: found one by one, so that little is held of what did not change."""

from __future__ import annotations

from functools import cached_property

import numpy as np

from pannier.array_types import Array, Numbers


class Overlay:
    """The rows of a base but those that are overridden, and among them those of a delta, in order of their hashes.

    A row has a number, counted through both; and a position in what holds the base first and the delta behind it.
    """

    def __init__(self, base_hashes: Array, overridden: Numbers, delta_hashes: Array, live: Numbers) -> None:
        """overridden: ascending rows of the base; live: ascending rows of the delta that are records."""
        self._base_hashes, self._live_hashes = base_hashes, delta_hashes[live]
        self._overridden, self._live = overridden, live
        # how many rows of the base that stay stand before each that is overridden, and before each of the delta's
        self._stay_before = overridden - np.arange(len(overridden))
        self._inserted = self._staying(np.searchsorted(base_hashes, self._live_hashes, side="right"))
        self._rows = self._inserted + np.arange(len(live))

    def __len__(self) -> int:
        return len(self._base_hashes) - len(self._overridden) + len(self._live)

    def _staying(self, positions: Numbers) -> Numbers:
        """How many rows of the base stay before some positions in it."""
        return positions - np.searchsorted(self._overridden, positions)

    def positions(self, rows: Numbers) -> Numbers:
        """Of some rows."""
        before = np.searchsorted(self._rows, rows, side="right")
        in_base = rows - before
        found = in_base + np.searchsorted(self._stay_before, in_base, side="right")
        if len(self._live):
            last = np.maximum(before - 1, 0)
            found = np.where((before > 0) & (self._rows[last] == rows), len(self._base_hashes) + self._live[last], found)
        return found

    @cached_property
    def all_positions(self) -> Numbers:
        """Of every row."""
        stays = np.ones(len(self._base_hashes), bool)
        stays[self._overridden] = False
        return np.insert(np.flatnonzero(stays), self._inserted, self._live + len(self._base_hashes))

    def first_rows(self, hashes: Array) -> Numbers:
        """The first row of each hash, or where it would stand."""
        in_base = self._staying(np.searchsorted(self._base_hashes, hashes))
        return in_base + np.searchsorted(self._live_hashes, hashes)
