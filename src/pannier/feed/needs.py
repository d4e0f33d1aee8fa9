"""What the records of a feed need: bytes by record, from the manifest alone."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np

from pannier.array_types import Numbers
from pannier.columns import Rows
from pannier.images.colors import Color
from pannier.images.cost import Kind, after_fit_bytes, color_of, decoding_costs, kind_of
from pannier.images.treatment import Treatment
from pannier.store.manifest import Manifest

# what a feed holds of each record: its row, its label, whether it is heavy, and what it takes
BYTES_PER_RECORD = 28
# decoding that takes more than this from an allocator goes to a heavy lane
LIGHT_ALLOCATION = 1 << 20


@dataclass(frozen=True)
class Needs:
    """What the records of a split need, in bytes by record, and what a batch needs."""

    encoded: Numbers
    own: Numbers
    allocated: Numbers
    scratch: Numbers
    item_bytes: int | None
    batch_size: int
    order_bytes: int

    @cached_property
    def of_one_worker(self) -> Numbers:
        return self.encoded + self.own + self.scratch + self.allocated

    def batch_bytes(self, batch_size: int) -> int:
        if self.item_bytes is not None:
            return batch_size * self.item_bytes
        count = min(batch_size, len(self.encoded))
        return int(np.sort(self.encoded)[-count:].sum()) if count else 0  # encoded pictures: the largest together

    def heavy(self, light_bytes: int) -> np.ndarray[Any, np.dtype[np.bool_]]:
        """Which records go to a heavy lane: those that an allocator serves, and those too large for a worker's buffers."""
        return (self.allocated > LIGHT_ALLOCATION) | (self.of_one_worker > light_bytes)


def needs_of(
    manifest: Manifest,
    rows: Rows,
    treatment: Treatment | None,
    batch_size: int,
    is_rendered: np.ndarray[Any, Any],
    *,
    to_canvas: bool = False,
) -> Needs:
    """What some rows cost to feed. `is_rendered` says of which of them a canvas is read in place of the picture."""
    encoded = manifest.column("byte_count")[rows].astype(np.int64)
    none = np.zeros(len(rows), np.int64)
    order_bytes = len(rows) * BYTES_PER_RECORD + manifest.by_digest * len(manifest)
    if treatment is None:
        return Needs(encoded, encoded, none, none, None, batch_size, order_bytes)  # read, then copied out
    names = ("height", "width", "turn", "progressive")
    heights, widths, turns, progressive = (manifest.column(name)[rows] for name in names)
    costs = decoding_costs(
        _kinds(manifest, rows, color_of(treatment)), heights, widths, turns, progressive, encoded, treatment
    )
    tall, wide = treatment.frame.canvas
    canvas = treatment.channels * tall * wide
    parts: tuple[Numbers, ...] = (encoded, costs.own, costs.allocated, costs.scratch)
    if is_rendered.any():
        after = (canvas, after_fit_bytes(treatment), 0, 0)
        parts = tuple(np.where(is_rendered, fixed, column) for fixed, column in zip(after, parts, strict=True))
    own, allocated, scratch = parts[1:]
    item_bytes = canvas if to_canvas else treatment.byte_count
    return Needs(parts[0], own, allocated, scratch, item_bytes, batch_size, order_bytes)


def _kinds(manifest: Manifest, rows: Rows, color: Color) -> Kind:
    """What formats and modes mean for decoding: looked up once for each pair of names, then by number."""
    (formats, format_names), (modes, mode_names) = manifest.codes("format"), manifest.codes("mode")
    table = np.array([kind_of(form, mode, color) for form in format_names for mode in mode_names], np.int64)
    if not table.size:
        return Kind(*np.zeros((len(Kind._fields), 0), np.int64))
    return Kind(*table[formats[rows] * len(mode_names) + modes[rows]].T)
