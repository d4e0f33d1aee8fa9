"""One maker for several feeds, which have it by turns; a feed by itself is the only one that has it."""

from __future__ import annotations

import logging
import threading
from collections.abc import Sequence
from dataclasses import replace
from itertools import starmap
from operator import sub
from typing import Any

from pannier.feeding.filling import filling_note
from pannier.feeding.hand import Stages
from pannier.feeding.job import CannotTravel, FeedJob, FeedWork, works_of
from pannier.feeding.making import Made, Maker
from pannier.feeding.plan import Plan
from pannier.feeding.processes import Processes
from pannier.feeding.threads import Threads
from pannier.feeding.warming import load_libraries
from pannier.memory import resident_bytes
from pannier.store.leases import KeptUp, reading
from pannier.store.state import State

_log = logging.getLogger("pannier")


class Shared:
    """The works of some jobs, under one plan, and the maker of their batches, which starts with the first of them.

    Raises LimitError, UsageError, NotFoundError.
    """

    def __init__(self, jobs: Sequence[FeedJob], state: State) -> None:
        self._state, level = state, resident_bytes()
        self.works = works_of(jobs, state)
        # choosing and planning load libraries, too; what they hold of the records is within the limit
        self.library_bytes = max(0, resident_bytes() - level - self.works[0].plan.order_bytes)
        self.notes = [filling_note(self.works)] if self.works[0].job.fills else list[str]()
        self._maker: Maker | None = None
        self._lease: KeptUp | None = None
        self._has_it: Hold | None = None
        self._holders = set(range(len(jobs)))
        self.lock = threading.RLock()

    @property
    def plan(self) -> Plan:
        """Of all of it: what one process works by, or several together."""
        work = self.works[0]
        count = int(work.job.processes)
        return work.plan.of_processes(count, work.job.limit_bytes) if count else work.plan

    def bound(self, limit: int) -> None:
        """Before anything was made: under a lower limit. Raises LimitError, UsageError."""
        own = self.works[0].job.limit_bytes
        if own is None or limit < own:
            self._plan_anew(memory_limit=limit)

    def _plan_anew(self, **said: Any) -> None:
        self.works = works_of([replace(work.job, **said) for work in self.works], self._state)

    @property
    def is_begun(self) -> bool:
        return self._maker is not None

    @property
    def is_of_one(self) -> bool:
        return len(self.works) == 1

    def given_to(self, hold: Hold) -> Maker:
        """The maker, for one of those that share it; what it did for another ends."""
        if self._maker is None:
            self._start()
        assert self._maker is not None
        if self._has_it is not hold:
            if self._has_it is not None:
                self._has_it.put_aside(self._maker)
            self._has_it = hold
            hold.begun_at = self._maker.stages
        return self._maker

    def of(self, hold: Hold) -> Maker | None:
        """The maker, as long as that one has it."""
        return self._maker if self._has_it is hold else None

    def _start(self) -> None:
        held = reading(self._state.storage, [self._state.id])
        if held is not None:
            self._lease = KeptUp(held)
            self._lease.start()
        try:
            self._maker = self._made()
        except BaseException:
            self.end_lease()
            raise

    def _made(self) -> Maker:
        if not self.works[0].job.processes:
            self.load()
            return Threads(self.works)
        try:
            return Processes(self.works)
        except CannotTravel as cannot:
            self._plan_anew(processes=0)
            self.notes.append(f"threads of this process serve: {cannot}")
            _log.warning("%s", self.notes[-1])
            self.load()
            return Threads(self.works)

    def load(self) -> None:
        """Loads libraries, before anything is held against the limit; processes load theirs themselves."""
        if not self.works[0].job.processes:
            self.library_bytes += load_libraries(self.works)

    def end_lease(self, *, waits: bool = True) -> None:
        if self._lease is not None:
            self._lease.end(waits=waits)

    def leave(self, hold: Hold, *, waits: bool) -> None:
        """One of those that share it needs it no more; with the last of them it ends.

        Takes no lock: another thread may have it while it waits for a batch, which then ends.
        """
        self._holders.discard(hold.of)
        maker = self._maker
        if maker is None:
            return
        if not self._holders:
            self._has_it = self._maker = None
            if waits:
                maker.close()
            else:
                maker.abandon()
            self.end_lease(waits=waits)
        elif self._has_it is hold:
            self._has_it = None
            if waits:
                maker.stop()


class Hold:
    """What one feed has of a maker, see `Maker`. While another has it, what was made ahead is given up, and made again."""

    def __init__(self, shared: Shared, of: int) -> None:
        self.shared, self.of = shared, of
        self.begun_at = Stages()
        self._stages = Stages()
        self._buffers = 0
        self.is_under_way = False
        self._next, self._until = (0, 0), 0
        self._end: int | None = None
        self._has_left = False

    @property
    def _work(self) -> FeedWork:
        return self.shared.works[self.of]

    @property
    def stages(self) -> Stages:
        maker = self.shared.of(self)
        return self._stages if maker is None else self._stages + _between(self.begun_at, maker.stages)

    @property
    def buffers(self) -> int:
        maker = self.shared.of(self)
        return self._buffers if maker is None else maker.buffers

    @property
    def lent(self) -> int:
        maker = self.shared.of(self)
        return 0 if maker is None else maker.lent

    @property
    def levels(self) -> dict[int, int]:
        maker = self.shared.of(self)
        return {} if maker is None else maker.levels

    def put_aside(self, maker: Maker) -> None:
        """Another has the maker from now on."""
        maker.stop()
        self._stages += _between(self.begun_at, maker.stages)
        self._buffers = maker.buffers

    def begin(self, epoch: int, until: int, begin: int = 0, end: int | None = None) -> None:
        with self.shared.lock:
            self._next, self._until, self._end = (epoch, begin), until, end
            self.shared.given_to(self).begin(epoch, until, begin, end, of=self.of)
            self.is_under_way = True

    def next(self) -> Made | BaseException | None:
        with self.shared.lock:
            if not self.is_under_way:
                return None
            maker = self.shared.of(self)
            if maker is None:  # another has it
                epoch, number = self._next
                maker = self.shared.given_to(self)
                maker.begin(epoch, self._until, number, self._end, of=self.of)
            made = maker.next()
            if isinstance(made, Made):
                self._next = self._work.course.after(*made.number)
            return made

    def stop(self) -> None:
        with self.shared.lock:
            self.is_under_way = False
            maker = self.shared.of(self)
            if maker is not None:
                maker.stop()

    def close(self) -> None:
        self._leave(waits=True)

    def abandon(self) -> None:
        self._leave(waits=False)

    def _leave(self, *, waits: bool) -> None:
        if not self._has_left:
            self._has_left, self.is_under_way = True, False
            self._stages, self._buffers = self.stages, self.buffers
            self.shared.leave(self, waits=waits)


def _between(earlier: Stages, later: Stages) -> Stages:
    return Stages(*starmap(sub, zip(later, earlier, strict=True)))
