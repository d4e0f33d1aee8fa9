"""What the records of a feed need: bytes by kind of picture, from the manifest alone."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np
import pyarrow as pa

from pannier.array_types import Flags, Numbers
from pannier.columns import Rows
from pannier.images.colors import Color
from pannier.images.cost import Kind, after_fit_bytes, color_of, decoding_costs, kind_of
from pannier.images.treatment import Treatment
from pannier.store.manifest import Manifest

# decoding that takes more than this from an allocator goes to a heavy lane
LIGHT_ALLOCATION = 1 << 20
# sides up to this many pixels are told apart; longer ones, which are rare, are all told one by one
_SIDE_BITS = 22
_MOST_NAMES = 1 << 12
# canvases that a thread holds until it hands them on to be kept
KEPT_AT_ONCE = 8


@dataclass(frozen=True)
class Needs:
    """What records need, in bytes by their kind, and what a batch needs.

    A kind is one format, mode, size and turn: `encoded` is its largest file, `counts` its records, and `kinds` has by record
    the number of its kind. `largest` are the largest files of all, as many as come in a batch, in ascending order.
    kept_bytes: of canvases that a thread keeps.
    """

    encoded: Numbers
    own: Numbers
    allocated: Numbers
    scratch: Numbers
    counts: Numbers
    kinds: Numbers
    largest: Numbers
    item_bytes: int | None
    batch_size: int
    order_bytes: int
    encoded_bytes: int = 0
    kept_bytes: int = 0

    @cached_property
    def of_one_worker(self) -> Numbers:
        """By kind."""
        return self.encoded + self.own + self.scratch + self.allocated

    def batch_bytes(self, batch_size: int) -> int:
        if self.item_bytes is not None:
            return batch_size * self.item_bytes
        return int(self.largest[-batch_size:].sum())  # encoded pictures: the largest together

    def heavy(self, light_bytes: int) -> Flags:
        """Which kinds go to a heavy lane: those that an allocator serves, and those too large for a worker's buffers."""
        return (self.allocated > LIGHT_ALLOCATION) | (self.of_one_worker > light_bytes)


def needs_of(
    manifest: Manifest,
    rows: Rows,
    treatment: Treatment | None,
    batch_size: int,
    is_rendered: Flags | None,
    order_bytes: int,
    *,
    to_canvas: bool = False,
    keeps: bool = False,
) -> Needs:
    """What some rows cost to feed. `is_rendered` says of which of them a canvas is read in place of the picture."""
    encoded = manifest.gather(rows, "byte_count").astype(np.int64)
    if treatment is None:
        largest = np.sort(encoded)[-batch_size:]
        one, none, all_of_it = largest[-1:], np.zeros(min(1, len(rows)), np.int64), np.zeros(len(rows), np.int64)
        counts = np.full(len(one), len(rows), np.int64)
        total = int(encoded.sum())
        return Needs(one, one, none, none, counts, all_of_it, largest, None, batch_size, order_bytes, total)  # read, copied
    kinds, firsts = _told_apart(manifest, rows, is_rendered)
    largest_of_kind, counts = np.zeros(len(firsts), np.int64), np.bincount(kinds, minlength=len(firsts))
    np.maximum.at(largest_of_kind, kinds, encoded)
    ones = rows[firsts]
    names = ("height", "width", "turn", "progressive")
    heights, widths, turns, progressive = (manifest.gather(ones, name) for name in names)
    of_names = _of_names(manifest, ones, color_of(treatment))
    costs = decoding_costs(of_names, heights, widths, turns, progressive, largest_of_kind, treatment)
    tall, wide = treatment.frame.canvas
    canvas = treatment.channels * tall * wide
    read, own, allocated, scratch = largest_of_kind, costs.own, costs.allocated, costs.scratch
    total = int(encoded.sum())
    if is_rendered is not None:
        from_canvas = is_rendered[firsts]
        read, own = np.where(from_canvas, canvas, read), np.where(from_canvas, after_fit_bytes(treatment), own)
        allocated, scratch = np.where(from_canvas, 0, allocated), np.where(from_canvas, 0, scratch)
        total = int(encoded[~is_rendered].sum()) + canvas * int(is_rendered.sum())
    item_bytes = canvas if to_canvas else treatment.byte_count
    none = encoded[:0]
    kept = KEPT_AT_ONCE * canvas if keeps else 0
    return Needs(read, own, allocated, scratch, counts, kinds, none, item_bytes, batch_size, order_bytes, total, kept)


def _told_apart(manifest: Manifest, rows: Rows, is_rendered: Flags | None) -> tuple[Numbers, Rows]:
    """By row the number of its kind, and a row of each kind, as places among those rows."""
    told = (is_rendered if is_rendered is not None else np.zeros(len(rows), bool)).astype(np.int64)
    names = {name: len(manifest.names(name)) or 1 for name in ("format", "mode")}
    heights, widths = (manifest.gather(rows, name) for name in ("height", "width"))
    longest = max(heights.max(initial=0), widths.max(initial=0))
    if longest >> _SIDE_BITS or names["format"] * names["mode"] > _MOST_NAMES:
        return np.arange(len(rows)), np.arange(len(rows))
    for name, most in {"turn": 16, "progressive": 2, **names}.items():
        told = told * most + manifest.gather(rows, name)
    told = (((told << _SIDE_BITS) | heights) << _SIDE_BITS) | widths
    kinds = pa.array(told).dictionary_encode().indices.to_numpy()
    firsts = np.zeros(int(kinds.max(initial=-1)) + 1, np.int64)
    firsts[kinds[::-1]] = np.arange(len(rows) - 1, -1, -1)
    return kinds, firsts


def _of_names(manifest: Manifest, rows: Rows, color: Color) -> Kind:
    """What formats and modes mean for decoding: looked up once for each pair of names, then by number."""
    formats, modes = manifest.names("format"), manifest.names("mode")
    table = np.array([kind_of(form, mode, color) for form in formats for mode in modes], np.int64)
    if not table.size:
        return Kind(*np.zeros((len(Kind._fields), 0), np.int64))
    return Kind(*table[manifest.gather(rows, "format").astype(np.int64) * len(modes) + manifest.gather(rows, "mode")].T)
