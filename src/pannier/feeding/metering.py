"""How a feed does: what it gave, how long that took, what took the time, what it holds."""

from __future__ import annotations

import logging
import time
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any, Protocol

from pannier import memory
from pannier.feeding.hand import Stages
from pannier.results import Result
from pannier.units import show_bytes

# how often it looks how much memory is held
LOOK_SECONDS, LEAST_LOOK_SECONDS = 1.0, 0.1
# threads that stand still for so much of their time, while the consumer waits, are held up by its own code
STALLED, WAITING = 0.3, 0.2

STAGES = {
    "read": "reading and checking",
    "decode": "decoding",
    "prepare": "geometry and values",
    "hand_over": "handing over",
}

_log = logging.getLogger("pannier")


@dataclass(frozen=True, repr=False)
class Meter(Result):
    """How a feed has done so far. `waiting_share` is the part of the time that the consumer waited for batches.

    stages: of the work, the part that reading and checking ("read"), decoding ("decode"), geometry, light and values
    ("prepare") and all between them ("hand_over") have taken. stalled_share: the part of its time at work in which a thread
    did not compute: it waited for the interpreter lock, a processor or the disk. processes: that work for it, 0 for threads.
    working_memory_bytes: what is planned, with batches that the consumer keeps; memory_bytes and peak_memory_bytes: what
    this process and the feed's own hold above what they held when it began, now and at most, looked at every second.
    buffers_out: batches that the consumer still sees, whose memory waits for it. Compiling kernels comes before all of this.
    """

    pictures: int
    batches: int
    seconds: float
    waiting_share: float
    working_memory_bytes: int
    processes: int
    stages: dict[str, float]
    stalled_share: float
    memory_bytes: int
    peak_memory_bytes: int
    buffers_out: int

    @property
    def pictures_per_second(self) -> float:
        return self.pictures / self.seconds if self.seconds else 0.0

    @property
    def advice(self) -> str:
        """What would help, if anything, with the figure that says so."""
        if self.processes or self.stalled_share < STALLED or self.waiting_share < WAITING:
            return ""
        return (
            f"for {self.stalled_share:.0%} of their time threads waited for the interpreter lock, a processor or the disk: "
            "where that is your own code, a process of its own (`processes=1`) works beside it"
        )

    @property
    def in_words(self) -> str:
        """One line."""
        rate = f"{self.pictures:,} pictures in {self.seconds:.0f} s, {self.pictures_per_second:,.0f} a second"
        shares = ", ".join(f"{STAGES[name]} {share:.0%}" for name, share in self.stages.items())
        held = f"{show_bytes(self.memory_bytes)}, at most {show_bytes(self.peak_memory_bytes)}"
        return f"{rate}; waited for {self.waiting_share:.0%} of the time; {held}; {shares}"

    def to_dict(self) -> dict[str, Any]:
        """Plain data for JSON."""
        names = ("pictures", "batches", "seconds", "pictures_per_second", "waiting_share", "stages", "stalled_share")
        return {name: getattr(self, name) for name in names}


class Metered(Protocol):
    """What a feed tells its count."""

    @property
    def engines(self) -> Mapping[int, int]: ...

    @property
    def meter(self) -> Meter: ...


class Count:
    """What a feed counts while a loop runs. `log_every`: seconds after which a line goes to the log, None for none."""

    def __init__(self, what: str, log_every: float | None) -> None:
        self._what, self._log_every = what, log_every
        self._pictures = self._batches = 0
        self._seconds = self._waited = 0.0
        self._since: float | None = None
        self._level: int | None = None
        self._now = self._peak = 0
        self._looked = self._logged = 0.0

    @property
    def is_running(self) -> bool:
        return self._since is not None

    def take_level(self) -> None:
        """What this process holds before the feed begins."""
        if self._level is None:
            self._level = memory.private_bytes()

    def begin(self) -> None:
        self._since = time.perf_counter()
        self._logged = self._logged or self._since

    def end(self) -> None:
        self._pass()
        self._since = None

    def gave(self, pictures: int, waited: float) -> None:
        self._pictures += pictures
        self._batches += 1
        self._waited += waited

    def _pass(self) -> float:
        now = time.perf_counter()
        if self._since is not None:
            self._seconds += now - self._since
            self._since = now
        return now

    def tick(self, feed: Metered) -> None:
        """Between two batches."""
        now = self._pass()
        if now - self._looked >= LOOK_SECONDS:
            self._looked = now
            self._look(feed.engines)
        if self._log_every is not None and now - self._logged >= self._log_every:
            self._logged = now
            _log.info("feed of %s: %s", self._what, feed.meter.in_words)

    def _look(self, engines: Mapping[int, int]) -> None:
        if self._level is not None:
            self._now = max(0, memory.private_bytes() - self._level + memory.bytes_above(engines))
            self._peak = max(self._peak, self._now)

    def read(self, working_bytes: int, lent: int, processes: int, engines: Mapping[int, int], taken: Stages) -> Meter:
        """All of it, now."""
        now = self._pass()
        if now - self._looked >= LEAST_LOOK_SECONDS:
            self._looked = now
            self._look(engines)
        waiting = self._waited / self._seconds if self._seconds else 0.0
        parts = taken.of_work()
        stages = {name: each / sum(parts.values()) for name, each in parts.items()} if any(parts.values()) else {}
        stalled = taken.stalled / taken.whole if taken.whole else 0.0
        given = (self._pictures, self._batches, self._seconds, waiting)
        return Meter(*given, working_bytes, processes, stages, stalled, self._now, self._peak, lent)
