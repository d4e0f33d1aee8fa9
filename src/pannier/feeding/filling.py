"""Canvases kept as a feed makes them: the first epoch renders, the next ones read. Nothing of it holds the feed up."""

from __future__ import annotations

import logging
import threading
from collections.abc import Sequence

import numpy as np

from pannier.array_types import Array
from pannier.errors import PannierError
from pannier.feeding.job import FeedWork
from pannier.feeding.render_plan import RenderPlan, check_room, fixed_only, plan_rows
from pannier.images.placement import Box
from pannier.store.boxes import canvas_identity
from pannier.store.canvas_writer import CanvasWriter
from pannier.store.canvases import Rendering
from pannier.store.leases import writing
from pannier.store.shards import DEFAULT_SHARD_BYTES
from pannier.units import show_bytes

_log = logging.getLogger("pannier")


def filling_plan(works: Sequence[FeedWork]) -> tuple[RenderPlan, Array]:
    """What keeping the canvases of some feeds comes to, and the records whose canvases are kept, as rows.

    Raises StoreError where they would not fit.
    """
    job, state = works[0].job, works[0].state
    assert job.treatment is not None
    rows = np.unique(np.concatenate([work.rows.rows() for work in works]))
    plan, missing, _ = plan_rows(state, fixed_only(job.treatment), rows, job.disk_limit)
    check_room(state.storage, plan)
    return plan, missing


def filling_note(works: Sequence[FeedWork]) -> str:
    """What will be kept, in words."""
    plan, _ = filling_plan(works)
    return f"{plan.missing:,} canvases are kept as they are made: {show_bytes(plan.new_bytes)} on disk ({plan.digest[:12]})"


class Filling:
    """Keeps canvases that are not there yet. For any thread; what goes wrong is logged, and ends the keeping alone.

    A shard is published when it is full, at the end of an epoch, when every canvas is there, and when the feed is closed:
    its canvases are found from then on. Ended at any moment, what was published stays, and nothing else does.
    Raises StoreError where it cannot begin.
    """

    def __init__(self, works: Sequence[FeedWork]) -> None:
        state, treatment = works[0].state, works[0].job.treatment
        assert treatment is not None
        plan, missing = filling_plan(works)
        self._wanted = np.zeros(len(state), bool)
        self._wanted[missing] = True
        self._left = plan.missing
        self._choosing, self._keeping = threading.Lock(), threading.Lock()  # so that nobody waits to choose while one writes
        self._lease = writing(state.storage)
        self._rendering = Rendering(state.storage, treatment.fixed_part)
        self._rendering.begin(fixed_only(treatment))
        # nothing waits for the disk: a canvas that a power cut took is found damaged, and its picture decoded instead
        self._writer: CanvasWriter | None = CanvasWriter(self._rendering, DEFAULT_SHARD_BYTES, lasts=False)
        self._epoch = 0

    def wants(self, row: int, epoch: int, sha256: bytes, box: Box | None) -> bool:
        """Whether a record's canvas is to be kept, which is said once."""
        with self._choosing:
            if self._writer is None or not self._wanted[row]:
                return False
            self._wanted[row] = False
            return not epoch or not self._is_there(canvas_identity(sha256, box))  # another process may have made it

    def _is_there(self, identity: bytes) -> bool:
        try:
            return bool(self._rendering.has(np.frombuffer(identity, np.uint8).reshape(1, -1))[0])
        except (PannierError, OSError):  # then it is made, and what is wrong is met in keeping it
            return False

    def add(self, identities: list[bytes], canvases: Array, epoch: int) -> None:
        """Some canvases of an epoch, uint8 (n, channels, height, width), by their identities."""
        with self._keeping:
            if self._writer is None:
                return
            try:
                self._lease.renew()
                if epoch != self._epoch:
                    self._writer.finish()
                    self._epoch = epoch
                self._writer.add(identities, canvases)
                self._left -= len(identities)
                if not self._left:
                    self._end()
            except (PannierError, OSError) as error:
                self._give_up(error)

    def close(self) -> None:
        """Publishes what was kept so far."""
        with self._keeping:
            try:
                self._end()
            except (PannierError, OSError) as error:
                self._give_up(error)

    def _end(self) -> None:
        writer, self._writer = self._writer, None
        if writer is not None:
            try:
                self._lease.check()
                writer.finish()
            finally:
                writer.close()
                self._lease.end()

    def _give_up(self, error: Exception) -> None:
        writer, self._writer = self._writer, None
        if writer is not None:
            writer.close()
        self._lease.end()
        _log.warning("canvases are not kept any more: %s", error)
