"""Warming up: every decoder and kernel that a feed will need is loaded before its memory is held against a limit."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from pannier.feeding.job import FeedWork
from pannier.feeding.order import MOST_SORTED, shuffled
from pannier.images.prepare import warm_up
from pannier.store.places import PictureReader, ReadError, damage, fact_lists, places_of

# so many of a feed's records are looked through for formats and modes
LOOKED_THROUGH = 4096


def warm_up_for(works: Sequence[FeedWork]) -> None:
    """Prepares one picture, the smallest, of each format and mode; own steps are called as well. Raises DamageError."""
    state, treatment = works[0].state, works[0].job.treatment
    shuffled(np.zeros(1, np.int64), 2 * MOST_SORTED, 0, 0)
    smallest: dict[tuple[str, str], tuple[int, int]] = {}
    for work in works:
        rows = work.rows.at(np.arange(min(LOOKED_THROUGH, len(work.rows))))
        columns = fact_lists(state.manifest, rows, ["format", "mode", "byte_count"])
        for row, form, mode, size in zip(rows.tolist(), *columns, strict=True):
            smallest[form, mode] = min(smallest.get((form, mode), (size, row)), (size, row))
    if treatment is None or not smallest:
        return
    chosen, reader = np.array([row for _, row in smallest.values()], np.int64), PictureReader(state.storage)
    for row, place in zip(chosen.tolist(), places_of(state.manifest, state.index, chosen), strict=True):
        try:
            warm_up(treatment, reader.read(place))
        except ReadError as error:
            raise damage(place, state.record(row).key, str(error)) from error
    reader.close()
