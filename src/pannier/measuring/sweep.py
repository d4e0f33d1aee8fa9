"""A sweep: trials over a grid of workers and limits, interleaved with the machine's own ceiling."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np

from pannier.errors import PannierError, UsageError
from pannier.feeding.job import FeedJob, job_of
from pannier.images.treatment import Treatment
from pannier.machine import usable_cores
from pannier.measuring.process import Child, TrialEnded
from pannier.results import Result
from pannier.store.choosing import chosen_rows
from pannier.store.state import State
from pannier.units import read_limit

Job = dict[str, Any]

DEFAULT_ROUNDS = 12
DEFAULT_SLICE_SECONDS = 0.4


@dataclass(frozen=True, repr=False)
class Rate(Result):
    """Pictures a second: the median of all rounds, and the 10th and 90th percentile."""

    median: float
    low: float
    high: float


@dataclass(frozen=True, repr=False)
class Trial(Result):
    """One measured row. `status`: "ok", "too_small", "timed_out" or "died"; `reason` says why it is not ok.

    `peak_bytes` is the highest working memory seen; `share_of_ceiling` the median over the rounds.
    """

    workers: int
    memory_limit_bytes: int | None
    pictures_per_second: Rate | None = None
    share_of_ceiling: float | None = None
    peak_bytes: int | None = None
    status: str = "ok"
    reason: str = ""


@dataclass(frozen=True, repr=False)
class Measurement(Result):
    """What a sweep found: `ceiling` has a row for each number of workers, as bare processes; `trials` one for each cell."""

    ceiling: list[Trial]
    trials: list[Trial]
    settings: dict[str, Any] = field(default_factory=dict)


SETTINGS = ("split", "batch_size", "seed", "subset")


def measure(
    snapshot: State,
    treatment: Treatment,
    split: str | None = "train",
    *,
    batch_size: int = 32,
    workers: Sequence[int] = (1, 2),
    memory_limit: Sequence[str | int | None] = (None,),
    seed: int = 0,
    subset: str | float | None = None,
    rounds: int = DEFAULT_ROUNDS,
    slice_seconds: float = DEFAULT_SLICE_SECONDS,
    progress: Callable[[int, int], None] | None = None,
) -> Measurement:
    """Measures feeds of every number of workers under every limit, each in a fresh process whose limit the system enforces.

    Trials and ceilings take turns, `rounds` times, each for a slice of `slice_seconds`, so that a machine whose speed drifts
    treats all alike. A trial that does not fit, dies or hangs is a row that says so. Raises UsageError, NotFoundError.
    """
    limits = [_checked_limit(limit) for limit in memory_limit]
    _check(treatment, workers, limits, rounds, slice_seconds)
    how: dict[str, Any] = {"batch_size": batch_size, "seed": seed, "subset": subset, "shuffle": True, "rendered": False}
    job = job_of(snapshot, split, treatment, memory_limit=None, **how)
    if not len(chosen_rows(snapshot, split, subset, seed)):
        raise PannierError(f"split {split!r} holds no records to measure")
    cells = [(count, limit) for count in dict.fromkeys(workers) for limit in dict.fromkeys(limits)]
    sweep = _Sweep(job, cells, list(dict.fromkeys(workers)))
    try:
        sweep.start()
        for done in range(rounds):
            sweep.one_round(slice_seconds)
            if progress:
                progress(done + 1, rounds)
        settings = {name: getattr(job, name) for name in SETTINGS}
        return Measurement(sweep.ceiling_rows(), sweep.trial_rows(), settings)
    finally:
        sweep.close()


def _check(
    treatment: Treatment, workers: Sequence[int], limits: Sequence[int | None], rounds: int, slice_seconds: float
) -> None:
    if not workers or any(type(count) is not int or count < 1 for count in workers):
        raise UsageError(f"workers = {list(workers)}: must be whole numbers of 1 or more")
    if not limits:
        raise UsageError("no memory limit is given: give sizes, or none for unlimited")
    if type(rounds) is not int or rounds < 1 or not slice_seconds > 0:
        raise UsageError("rounds must be 1 or more, and slice_seconds more than 0")
    treatment.check_ready()
    if treatment.own:
        what = "own steps are functions of this process; trials run in others and do not have them"
        raise UsageError(f"{what}: measure without")


def _checked_limit(limit: str | int | None) -> int | None:
    read = read_limit(limit)
    if isinstance(read, str):
        raise UsageError("a measurement needs memory limits in bytes, or none for unlimited; not auto")
    return read


class _Sweep:
    """All children of a sweep, and what they have done so far."""

    def __init__(self, job: FeedJob, cells: list[tuple[int, int | None]], worker_counts: list[int]) -> None:
        self._cells, self._worker_counts = cells, worker_counts
        trials = (replace(job, workers=count, memory_limit=limit) for count, limit in cells)
        self._jobs: list[Job] = [{"kind": "feed", "feed": trial.to_plain()} for trial in trials]
        plain = job.to_plain()
        self._bare_jobs: list[Job] = [{"kind": "bare", "feed": plain, "part": n} for n in range(max(worker_counts))]
        self._trials: list[Child | TrialEnded] = []
        self._bare: list[Child] = []
        self._starting: list[Child] = []
        self._rates: list[list[float]] = [[] for _ in cells]
        self._ceilings: dict[int, list[float]] = {count: [] for count in worker_counts}

    def start(self) -> None:
        """The first child compiles what is not compiled yet; the others follow, a few at a time."""
        self._bare = [self._ready_bare(Child(self._bare_jobs[0]))]
        jobs = [*self._bare_jobs[1:], *self._jobs]
        for at in range(0, len(jobs), cores := usable_cores()):
            group = [(job, Child(job)) for job in jobs[at : at + cores]]
            self._starting = [child for _, child in group]
            for job, child in group:
                if job["kind"] == "bare":
                    self._bare.append(self._ready_bare(child))
                    continue
                try:
                    child.wait_until_ready()
                    self._trials.append(child)
                except TrialEnded as error:
                    self._trials.append(error)

    def _ready_bare(self, child: Child) -> Child:
        try:
            child.wait_until_ready()
        except TrialEnded as error:
            raise PannierError(f"the machine's ceiling cannot be measured: {error.reason}") from error
        return child

    def one_round(self, seconds: float) -> None:
        for count in self._worker_counts:
            self._ceilings[count].append(self._run_bare(count, seconds))
        for i, trial in enumerate(self._trials):
            if isinstance(trial, Child):
                try:
                    trial.begin(seconds)
                    self._rates[i].append(trial.finish(seconds))
                except TrialEnded as error:
                    self._trials[i] = error

    def _run_bare(self, count: int, seconds: float) -> float:
        try:
            for child in self._bare[:count]:
                child.begin(seconds)
            return sum(child.finish(seconds) for child in self._bare[:count])
        except TrialEnded as error:
            raise PannierError(f"the machine's ceiling cannot be measured: {error.reason}") from error

    def ceiling_rows(self) -> list[Trial]:
        return [Trial(count, None, _rate(rates), 1.0) for count, rates in self._ceilings.items()]

    def trial_rows(self) -> list[Trial]:
        rows = []
        for (count, limit), trial, rates in zip(self._cells, self._trials, self._rates, strict=True):
            if isinstance(trial, TrialEnded):
                rows.append(Trial(count, limit, status=trial.status, reason=trial.reason))
                continue
            shares = np.array(rates) / np.array(self._ceilings[count][: len(rates)])
            rows.append(Trial(count, limit, _rate(rates), float(np.median(shares)), max(0, trial.peak_bytes)))
        return rows

    def close(self) -> None:
        for child in [*self._starting, *self._bare, *self._trials]:
            if isinstance(child, Child):
                child.close()


def _rate(rates: Sequence[float]) -> Rate:
    low, median, high = (float(each) for each in np.percentile(rates, (10, 50, 90)))
    return Rate(median, low, high)
