"""Telling kinds of records apart: one walk through their columns, at the speed of memory."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from functools import partial
from typing import Any, NamedTuple

import numpy as np

from pannier.array_types import Array, Flags, Numbers
from pannier.columns import Rows
from pannier.feeding.chosen import ChosenRows
from pannier.feeding.kernels import SIDE_BITS, TOO_LONG, mark, tell_apart
from pannier.machine import usable_cores
from pannier.store.manifest import Manifest

_MOST_NAMES = 1 << 12
# so many kinds at first; where there are more, it begins anew with room for more
_FIRST_ROOM = 1 << 12  # a power of two
_TURNS = 16
# rows that one thread walks through at a time
_IN_ONE_WALK = 1 << 20
_NONE = [np.empty(0, np.int64)] * 5

# the chosen rows of a manifest, and by place which of those are read as canvases; None: none is
Part = tuple[ChosenRows, Flags | None]
# the first arguments of the kernels
Walk = tuple[Array, Array, int, int, int, Array, Array]


class Kinds(NamedTuple):
    """By kind: the row of its first record, whether those are canvases, how many there are, the largest and all bytes.

    `among` tells for each part, by place, which of its records are of the kinds that are flagged.
    """

    firsts: Rows
    rendered: Flags
    counts: Numbers
    largest: Numbers
    sums: Numbers
    among: Callable[[Flags], list[Flags]]


def kinds_of(manifest: Manifest, parts: Sequence[Part]) -> Kinds:
    """Kinds are one format, mode, size and turn, rendered or not, progressive or not."""
    forms, modes = (max(1, len(manifest.names(name))) for name in ("format", "mode"))
    total = sum(len(chosen) for chosen, _ in parts)
    walks = [walk for part in parts for walk in _walks_of(manifest, part)]
    names = ("format", "mode", "turn", "progressive", "height", "width", "byte_count")
    with ThreadPoolExecutor(usable_cores() if total > _IN_ONE_WALK else 1) as pool:
        columns = [*pool.map(manifest.whole, names)] if total else [np.empty(0, np.int32)] * len(names)
        room = _FIRST_ROOM
        while forms * modes <= _MOST_NAMES:
            told = [*pool.map(partial(_told, columns, forms, modes, min(room, max(1, total))), walks)]
            if all(isinstance(each, list) for each in told):
                return _joined(parts, partial(_among, parts, walks, columns[:-1], forms, modes), told, forms * modes)
            if TOO_LONG in told:
                break
            room *= 8
    return _each_its_own(manifest, parts)


def _told(columns: Sequence[Array], forms: int, modes: int, room: int, walk: Walk) -> list[Numbers] | int:
    """By kind: key, first row, count, largest and all bytes, of one walk."""
    table = np.full(2 << (room - 1).bit_length(), -1, np.int32)
    by_kind = [np.zeros(room, np.int64) for _ in range(5)]
    found = tell_apart(*walk, *columns, forms, modes, table, *by_kind)
    return int(found) if found < 0 else [each[:found] for each in by_kind]


def _joined(parts: Sequence[Part], among: Callable[[Numbers, Flags], list[Flags]], told: Any, names: int) -> Kinds:
    """The kinds of several walks, in order of their keys."""
    keys, firsts, counts, largest, sums = (np.concatenate(each) for each in zip(*told, strict=True)) if told else _NONE
    kept, at, kinds = np.unique(keys, return_index=True, return_inverse=True)
    counted, summed, most = (np.zeros(len(kept), np.int64) for _ in range(3))
    np.add.at(counted, kinds, counts)
    np.add.at(summed, kinds, sums)
    np.maximum.at(most, kinds, largest)
    rendered = (kept >> 2 * SIDE_BITS) >= 2 * _TURNS * names
    return Kinds(firsts[at], rendered, counted, most, summed, partial(among, kept))


def one_kind(parts: Sequence[Part], largest: int, total: int) -> Kinds:
    """Of records that are all read, and no more: as one kind."""
    count = sum(len(chosen) for chosen, _ in parts)
    counts, files, sums = (np.array([each] * min(1, count), np.int64) for each in (count, largest, total))

    def among(wanted: Flags) -> list[Flags]:
        return [np.full(len(chosen), bool(wanted.any())) for chosen, _ in parts]

    return Kinds(np.zeros(len(counts), np.int64), np.zeros(len(counts), bool), counts, files, sums, among)


def _each_its_own(manifest: Manifest, parts: Sequence[Part]) -> Kinds:
    rows = np.concatenate([chosen.rows() for chosen, _ in parts])
    flags = [np.zeros(len(chosen), bool) if rendered is None else rendered for chosen, rendered in parts]
    borders = np.cumsum([len(chosen) for chosen, _ in parts])[:-1]
    sizes = manifest.gather(rows, "byte_count").astype(np.int64)
    ones = np.ones(len(rows), np.int64)
    return Kinds(rows, np.concatenate(flags), ones, sizes, sizes, lambda wanted: np.split(wanted, borders))


def _walks_of(manifest: Manifest, part: Part) -> Iterator[Walk]:
    """Which rows a kernel stops at, where those stand in the columns, which are canvases: a walk for each million or so."""
    (chosen, rendered), positions = part, manifest.positions
    beside = (
        np.empty(0, np.int64) if positions is None else np.ascontiguousarray(positions, np.int64),
        np.empty(0, bool) if rendered is None else rendered,
    )
    rows, words, end = chosen.walk
    for begin in range(0, end, _IN_ONE_WALK):
        yield rows, words, begin, min(end, begin + _IN_ONE_WALK), chosen.places_before(begin), *beside


def _among(
    parts: Sequence[Part],
    walks: Sequence[Walk],
    columns: Sequence[Array],
    forms: int,
    modes: int,
    keys: Numbers,
    wanted: Flags,
) -> list[Flags]:
    marks = [np.zeros(len(chosen), bool) for chosen, _ in parts]
    of_walks = (each for (chosen, _), each in zip(parts, marks, strict=True) for _ in range(0, chosen.walk[2], _IN_ONE_WALK))
    for walk, each in zip(walks, of_walks, strict=True):
        mark(*walk, *columns, forms, modes, keys, wanted, each)
    return marks
