"""Warming up: every decoder and kernel that a feed will need is loaded before its memory is held against a limit."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from pannier.feeding.job import FeedWork
from pannier.feeding.order import MOST_SORTED, shuffled
from pannier.images.prepare import warm_up

# so many of a feed's records are looked through for formats and modes
LOOKED_THROUGH = 4096


def warm_up_for(works: Sequence[FeedWork]) -> None:
    """Prepares one picture, the smallest, of each format and mode; own steps are called as well."""
    state, treatment = works[0].state, works[0].job.treatment
    shuffled(np.zeros(1, np.int64), 2 * MOST_SORTED, 0, 0)
    smallest: dict[tuple[str, str], tuple[int, int]] = {}
    for work in works:
        rows = work.rows.at(np.arange(min(LOOKED_THROUGH, len(work.rows))))
        columns = state.manifest.take(rows, ["format", "mode", "byte_count"]).to_pydict()
        for row, form, mode, size in zip(rows.tolist(), *columns.values(), strict=True):
            smallest[form, mode] = min(smallest.get((form, mode), (size, row)), (size, row))
    for _, row in smallest.values():
        assert treatment is not None
        warm_up(treatment, state.record(row).bytes())
