"""Warming up: every decoder and kernel that a feed will need is loaded before its memory is held against a limit."""

from __future__ import annotations

import numpy as np

from pannier.feed.job import FeedWork
from pannier.images.prepare import warm_up

# so many of a feed's records are looked through for formats and modes
LOOKED_THROUGH = 4096


def warm_up_for(work: FeedWork) -> None:
    """Prepares one picture, the smallest, of each format and mode; own steps are called as well."""
    state, rows = work.state, work.rows.at(np.arange(min(LOOKED_THROUGH, len(work.rows))))
    columns = state.manifest.take(rows, ["format", "mode", "byte_count"]).to_pydict()
    smallest: dict[tuple[str, str], tuple[int, int]] = {}
    for row, form, mode, size in zip(rows.tolist(), *columns.values(), strict=True):
        smallest[form, mode] = min(smallest.get((form, mode), (size, row)), (size, row))
    for _, row in smallest.values():
        assert work.job.treatment is not None
        warm_up(work.job.treatment, state.record(row).bytes())
