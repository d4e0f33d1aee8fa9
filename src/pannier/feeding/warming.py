"""Warming up: every decoder and kernel that a feed will need is loaded before its memory is held against a limit."""

from __future__ import annotations

import threading
from collections.abc import Sequence

import numpy as np

from pannier.errors import PictureError
from pannier.feeding.job import FeedWork
from pannier.feeding.order import MOST_SORTED, shuffled
from pannier.images.cost import color_of
from pannier.images.prepare import Preparation, warm_up
from pannier.memory import give_back_free_memory, resident_bytes
from pannier.store.places import PictureReader, ReadError, damage, fact_lists, places_of

# so many of a feed's records are looked through for formats and modes
LOOKED_THROUGH = 4096


# formats, modes and colors whose decoders this process has loaded
_loaded: set[tuple[str, str, str]] = set()
_loading = threading.Lock()


def load_libraries(works: Sequence[FeedWork]) -> int:
    """Loads the decoders and kernels that feeds need, once in a process: the bytes that this adds to it.

    A small picture of each format and mode is decoded. What cannot be read is left to the feed, which names it.
    """
    with _loading:
        level = resident_bytes()
        for work in works:
            work.compile_kernels()
        treatment = works[0].job.treatment
        if treatment is None:
            return 0
        shuffled(np.zeros(1, np.int64), 2 * MOST_SORTED, 0, 0)
        state, rows = works[0].state, np.unique(np.concatenate([work.samples for work in works]))
        names = zip(rows.tolist(), *fact_lists(state.manifest, rows, ["format", "mode"]), strict=True)
        new = {row: (form, mode, color_of(treatment)) for row, form, mode in names}
        new = {row: kind for row, kind in new.items() if kind not in _loaded}
        if new:
            chosen, reader = np.array([*new], np.int64), PictureReader(state.storage)
            bare = Preparation(treatment.with_fields(own=(), box=None, measured_on=None))
            for kind, place in zip(new.values(), places_of(state.manifest, state.index, chosen), strict=True):
                try:
                    bare.one(reader.read(place))
                except (ReadError, PictureError):
                    continue
                _loaded.add(kind)
            reader.close()
            del bare
            give_back_free_memory()
        return max(0, resident_bytes() - level)


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
