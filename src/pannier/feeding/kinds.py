"""Telling kinds of records apart: one walk through their columns, at the speed of memory."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from pannier.array_types import Flags, Numbers
from pannier.columns import Codes, Rows
from pannier.feeding.kernels import TOO_LONG, tell_apart
from pannier.store.manifest import Manifest

_MOST_NAMES = 1 << 12
# so many kinds at first; where there are more, it begins anew with room for more
_FIRST_ROOM = 1 << 12  # a power of two


class Kinds(NamedTuple):
    """By record the number of its kind, int32; by kind its first record, how many there are, the largest and all bytes."""

    of: Codes
    firsts: Rows
    counts: Numbers
    largest: Numbers
    sums: Numbers


def kinds_of(manifest: Manifest, rows: Rows, is_rendered: Flags | None) -> Kinds:
    """Kinds are one format, mode, size and turn, rendered or not, progressive or not. `firsts` are places among the rows."""
    names = ("format", "mode", "turn", "progressive", "height", "width", "byte_count")
    columns = [manifest.whole(name) for name in names] if len(rows) else [np.empty(0, np.int32)] * len(names)
    at = manifest.places(rows)
    formats, modes = (max(1, len(manifest.names(name))) for name in ("format", "mode"))
    flags = np.zeros(1, bool) if is_rendered is None else is_rendered
    room = _FIRST_ROOM
    while formats * modes <= _MOST_NAMES:
        kinds, table = np.empty(len(rows), np.int32), np.full(2 * room, -1, np.int32)
        by_kind = [np.zeros(min(room, max(1, len(rows))), np.int64) for _ in range(5)]
        how = (formats, modes, flags, is_rendered is not None, table)
        found = tell_apart(at, *columns, *how, kinds, *by_kind)
        if found >= 0:
            return Kinds(kinds, *(each[:found] for each in by_kind[1:]))
        if found == TOO_LONG:
            break
        room *= 8
    each, one = manifest.gather(rows, "byte_count").astype(np.int64), np.arange(len(rows))
    return Kinds(one.astype(np.int32), one, np.ones(len(rows), np.int64), each, each)
