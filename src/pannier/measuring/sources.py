"""Where trials take their pictures from, as jobs for their processes."""

from __future__ import annotations

import math
import os
from collections.abc import Sequence
from contextlib import ExitStack
from dataclasses import replace
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import Any

from pannier.errors import PannierError, UsageError
from pannier.feeding.job import CannotTravel, FeedJob, modules_of
from pannier.feeding.render_plan import BYTES_BESIDE, fixed_only, plan_rows
from pannier.feeding.rendering import render
from pannier.measuring.settings import FOLDER, Group, Setting, Step
from pannier.packing.pack import PackOptions, pack
from pannier.storage.protocol import Far
from pannier.store.choosing import chosen_rows
from pannier.store.state import State, create_store

Job = dict[str, Any]

# where not all is rendered, so many records are, in a store beside, for as long as is measured
SAMPLE = 1024


class Sources:
    """Jobs of one snapshot, split and treatment. What is made for them goes when `until_done` ends."""

    def __init__(self, state: State, job: FeedJob, until_done: ExitStack) -> None:
        self._state, self._job, self._until_done = state, job, until_done
        self._rendered: dict[tuple[int, int], FeedJob] = {}
        self.is_far = isinstance(state.storage, Far)
        self._modules = {"modules": _modules_of(job)}
        # what rendering the split takes on disk, and how many canvases are not there yet, by size
        self.rendering_bytes: dict[str, int] = {}
        self.rendering_missing: dict[str, int] = {}

    def can_render(self, sizes: Sequence[tuple[int, int]]) -> bool:
        """Whether canvases of all sizes can be fed here: a store in a bucket is not read for a sample of them."""
        if self.is_far:
            return False
        try:
            return all(self._of(Group(size, "rendered")) for size in sizes)
        except PannierError:
            return False

    def job(self, setting: Setting, step: Step | None, *, cold: bool) -> Job:
        """What a trial's process is told."""
        job, beside = self._of(setting.group)
        counts: dict[str, Any] = {name: getattr(setting, name) for name in ("batch_size", "workers", "processes", "ahead")}
        job = replace(job, memory_limit=setting.memory_limit_bytes, **counts)
        told = {"step": (step.seconds, step.holds_lock) if step else None, "cold": cold}
        return {"kind": "feed", "feed": job.to_plain(), **beside, **told}

    def bare_job(self, group: Group, *, cold: bool) -> Job:
        """What a bare process of that size and source is told."""
        job, beside = self._of(group)
        return {"kind": "bare", "feed": job.to_plain(), **beside, "cold": cold}

    def _of(self, group: Group) -> tuple[FeedJob, Job]:
        treatment = self._job.treatment
        assert treatment is not None
        job = self._job
        if group.size != treatment.size:
            job = replace(job, treatment=treatment.with_fields(size=group.size))
        if group.source.startswith(FOLDER):
            return job, self._modules | {"folder": str(Path(group.source.removeprefix(FOLDER)).absolute())}
        if group.source == "rendered":
            if group.size not in self._rendered:
                self._rendered[group.size] = self._rendered_job(job)
            job = self._rendered[group.size]
        return job, self._modules

    def _rendered_job(self, job: FeedJob) -> FeedJob:
        """The same from canvases: those that are there, or a sample's, made in a store beside."""
        assert job.treatment is not None
        rows = chosen_rows(self._state, job.split, job.subset, job.seed)
        plan = plan_rows(self._state, fixed_only(job.treatment), rows, None)[0]
        size = "x".join(map(str, job.treatment.size))
        self.rendering_missing[size] = plan.missing
        self.rendering_bytes[size] = plan.records * (math.prod(plan.shape) + BYTES_BESIDE)
        if not plan.missing:
            return replace(job, rendered=True)
        folder = self._until_done.enter_context(TemporaryDirectory(prefix="pannier-measure-", dir=_beside(self._state)))
        store = create_store(Path(folder) / "sample.store")
        records = [self._state.record(int(row)) for row in rows[:SAMPLE]]
        boxes = list(job.treatment.box or ())
        table = [
            {"picture": each.bytes(), "name": each.key, "part": each.split} | {name: each.side[name] for name in boxes}
            for each in records
        ]
        how: dict[str, Any] = {"unlabeled": "keep", "doubtful": "keep", "near": None, "columns": boxes, "allow_leaks": True}
        options = PackOptions(picture="picture", key="name", label="'x'", split_by="part" if job.split else None, **how)
        state = pack(store, table, options).state
        assert state is not None
        render(state, job.treatment, split=job.split, disk_limit=None)
        return replace(job, address=state.storage.address, snapshot=state.id, subset=None, rendered=True)


def _modules_of(job: FeedJob) -> list[str]:
    """The modules of a treatment's own steps. Raises UsageError where other processes cannot have them."""
    if job.treatment is None or not job.treatment.own:
        return []
    try:
        return modules_of(job)
    except CannotTravel as cannot:
        raise UsageError(f"trials run in processes of their own: {cannot}; measure without") from None


def _beside(state: State) -> str | None:
    """The folder that the store lies in, so that a sample lies on the same disk, where that can be written to."""
    folder = Path(state.storage.address).absolute().parent
    return str(folder) if folder.is_dir() and os.access(folder, os.W_OK) else None
