"""The engine: threads that read, check, decode and prepare pictures into batch buffers. Plain data in, plain data out.

The issuer waits for a free slot, looks up where the next batch's pictures lie, and parts it into runs. Workers take runs;
lanes take the records whose decoding is served by an allocator, so that what it keeps is bounded. The consumer collects.
"""

from __future__ import annotations

import logging
import threading
import time
from collections.abc import Callable, Sequence
from itertools import count
from queue import Empty, SimpleQueue

from pannier.errors import PannierError
from pannier.feeding.buffers import FreeSlots, Shelf, Slot
from pannier.feeding.fetching import fetcher_of
from pannier.feeding.filling import Filling
from pannier.feeding.hand import Hand, Stages
from pannier.feeding.job import FeedWork
from pannier.feeding.lookup import Issued, Item, Lookup
from pannier.feeding.runs import Run, Stream, WorkQueue

LONGEST_RUN = 8
# where there is little work, every hand-over counts (bench/prepare.py): of canvases that are prepared, of tiny pictures, and
# of canvases that are copied as they are, which workers take by whole batches
LONGEST_OF_CANVASES, LONGEST_OF_TINY, LONGEST_COPIED = 16, 32, 64
# how often a waiting consumer looks whether the threads it waits for are alive
LIVENESS_SECONDS = 1.0
# how long a feed that is closed waits for own steps, which nobody can end
OWN_STEP_SECONDS = 2.0

_log = logging.getLogger("pannier")


class Engine:
    """Runs streams of batches, of works under one plan. `close` ends every thread, but one in an own step; twice is well."""

    def __init__(self, works: Sequence[FeedWork], shelf: Shelf) -> None:
        self._works, self._settings = works, works[0].settings
        self._shelf, self._slot_numbers = shelf, count()
        self.filling = Filling(works) if works[0].job.fills else None
        self._lookups = [Lookup(work) for work in works]
        settings = self._settings
        self._fetcher = fetcher_of(works, settings.fetched_bytes)
        self.free = FreeSlots()
        self._work = WorkQueue(settings.permits, {False: settings.workers, True: settings.heavy_lanes})
        self._free_at_hand: list[Slot] = []
        self._streams: SimpleQueue[Stream | None] = SimpleQueue()
        self._slot_count = 0
        self._threads: list[threading.Thread] = []
        self._hands: list[Hand] = []
        self._closing = False
        self.is_waiting_for_slot = False
        for _ in range(settings.slots):
            self.add_slot()
        self._start()

    @property
    def slot_count(self) -> int:
        return self._slot_count

    @property
    def stages(self) -> Stages:
        """What each stage has taken in all threads."""
        return sum([hand.stages for hand in self._hands], Stages())

    def add_slot(self) -> None:
        """One more buffer, for a consumer that keeps its batches: those are its own memory then."""
        self._slot_count += 1
        self.free.put(self._shelf.make(next(self._slot_numbers)))

    def start(self, epoch: int, until: int, begin: int = 0, end: int | None = None, of: int = 0) -> Stream:
        """A stream of the batches of some epochs of one of its works; see `Lookup.batches`."""
        lookup = self._lookups[of]
        batches = lookup.batches(epoch, until, begin, end)
        stream = Stream(batches if self._fetcher is None else self._fetcher.ahead(batches), lookup)
        self._streams.put(stream)
        return stream

    def _start(self) -> None:
        settings = self._settings
        for work in self._works:
            work.compile_kernels()  # before the first batch is asked for, so that no rate counts it
        ready: SimpleQueue[BaseException | None] = SimpleQueue()
        jobs: list[tuple[str, Callable[[], None]]] = [("pannier-issue", self._issue)]
        jobs += [(f"pannier-worker-{i}", lambda: self._work_on(False, ready)) for i in range(settings.workers)]
        jobs += [(f"pannier-lane-{i}", lambda: self._work_on(True, ready)) for i in range(settings.heavy_lanes)]
        for name, job in jobs:
            thread = threading.Thread(target=job, name=name, daemon=True)
            thread.start()
            self._threads.append(thread)
        problems = [ready.get() for _ in range(settings.workers + settings.heavy_lanes)]
        problem = next((each for each in problems if each is not None), None)
        if problem is not None:
            self.close()
            raise problem

    def _issue(self) -> None:
        """The issuer's thread: slot by slot, batch by batch, stream by stream."""
        while (stream := self._streams.get()) is not None:
            try:
                self._issue_stream(stream)
            except BaseException as error:
                stream.done.put((None, error))
            stream.is_exhausted = True
            stream.done.put((None, None))

    def _issue_stream(self, stream: Stream) -> None:
        for batch in stream.batches:
            self._work.wait_until_low()
            slot = self._next_slot(stream)
            if slot is None:
                if self._fetcher is not None:
                    self._fetcher.release(batch, batch.items)
                return
            batch.slot, batch.left = slot, len(batch.rows)
            stream.issued += 1
            light, heavy = self._runs(batch, stream)
            self._work.put(light, heavy)

    def _next_slot(self, stream: Stream) -> Slot | None:
        """The slot that came back last, whose memory is the likeliest to be in the processor's cache; waits for one."""
        while not stream.is_cancelled and not self._closing:
            while not self.free.empty() or not self._free_at_hand:
                if self.free.empty():
                    self.is_waiting_for_slot = True
                    stream.done.put((None, None))  # lets the consumer look whether it keeps all slots itself
                slot = self.free.get()
                self.is_waiting_for_slot = False
                if slot is not None:
                    self._free_at_hand.append(slot)
                elif stream.is_cancelled or self._closing:
                    return None
            if self._slot_count > self._settings.slots and len(self._free_at_hand) > 1:
                self._slot_count -= 1  # more than planned, since the consumer had kept some: one of them is not needed now
                self._shelf.drop(self._free_at_hand.pop())
            return self._free_at_hand.pop()
        return None

    def _runs(self, batch: Issued, stream: Stream) -> tuple[list[Run], list[Run]]:
        light: Sequence[Item] | range = range(len(batch.rows))
        length = LONGEST_COPIED
        if batch.canvases is None:
            light = [item for item in batch.items if not item.is_heavy]
            longest, for_each = LONGEST_RUN, 2
            if self._settings.is_tiny:
                longest, for_each = LONGEST_OF_TINY, 1
            elif light and light[-1].canvas is not None:
                longest, for_each = LONGEST_OF_CANVASES, 1
            length = max(1, min(longest, -(-len(light) // (for_each * max(1, self._settings.workers)))))
        runs = [Run(batch, light[at : at + length], stream) for at in range(0, len(light), length)]
        return runs, [Run(batch, [item], stream) for item in batch.items if item.is_heavy]

    def _work_on(self, heavy: bool, ready: SimpleQueue[BaseException | None]) -> None:
        """A worker's or lane's thread."""
        try:
            hand = Hand(self._works, heavy, self.filling, self._fetcher)
        except BaseException as error:
            ready.put(error)
            return
        self._hands.append(hand)
        ready.put(None)
        finished = None
        try:
            while (run := self._work.take(heavy, finished)) is not None:
                problem = None if run.stream.is_cancelled else hand.work(run)
                if self._fetcher is not None:
                    self._fetcher.release(run.batch, run.items)
                if problem is not None:
                    run.stream.done.put((None, problem))
                finished = run
                del run, problem
        finally:
            hand.close()
            if self.filling is not None:
                self.filling.close()

    def next_done(self, stream: Stream) -> tuple[Issued | None, BaseException | None]:
        """What `stream.done` gives next. Raises PannierError where a thread has died without a word, and once closed."""
        while True:
            try:
                return stream.done.get(timeout=LIVENESS_SECONDS)
            except Empty:
                if self._closing or not all(thread.is_alive() for thread in self._threads):
                    raise PannierError(
                        "a thread of the feed has died, perhaps for want of memory; open a new feed"
                    ) from None

    def cancel(self, stream: Stream) -> None:
        """Ends a stream: nothing of it is under way any more when this returns, and its slots are free.

        Once the engine is closing it waits for nothing: its threads may be gone, as when the interpreter ends.
        """
        stream.is_cancelled = True
        self.free.put(None)
        while not self._closing and (not stream.is_exhausted or stream.collected < stream.issued):
            try:
                batch, _ = stream.done.get(timeout=LIVENESS_SECONDS)
            except Empty:  # Ctrl-C may have come between taking a batch and counting it
                if not all(thread.is_alive() for thread in self._threads) or (stream.is_exhausted and self._work.is_idle()):
                    return
                continue
            if batch is not None:
                stream.collected += 1
                if batch.slot is not None:
                    self.free.put(batch.slot)
                    batch.slot = None

    def abandon(self) -> None:
        """Tells every thread to end, and waits for none: a finalizer may run in one of them."""
        self._closing = True
        self._streams.put(None)
        self.free.put(None)
        self._work.close()

    def close(self) -> None:
        self.abandon()
        treatment = self._works[0].job.treatment
        until = time.monotonic() + OWN_STEP_SECONDS if treatment is not None and treatment.own else None
        others = [thread for thread in self._threads if thread is not threading.current_thread()]
        for thread in others:
            thread.join(None if until is None else max(0.0, until - time.monotonic()))
        if any(thread.is_alive() for thread in others):
            _log.warning("an own step is still at work; its thread ends with it, and the process waits for neither")
        self._threads.clear()
        self._free_at_hand.clear()
        if self._fetcher is not None:
            self._fetcher.close()
        while not self.free.empty():
            self.free.get()
