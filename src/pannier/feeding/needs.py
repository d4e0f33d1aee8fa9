"""What the records of a feed need: bytes by kind of picture, from the manifest alone."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np

from pannier.array_types import Flags, Numbers
from pannier.columns import Rows
from pannier.feeding.kinds import Kinds, Part, kinds_of, one_kind
from pannier.images.colors import Color
from pannier.images.cost import Kind, after_fit_bytes, color_of, decoding_costs, kind_of
from pannier.images.treatment import Treatment
from pannier.store.manifest import Manifest

# decoding that takes more than this from an allocator goes to a heavy lane
LIGHT_ALLOCATION = 1 << 20
# of pictures so small two threads take each other the interpreter lock, and one alone feeds as many with less
TINY_PIXELS = 3 * 32 * 32
# as many decoded pixels take as long as one that is resized to, one of random steps, one of a canvas (bench/prepare.py)
RESIZED, VARIED, OF_CANVAS = 1.5, 2.0, 0.25
# canvases that a thread holds until it hands them on to be kept
KEPT_AT_ONCE = 8


@dataclass(frozen=True)
class Needs:
    """What records need, in bytes by their kind, and what a batch needs.

    A kind is one format, mode, size and turn: `encoded` is its largest file, `counts` its records. `largest` are the largest
    files of all, as many as come in a batch, in ascending order.
    kept_bytes: of canvases that a thread keeps. decoded: of `own`, what is decoded into; None for all of it. fetched: what
    is held of a far storage ahead, the best first. pixels: as many as are decoded in the time that a picture takes, on
    average; None where that is not known, as of own steps.
    """

    encoded: Numbers
    own: Numbers
    allocated: Numbers
    scratch: Numbers
    counts: Numbers
    kinds: Kinds
    largest: Numbers
    item_bytes: int | None
    batch_size: int
    order_bytes: int
    encoded_bytes: int = 0
    kept_bytes: int = 0
    decoded: Numbers | None = None
    fetched: tuple[int, ...] = (0,)
    pixels: float | None = None

    @property
    def is_tiny(self) -> bool:
        """Whether its pictures are so small that their Python is most of their work."""
        return self.pixels is not None and self.pixels <= TINY_PIXELS

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
    parts: Sequence[Part],
    treatment: Treatment | None,
    batch_size: int,
    order_bytes: int,
    *,
    to_canvas: bool = False,
    keeps: bool = False,
) -> Needs:
    """What some rows cost to feed."""
    if treatment is None:
        encoded = np.concatenate([manifest.gather(chosen.rows(), "byte_count") for chosen, _ in parts]).astype(np.int64)
        largest, none, total = np.sort(encoded)[-batch_size:], np.zeros(min(1, len(encoded)), np.int64), int(encoded.sum())
        one = largest[-1:]
        kinds = one_kind(parts, int(encoded.max(initial=0)), total)
        beside: tuple[Any, ...] = (largest, None, batch_size, order_bytes, total)
        return Needs(one, one, none, none, kinds.counts, kinds, *beside)  # read, copied
    kinds = kinds_of(manifest, parts)
    ones, counts, largest_of_kind, sums, from_canvas = kinds.firsts, kinds.counts, kinds.largest, kinds.sums, kinds.rendered
    names = ("height", "width", "turn", "progressive")
    heights, widths, turns, progressive = (manifest.gather(ones, name) for name in names)
    of_names = _of_names(manifest, ones, color_of(treatment))
    costs = decoding_costs(of_names, heights, widths, turns, progressive, largest_of_kind, treatment)
    tall, wide = treatment.frame.canvas
    canvas = treatment.channels * tall * wide
    read, own, allocated, scratch, decoded = largest_of_kind, costs.own, costs.allocated, costs.scratch, costs.decoded
    total = int(sums.sum())
    if from_canvas.any():
        read, own = np.where(from_canvas, canvas, read), np.where(from_canvas, after_fit_bytes(treatment), own)
        allocated, scratch, decoded = (np.where(from_canvas, 0, each) for each in (allocated, scratch, decoded))
        total = int(sums[~from_canvas].sum()) + canvas * int(counts[from_canvas].sum())
    item_bytes = canvas if to_canvas else treatment.byte_count
    none = sums[:0]
    kept = KEPT_AT_ONCE * canvas if keeps else 0
    pixels = np.where(from_canvas, OF_CANVAS * tall * wide, heights.astype(np.float64) * widths + RESIZED * tall * wide)
    pixels += VARIED * tall * wide * bool(treatment.varies)
    mean = float(np.average(pixels, weights=counts)) if len(counts) and not treatment.own else None
    beside = (none, item_bytes, batch_size, order_bytes, total, kept, decoded)
    return Needs(read, own, allocated, scratch, counts, kinds, *beside, pixels=mean)


def _of_names(manifest: Manifest, rows: Rows, color: Color) -> Kind:
    """What formats and modes mean for decoding: looked up once for each pair of names, then by number."""
    formats, modes = manifest.names("format"), manifest.names("mode")
    table = np.array([kind_of(form, mode, color) for form in formats for mode in modes], np.int64)
    if not table.size:
        return Kind(*np.zeros((len(Kind._fields), 0), np.int64))
    return Kind(*table[manifest.gather(rows, "format").astype(np.int64) * len(modes) + manifest.gather(rows, "mode")].T)
