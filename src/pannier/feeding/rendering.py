"""Rendering: the fixed part of a treatment done once for a snapshot, and its canvases kept in the store."""

from __future__ import annotations

from collections.abc import Callable
from concurrent.futures import Executor
from dataclasses import dataclass
from typing import Any

import numpy as np

from pannier.array_types import Array
from pannier.errors import UsageError
from pannier.executors import done_by
from pannier.feeding.feed import Feed
from pannier.feeding.job import FeedJob, job_of
from pannier.feeding.parted import Part, parts_of
from pannier.feeding.render_plan import DEFAULT_DISK_LIMIT, RenderPlan, check_room, fixed_only, plan_rows
from pannier.images.treatment import Treatment
from pannier.results import Result
from pannier.storage.protocol import Storage
from pannier.store.boxes import identities_of
from pannier.store.canvas_writer import CanvasWriter
from pannier.store.canvases import Rendering, renderings
from pannier.store.leases import WRITER, holding
from pannier.store.shards import DEFAULT_SHARD_BYTES
from pannier.store.state import State

BATCH_SIZE = 16


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
    return plan_rows(snapshot, fixed_only(treatment), snapshot.rows_of(split), disk_limit)[0]


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
    executor: Executor | None = None,
) -> RenderPlan:
    """Renders what is not there yet, and gives what was planned. Feeds through an equal fixed part use it by themselves.

    disk_limit: the most bytes that all renderings of the store may take, or None. check: read what is there first, and make
    again what is damaged. Ended at any moment, what is finished stays and the next call goes on. executor: whose workers do
    it, with `workers` threads each, by default one.
    Raises StoreError where it would not fit under that limit or on the disk, before anything is written.
    """
    treatment = fixed_only(treatment)
    rendering = Rendering(snapshot.storage, treatment.fixed_part)
    with holding(snapshot.storage, WRITER):
        if check:
            for file, _ in rendering.check():
                rendering.remove(file)
        plan, rows, identities = plan_rows(snapshot, treatment, snapshot.rows_of(split), disk_limit)
        check_room(snapshot.storage, plan)
        if len(rows):
            rendering.begin(treatment)
            options: dict[str, Any] = {"workers": workers, "memory_limit": memory_limit, "rows": rows}
            job = job_of(snapshot, None, treatment, batch_size=BATCH_SIZE, to_canvas=True, **options)
            if executor is not None:
                _render_by(executor, snapshot, job, shard_size, progress)
                return plan
            with Feed(job, snapshot) as feed:
                _fill(CanvasWriter(rendering, shard_size), feed, rows, identities, progress)
    return plan


def _render_by(
    executor: Executor, snapshot: State, job: FeedJob, shard_size: int, progress: Callable[[int, int], None] | None
) -> None:
    """Renders by the workers of an executor, each into shards of its own."""
    parts = [((part, shard_size), records) for part, records in parts_of(snapshot, job)]
    done, total = 0, sum(records for _, records in parts)
    for _, records, _ in done_by(executor, _render_part, parts, paths=[snapshot.storage.address]):
        done += records
        if progress:
            progress(done, total)


def _render_part(given: tuple[Part, int]) -> None:
    part, shard_size = given
    state, feed = part.opened()
    job = part.job
    assert job.treatment is not None
    assert job.rows is not None
    with feed, holding(state.storage, WRITER):
        identities = identities_of(state.manifest, job.rows, job.treatment)
        _fill(CanvasWriter(Rendering(state.storage, job.treatment.fixed_part), shard_size), feed, job.rows, identities, None)


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
