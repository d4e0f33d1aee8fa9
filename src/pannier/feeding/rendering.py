"""Rendering: the fixed part of a treatment done once for a snapshot, and its canvases kept in the store."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np

from pannier.array_types import Array
from pannier.errors import StoreError, UsageError
from pannier.feeding.feed import Feed
from pannier.feeding.job import job_of
from pannier.images.treatment import Treatment
from pannier.results import Result
from pannier.storage.protocol import Storage
from pannier.store.boxes import check_boxes, identities_of
from pannier.store.canvas_writer import CanvasWriter
from pannier.store.canvases import Rendering, renderings
from pannier.store.leases import WRITER, holding
from pannier.store.shards import DEFAULT_SHARD_BYTES
from pannier.store.state import State
from pannier.units import read_limit, show_bytes

DEFAULT_DISK_LIMIT = "20GiB"
BATCH_SIZE = 16
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


@dataclass(frozen=True, repr=False)
class Rendered(Result):
    """One rendering as `list_renderings` tells of it."""

    digest: str
    about: dict[str, Any]
    canvases: int
    byte_count: int

    def to_dict(self) -> dict[str, Any]:
        """Plain data for JSON."""
        return {"digest": self.digest, "canvases": self.canvases, "bytes": self.byte_count, **self.about}


def plan_rendering(
    snapshot: State, treatment: Treatment, *, split: str | None = None, disk_limit: str | int | None = DEFAULT_DISK_LIMIT
) -> RenderPlan:
    """What rendering a snapshot, or a split of it, will cost. Raises NotFoundError, UsageError."""
    return _planned(snapshot, fixed_only(treatment), split, disk_limit)[0]


def _planned(
    snapshot: State, treatment: Treatment, split: str | None, disk_limit: str | int | None
) -> tuple[RenderPlan, Array, Array]:
    """The plan, the rows whose canvases are not there, one for each canvas, and the identities of those."""
    check_boxes(snapshot.manifest, treatment)
    rows = snapshot.rows_of(split)
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


def render(
    snapshot: State,
    treatment: Treatment,
    *,
    split: str | None = None,
    disk_limit: str | int | None = DEFAULT_DISK_LIMIT,
    workers: int | None = None,
    memory_limit: str | int | None = "auto",
    shard_size: int = DEFAULT_SHARD_BYTES,
    check: bool = False,
    progress: Callable[[int, int], None] | None = None,
) -> RenderPlan:
    """Renders what is not there yet, and gives what was planned. Feeds through an equal fixed part use it by themselves.

    disk_limit: the most bytes that all renderings of the store may take, or None. check: read what is there first, and make
    again what is damaged. Ended at any moment, what is finished stays and the next call goes on.
    Raises StoreError where it would not fit under that limit or on the disk, before anything is written.
    """
    treatment = fixed_only(treatment)
    rendering = Rendering(snapshot.storage, treatment.fixed_part)
    with holding(snapshot.storage, WRITER):
        if check:
            for file, _ in rendering.check():
                rendering.remove(file)
        plan, rows, identities = _planned(snapshot, treatment, split, disk_limit)
        _check_room(snapshot.storage, plan)
        if len(rows):
            rendering.begin(treatment)
            options: dict[str, Any] = {"workers": workers, "memory_limit": memory_limit, "rows": rows}
            job = job_of(snapshot, None, treatment, batch_size=BATCH_SIZE, to_canvas=True, **options)
            with Feed(job, snapshot) as feed:
                _fill(CanvasWriter(rendering, shard_size), feed, rows, identities, progress)
    return plan


def _fill(
    writer: CanvasWriter, feed: Feed, rows: Array, identities: Array, progress: Callable[[int, int], None] | None
) -> None:
    """Renders some rows, in ascending order, into shards; what is not finished when it is ended leaves nothing."""
    done = 0
    try:
        for batch in feed:
            own = identities[np.searchsorted(rows, batch._rows)]
            writer.add([identity.tobytes() for identity in own], batch.images)
            done += len(batch)
            if progress:
                progress(done, len(rows))
        writer.finish()
    finally:
        writer.close()


def list_renderings(storage: Storage) -> list[Rendered]:
    """All renderings of a store."""
    kept = renderings(storage)
    return [Rendered(each.digest, each.about, each.count(), each.byte_count()) for each in kept]


def remove_rendering(storage: Storage, digest: str) -> int:
    """Takes a rendering away, by the first digits of its digest: how many bytes that frees. Raises UsageError."""
    matching = [rendering for rendering in renderings(storage) if rendering.digest.startswith(digest)]
    if len(matching) != 1 or len(digest) < 4:
        known = ", ".join(rendering.digest[:12] for rendering in renderings(storage)) or "none"
        raise UsageError(f"{digest!r} is not the beginning (4 or more digits) of one rendering's digest; there is {known}")
    return matching[0].drop()


def fixed_only(treatment: Treatment) -> Treatment:
    """The treatment without what rendering does not need: values, whose mean and std may not be known yet."""
    if treatment.is_ready:
        return treatment
    return treatment.with_fields(values="raw", mean=None, std=None, measured_on=None)


def _check_room(storage: Storage, plan: RenderPlan) -> None:
    need = show_bytes(plan.new_bytes)
    if plan.limit_bytes is not None and plan.kept_bytes + plan.new_bytes > plan.limit_bytes:
        raise StoreError(
            f"rendering {plan.missing:,} pictures takes {need}, with {show_bytes(plan.kept_bytes)} rendered already: over "
            f"the limit of {show_bytes(plan.limit_bytes)}; raise `disk_limit`, or `remove` another rendering"
        )
    free = storage.free_bytes()
    if free is not None and plan.new_bytes > free:
        raise StoreError(f"rendering takes {need}, and the disk has {show_bytes(free)} free: make room, or render one split")
