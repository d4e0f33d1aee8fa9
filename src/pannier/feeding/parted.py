"""Feeds of parts of a snapshot's records, each by another worker of an executor."""

from __future__ import annotations

import importlib
from collections.abc import Iterator
from dataclasses import dataclass, replace

from pannier.errors import UsageError
from pannier.executors import for_workers, runs_of
from pannier.feeding.feed import Feed
from pannier.feeding.job import CannotTravel, FeedJob, own_modules
from pannier.store.choosing import chosen_rows
from pannier.store.state import State

# a part is some seconds of work
MOST_RECORDS = 2_000


@dataclass(frozen=True)
class Part:
    """A feed of some records as plain data, and the modules that its own steps are in."""

    job: FeedJob
    modules: list[str]

    def opened(self) -> tuple[State, Feed]:
        """The snapshot and the feed, where the work is done. Raises NotFoundError, LimitError."""
        for name in self.modules:
            importlib.import_module(name)
        state = self.job.open()
        return state, Feed(self.job, state)


def parts_of(state: State, job: FeedJob) -> Iterator[tuple[Part, int]]:
    """What a job feeds in parts, in the order of records, each with how many it has; one thread each, unless more are said.

    Raises UsageError where nobody else could do it.
    """
    job = replace(job, address=for_workers(job.address))
    assert job.treatment is not None
    try:
        modules = own_modules(job.treatment)
    except CannotTravel as cannot:
        raise UsageError(f"workers of an executor cannot do it: {cannot}") from None
    rows = chosen_rows(state, job.split, None, job.seed) if job.rows is None else job.rows
    for run in runs_of(len(rows), MOST_RECORDS):
        own = replace(job, rows=rows[run.start : run.stop], split=None, workers=job.workers or 1)
        yield Part(own, modules), len(run)
