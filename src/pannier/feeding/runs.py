"""Runs: batches parted into pieces of work, and the queue in which they wait for a thread."""

from __future__ import annotations

import threading
from collections import deque
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from queue import SimpleQueue

from pannier.feeding.lookup import Issued, Item, Lookup


@dataclass(frozen=True, slots=True)
class Run:
    """`items`: those of a batch that are its, or which places of one that is all canvases."""

    batch: Issued
    items: Sequence[Item] | range
    stream: Stream


@dataclass
class Stream:
    """A row of batches under way. The issuer's thread consumes `batches` and counts `issued`; the consumer `collected`.

    `done` gives every batch when it is whole, errors as they come, and (None, None) where the consumer should look again.
    """

    batches: Iterator[Issued]
    lookup: Lookup
    issued: int = 0
    collected: int = 0
    is_cancelled: bool = False
    is_exhausted: bool = False
    done: SimpleQueue[tuple[Issued | None, BaseException | None]] = field(default_factory=SimpleQueue)


class WorkQueue:
    """Runs waiting for a thread, in order of batches, light and heavy ones apart; `permits` of them are worked on at a time.

    So `workers` means what it says although lanes are threads beside them. Where one permit is left, the older batch has it.
    Nobody is woken who has nothing to do: every wake-up asks for the interpreter lock.
    """

    def __init__(self, permits: int, threads: dict[bool, int]) -> None:
        self._waiting: dict[bool, deque[Run]] = {False: deque(), True: deque()}
        self._threads = threads
        self._idle = {False: 0, True: 0}
        self._permits = self._all_permits = permits
        lock = threading.Lock()
        self._work = {False: threading.Condition(lock), True: threading.Condition(lock)}
        self._low = threading.Condition(lock)
        self._is_closed = False

    def put(self, light: list[Run], heavy: list[Run]) -> None:
        with self._low:
            self._waiting[False] += light
            self._waiting[True] += heavy
            self._wake_idle()

    def wait_until_low(self) -> None:
        """Returns when threads of one kind could soon have nothing to do (or the queue is closed).

        Were batches given out sooner, every slot would always be in use in turn, and none still in the processor's cache.
        """
        with self._low:
            while not self._is_closed and not any(map(self._is_low, self._waiting)):
                self._low.wait()

    def _is_low(self, heavy: bool) -> bool:
        return self._threads[heavy] > 0 and len(self._waiting[heavy]) < 2 * self._threads[heavy]

    def take(self, heavy: bool, finished: Run | None) -> Run | None:
        """The next run of that kind; waits for it. `finished` is the one before, whose batch may be whole now.

        None once closed.
        """
        with self._low:
            if finished is not None:
                self._permits += 1
                batch = finished.batch
                batch.left -= len(finished.items)
                if not batch.left:
                    finished.stream.done.put((batch, None))
            self._idle[heavy] += 1
            while not self._is_closed and not self._may_take(heavy):
                self._wake_idle()  # what this thread may not take, another may
                self._work[heavy].wait()
            self._idle[heavy] -= 1
            if self._is_closed:
                return None
            self._permits -= 1
            run = self._waiting[heavy].popleft()
            self._wake_idle()
            threads = self._threads[heavy]
            # of few threads not as soon as it is low: one waking for several batches
            if len(self._waiting[heavy]) < max(threads, 2 * threads - 2):
                self._low.notify()
            return run

    def is_idle(self) -> bool:
        """Whether no run waits and none is under way."""
        with self._low:
            return self._permits == self._all_permits and not any(self._waiting.values())

    def _wake_idle(self) -> None:
        for kind, idle in self._idle.items():
            if idle and self._may_take(kind):
                self._work[kind].notify()

    def _may_take(self, heavy: bool) -> bool:
        own, other = self._waiting[heavy], self._waiting[not heavy]
        if not own or not self._permits:
            return False
        if self._permits > 1 or not other or not self._idle[not heavy]:
            return True
        return own[0].batch.number < other[0].batch.number or (own[0].batch.number == other[0].batch.number and heavy)

    def close(self) -> None:
        with self._low:
            self._is_closed = True
            for condition in (*self._work.values(), self._low):
                condition.notify_all()
