"""What rendering would take: canvases and bytes, before anything is made."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from pannier.array_types import Array
from pannier.columns import Rows
from pannier.errors import StoreError
from pannier.images.treatment import Treatment
from pannier.results import Result
from pannier.storage.protocol import Storage
from pannier.store.boxes import check_boxes, identities_of
from pannier.store.canvases import Rendering, renderings
from pannier.store.state import State
from pannier.units import read_limit, show_bytes

DEFAULT_DISK_LIMIT = "20GiB"
# what Arrow adds to a canvas, and its line in the index, at the most
BYTES_BESIDE = 256


@dataclass(frozen=True, repr=False)
class RenderPlan(Result):
    """What rendering would do: canvases that are wanted and there, those to make, and bytes.

    `new_bytes` is what comes; `kept_bytes` what all renderings of the store take now; `limit_bytes` bounds both together.
    """

    digest: str
    shape: tuple[int, int, int]
    records: int
    there: int
    missing: int
    new_bytes: int
    kept_bytes: int
    limit_bytes: int | None


def plan_rows(
    snapshot: State, treatment: Treatment, rows: Rows, disk_limit: str | int | None
) -> tuple[RenderPlan, Array, Array]:
    """The plan, the rows whose canvases are not there, one for each canvas, and the identities of those."""
    check_boxes(snapshot.manifest, treatment)
    identities = identities_of(snapshot.manifest, rows, treatment)
    _, first = np.unique(identities.view("S32").ravel(), return_index=True)
    first.sort()
    rows, identities = rows[first], identities[first]
    distinct = len(rows)
    rendering = Rendering(snapshot.storage, treatment.fixed_part)
    lacks = ~rendering.has(identities) if rendering.is_there() else np.ones(distinct, bool)
    missing = rows[lacks]
    shape = (treatment.channels, *treatment.frame.canvas)
    new_bytes = len(missing) * (int(np.prod(shape)) + BYTES_BESIDE)
    kept = sum(each.byte_count() for each in renderings(snapshot.storage))
    limit = read_limit(disk_limit)
    limit_bytes = limit if isinstance(limit, int) else None
    counts = distinct, distinct - len(missing), len(missing)
    return RenderPlan(treatment.fixed_part, shape, *counts, new_bytes, kept, limit_bytes), missing, identities[lacks]


def fixed_only(treatment: Treatment) -> Treatment:
    """The treatment without what rendering does not need: values, whose mean and std may not be known yet."""
    if treatment.is_ready:
        return treatment
    return treatment.with_fields(values="raw", mean=None, std=None, measured_on=None)


def check_room(storage: Storage, plan: RenderPlan) -> None:
    """Raises StoreError where it would not fit under the limit or on the disk."""
    need = show_bytes(plan.new_bytes)
    if plan.limit_bytes is not None and plan.kept_bytes + plan.new_bytes > plan.limit_bytes:
        raise StoreError(
            f"rendering {plan.missing:,} pictures takes {need}, with {show_bytes(plan.kept_bytes)} rendered already: over "
            f"the limit of {show_bytes(plan.limit_bytes)}; raise `disk_limit`, or `remove` another rendering"
        )
    free = storage.free_bytes()
    if free is not None and plan.new_bytes > free:
        raise StoreError(f"rendering takes {need}, and the disk has {show_bytes(free)} free: make room, or render one split")
