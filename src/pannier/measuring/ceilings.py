"""Ceilings: what the machine does on the same work with no pipeline around it, in bare processes."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Collection, Sequence
from functools import partial
from typing import Any

from pannier.errors import PannierError
from pannier.machine import usable_cores
from pannier.measuring.binding import Shares
from pannier.measuring.process import Child, TrialEnded
from pannier.measuring.settings import Group

Job = dict[str, Any]

TREATMENT, READING, COPYING = "treatment", "reading", "copying"
# reading and copying alone are measured so often, the treatment in every round
EVERY = 3


class Ceilings:
    """The bare processes of some groups of settings, one for each worker, and the rates that they had, round by round."""

    def __init__(self, job_of: Callable[[Group], Job], workers: Sequence[int]) -> None:
        self._job_of, self._workers = job_of, workers
        self._children: dict[Group, list[Child]] = {}
        self.rates: dict[tuple[str, Group, int], list[float]] = defaultdict(list)

    def need(self, groups: Collection[Group]) -> None:
        """Starts those that are needed and not there, and ends the others."""
        for group in [each for each in self._children if each not in groups]:
            for child in self._children.pop(group):
                child.close()
        for group in groups:
            if group not in self._children:
                self._start(group)

    def _start(self, group: Group) -> None:
        """The first compiles what is not compiled yet; the others follow, a few at a time."""
        kept, count, at_once = self._children.setdefault(group, []), max(self._workers), 1
        while len(kept) < count:
            some = [Child(self._job_of(group) | {"part": n}) for n in range(len(kept), count)[:at_once]]
            kept += some
            for child in some:
                with_reason(child.wait_until_ready)
            at_once = usable_cores()

    def one_round(self, seconds: float, number: int) -> None:
        """Runs all of them in turn."""
        for group, children in self._children.items():
            for count in self._workers:
                self.rates[TREATMENT, group, count].append(self._run(children[:count], seconds, TREATMENT))
            if number % EVERY == 0 or (READING, group, len(children)) not in self.rates:
                for what in (READING, COPYING):
                    self.rates[what, group, len(children)].append(self._run(children, seconds / 2, what))

    def shares(self, group: Group, workers: int, rate: float) -> Shares:
        """What part of each ceiling a rate is, as they were in the last round."""
        most = len(self._children[group])
        of = ((TREATMENT, workers), (READING, most), (COPYING, most))
        return Shares(*(rate / self.rates[what, group, count][-1] for what, count in of))

    def _run(self, children: Sequence[Child], seconds: float, what: str) -> float:
        for child in children:
            with_reason(partial(child.begin, seconds, what=what))
        return sum(float(with_reason(partial(child.finish, seconds)).rate) for child in children)

    def close(self) -> None:
        self.need(())


def with_reason(work: Callable[[], Any]) -> Any:
    """Does it. Raises PannierError, which says why there is no ceiling."""
    try:
        return work()
    except TrialEnded as error:
        raise PannierError(f"the machine's ceiling cannot be measured: {error.reason}") from error
