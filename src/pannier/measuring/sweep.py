"""A sweep: trials of all settings of a grid, or of those that a search tries, interleaved with the machine's own ceiling."""

from __future__ import annotations

import contextlib
import math
import time
from collections.abc import Callable, Sequence
from contextlib import ExitStack
from dataclasses import replace
from functools import partial
from typing import Any

import numpy as np

from pannier.errors import PannierError
from pannier.feeding.job import FeedJob, job_of
from pannier.images.treatment import Treatment
from pannier.machine import machine_facts, usable_cores
from pannier.measuring.answer import answer_of
from pannier.measuring.binding import DISK, LINK, MEMORY, Shares, stage_shares, what_binds
from pannier.measuring.ceilings import COPYING, READING, TREATMENT, Ceilings
from pannier.measuring.measurement import Measurement
from pannier.measuring.process import Child, Run, TrialEnded
from pannier.measuring.rows import Rate, Trial, trial_of
from pannier.measuring.search import All, Search
from pannier.measuring.settings import (
    DEFAULT_ROUNDS,
    LEAST_ROUNDS,
    SECONDS,
    USUAL_LIMITS,
    Group,
    MeasureOptions,
    Setting,
    Step,
)
from pannier.measuring.sources import Sources
from pannier.memory import can_enforce_limits
from pannier.store.choosing import chosen_rows
from pannier.store.state import State
from pannier.units import show_bytes

# so many trials take turns with one another and with their ceilings; where there are more, it is done piece by piece
AT_ONCE = 8
# what a trial may be seen to take above its limit before it counts as over it: the grain of pages and of watching
SLACK_BYTES = 1 << 20

# how many memory limits are tried to find the smallest that is as fast
LIMITS_TRIED = 3
# by which the setting of a trial is known
_SAME = ("size", "source", "memory_limit_bytes", "batch_size", "workers", "processes")

WAITS = (50, 90, 99, 100)
CEILINGS = {"ceiling": TREATMENT, "reading": READING, "copying": COPYING}


def measure(snapshot: State, treatment: Treatment, split: str | None, options: MeasureOptions) -> Measurement:
    """Measures feeds of all settings, each in a process of its own whose limit the system enforces.

    Trials and ceilings take turns, `rounds` times, each for a slice of `slice_seconds`, so that a machine whose speed drifts
    treats all alike. A trial that does not fit, dies or hangs is a row that says so. Raises UsageError, NotFoundError; on
    Ctrl-C MeasuringInterrupted, which holds what had been measured.
    """
    began, step = time.monotonic(), Step.read(options.step)
    options.grid(treatment)  # what cannot be tried is refused before anything is made
    treatment.check_ready()
    how: dict[str, Any] = {"seed": options.seed, "subset": options.subset, "shuffle": True, "rendered": False}
    job = job_of(snapshot, split, treatment, memory_limit=None, **how)
    if not len(chosen_rows(snapshot, split, options.subset, options.seed)):
        raise PannierError(f"split {split!r} holds no records to measure")
    with ExitStack() as until_done:
        sources = Sources(snapshot, job, until_done)
        grid = options.grid(treatment, can_render=options.source is not None or sources.can_render(options.sizes(treatment)))
        settings = grid.settings()
        choice = Search(settings, step) if options.search else All(settings)
        sweep = _Sweep(sources, grid.workers, step, cold=options.cold)
        until_done.callback(sweep.close)
        found: dict[Setting, Trial] = {}
        interruption: KeyboardInterrupt | None = None
        until = began + SECONDS if options.rounds is None and len(settings) <= AT_ONCE else math.inf
        more = AT_ONCE if options.looks_for_enough else 0
        while not interruption and (some := choice.next(found)[:AT_ONCE]):
            try:
                found |= sweep.tried(some, options, len(found), choice.count + more, until)
            except KeyboardInterrupt as interrupted:
                found, interruption = found | sweep.seen(), interrupted
        if options.looks_for_enough and not interruption and any(trial.rate for trial in found.values()):
            limited = _limited(settings, [*found.values()])
            try:
                found |= sweep.tried(limited, options, len(found), len(found) + more, began + SECONDS)
            except KeyboardInterrupt as interrupted:
                found, interruption = found | sweep.seen(), interrupted
            settings = [*settings, *limited]
        trials = [found[setting] for setting in settings if setting in found]
        ceilings = {name: sweep.ceiling_rows(what) for name, what in CEILINGS.items()}
        told = _told(snapshot, job, options, sources) | {"rounds": sweep.rounds}
        told |= {"interrupted": True} if interruption else {}
        measurement = Measurement(trials=trials, settings=told, machine=machine_facts(), **ceilings)
        if interruption:
            raise MeasuringInterrupted(measurement) from interruption
        return measurement


def _limited(settings: Sequence[Setting], trials: Sequence[Trial]) -> list[Setting]:
    """The best setting again, under the first memory limits above its peak."""
    best = answer_of(trials, {}).best
    setting = next(each for each in settings if all(getattr(best, name) == getattr(each, name) for name in _SAME))
    limits = [limit for limit in USUAL_LIMITS if limit > (best.peak_bytes or 0)][:LIMITS_TRIED]
    return [replace(setting, memory_limit_bytes=limit) for limit in limits]


def _told(snapshot: State, job: FeedJob, options: MeasureOptions, sources: Sources) -> dict[str, Any]:
    """What is the same for all rows."""
    assert job.treatment is not None
    told = {name: getattr(options, name) for name in ("seed", "subset", "step", "cold", "rounds", "slice_seconds")}
    treatment = job.treatment.model_dump(mode="json", exclude={"measured_on"})
    told |= {"is_far": True} if sources.is_far else {}
    told |= {"rendering_bytes": sources.rendering_bytes, "rendering_missing": sources.rendering_missing}
    return {"split": job.split, **told, "records": len(snapshot), "content_id": snapshot.content_id, "treatment": treatment}


class MeasuringInterrupted(KeyboardInterrupt):
    """Ctrl-C while measuring; `found` is what had been measured by then."""

    def __init__(self, found: Measurement) -> None:
        super().__init__()
        self.found = found


class _Try:
    """One setting under trial: its process, and what it has done so far."""

    def __init__(self, setting: Setting, job: dict[str, Any]) -> None:
        self.setting, self.child = setting, Child(job)
        self.ended: TrialEnded | None = None
        self.runs: list[Run] = []
        self.shares: list[Shares] = []

    def wait_until_ready(self) -> None:
        with self._noted():
            self.child.wait_until_ready()

    def run(self, seconds: float, shares: Callable[[Group, int, float], Shares]) -> None:
        """One slice of it; `shares` says what part of each ceiling a rate is."""
        if self.ended is None:
            with self._noted():
                self.child.begin(seconds)
                run = self.child.finish(seconds)
                self.runs.append(run)
                self.shares.append(shares(self.setting.group, self.setting.workers, run.rate))

    @contextlib.contextmanager
    def _noted(self) -> Any:
        try:
            yield
        except TrialEnded as ended:
            self.ended = ended

    def row(self, step: Step | None, medium: str) -> Trial:
        """What came of it."""
        setting, limit = self.setting, self.setting.memory_limit_bytes
        is_enforced = limit is None or (can_enforce_limits() and not setting.processes)
        if self.ended is not None or not self.runs:
            status, reason = (self.ended.status, self.ended.reason) if self.ended else ("died", "it was not run")
            return trial_of(setting, status=status, reason=reason, is_enforced=is_enforced)
        peak = max(0, self.child.peak_bytes)
        seen: dict[str, Any] = {}
        if limit is not None and peak > limit + SLACK_BYTES:
            seen = {"status": "over_limit", "reason": f"it took {show_bytes(peak, up=True)}, which nothing kept it from"}
        waited, seconds = (sum(getattr(run, name) for run in self.runs) for name in ("waited", "seconds"))
        waits = np.concatenate([run.waits for run in self.runs]) * 1000
        dropped = [run.dropped for run in self.runs if run.dropped is not None]
        return trial_of(
            setting,
            pictures_per_second=rate_of([run.rate for run in self.runs]),
            share_of_ceiling=float(np.median([shares.treatment for shares in self.shares])),
            peak_bytes=peak,
            ahead=self.child.ahead,
            is_enforced=is_enforced,
            binds=what_binds(setting, self.runs, self.shares, step, medium=medium),
            starved_share=waited / seconds,
            dropped_share=float(np.median(dropped)) if dropped else None,
            stages=stage_shares(self.runs),
            waits_ms={str(each): float(np.percentile(waits, each)) for each in WAITS},
            samples=[run.rate for run in self.runs],
            **seen,
        )


class _Sweep:
    """All processes of a sweep: trials under way, and the ceilings beside them."""

    def __init__(self, sources: Sources, workers: Sequence[int], step: Step | None, *, cold: bool) -> None:
        self._sources, self._step, self._cold = sources, step, cold
        self._medium = LINK if sources.is_far else DISK if cold else MEMORY
        self._ceilings = Ceilings(partial(sources.bare_job, cold=cold), workers)
        self._tries: list[_Try] = []
        self._rounds = 0

    def _add(self, settings: Sequence[Setting]) -> None:
        """Starts trials of some settings, a few at a time, and the ceilings that they are held against."""
        self._ceilings.need(list(dict.fromkeys(setting.group for setting in settings)))
        for at in range(0, len(settings), cores := usable_cores()):
            started = len(self._tries)
            for setting in settings[at : at + cores]:
                self._tries.append(_Try(setting, self._sources.job(setting, self._step, cold=self._cold)))
            for each in self._tries[started:]:
                each.wait_until_ready()

    def tried(
        self, settings: Sequence[Setting], options: MeasureOptions, before: int, count: int, until: float
    ) -> dict[Setting, Trial]:
        """Rows of some settings; `before` have been tried, of so many in all.

        until: monotonic time after which no round begins beyond the least number.
        """
        self._add(settings)
        rounds = options.rounds or DEFAULT_ROUNDS
        done, total = (rounds * -(-each // AT_ONCE) for each in (before, max(count, before + len(settings))))
        for number in range(rounds):
            if number >= LEAST_ROUNDS and time.monotonic() > until:
                break
            self._one_round(options.slice_seconds)
            if options.progress:
                options.progress(done + number + 1, total)
        return self._take()

    @property
    def rounds(self) -> int:
        """How many there have been in all."""
        return self._rounds

    def _one_round(self, seconds: float) -> None:
        self._ceilings.one_round(seconds, self._rounds)
        self._rounds += 1
        for each in self._tries:
            each.run(seconds, self._ceilings.shares)

    def seen(self) -> dict[Setting, Trial]:
        """Rows of what is under way, as far as it has come."""
        self._tries = [each for each in self._tries if each.runs]
        return self._take()

    def _take(self) -> dict[Setting, Trial]:
        """Ends the trials, and gives their rows."""
        self._end_trials()
        tries, self._tries = self._tries, []
        return {each.setting: each.row(self._step, self._medium) for each in tries}

    def ceiling_rows(self, what: str) -> list[Trial]:
        rates = self._ceilings.rates.items()
        return [
            Trial(workers, None, rate_of(each), 1.0, size=group.size, source=group.source, samples=each)
            for (kind, group, workers), each in rates
            if kind == what
        ]

    def _end_trials(self) -> None:
        for each in self._tries:
            each.child.hang_up()  # so that they end side by side
        for each in self._tries:
            each.child.close()

    def close(self) -> None:
        self._end_trials()
        self._ceilings.close()


def rate_of(rates: Sequence[float]) -> Rate:
    """Their median, 10th and 90th percentile."""
    low, median, high = (float(each) for each in np.percentile(rates, (10, 50, 90)))
    return Rate(median, low, high)
