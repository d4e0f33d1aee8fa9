"""The engine: threads that read, check, decode and prepare pictures into batch buffers. Plain data in, plain data out.

The issuer waits for a free slot, looks up where the next batch's pictures lie, and parts it into runs. Workers take runs;
lanes take the records whose decoding is served by an allocator, so that what it keeps is bounded. The consumer collects.
"""

from __future__ import annotations

import logging
import threading
from collections import deque
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field
from queue import Empty, SimpleQueue
from typing import Any

import numpy as np

from pannier.errors import PannierError, PictureError
from pannier.feed.buffers import FreeSlots, Slot
from pannier.feed.lookup import Issued, Item
from pannier.images.chance import Variation
from pannier.images.facts import Facts
from pannier.images.prepare import Preparation
from pannier.images.treatment import Treatment
from pannier.store.canvases import Rendering
from pannier.store.files import Directory
from pannier.store.reading import DEFAULT_OPEN_FILES, PictureReader, Place, ReadError, damage

_log = logging.getLogger("pannier")

STACK_BYTES = 1 << 20
LONGEST_RUN = 8
# how often a waiting consumer looks whether the threads it waits for are alive
LIVENESS_SECONDS = 1.0


@dataclass(frozen=True, slots=True)
class _Run:
    batch: Issued
    items: Sequence[Item]
    stream: Stream


@dataclass
class Stream:
    """A row of batches under way. The issuer's thread consumes `batches` and counts `issued`; the consumer `collected`.

    `key_of` names a record by its row in the manifest, for errors; `find` finds a picture of which only the canvas is known.
    `done` gives every batch when it is whole, errors as they come, and (None, None) where the consumer should look again.
    """

    batches: Iterator[Issued]
    key_of: Callable[[int], str]
    find: Callable[[int], tuple[Place, Facts]]
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
        self._waiting: dict[bool, deque[_Run]] = {False: deque(), True: deque()}
        self._threads = threads
        self._idle = {False: 0, True: 0}
        self._permits = permits
        lock = threading.Lock()
        self._work = {False: threading.Condition(lock), True: threading.Condition(lock)}
        self._low = threading.Condition(lock)
        self._is_closed = False

    def put(self, light: list[_Run], heavy: list[_Run]) -> None:
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

    def take(self, heavy: bool, finished: _Run | None) -> _Run | None:
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
            if self._is_low(heavy):
                self._low.notify()
            return run

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


@dataclass(frozen=True)
class Settings:
    """What the engine's threads need to know; plain data."""

    permits: int
    workers: int
    heavy_lanes: int
    slots: int
    batch_size: int
    light_read_bytes: int
    light_decode_bytes: int
    light_scratch_bytes: int
    to_canvas: bool = False
    rendering: Rendering | None = None


class Engine:
    """Runs streams of batches. `close` ends every thread and may be called twice."""

    def __init__(self, directory: Directory, treatment: Treatment | None, settings: Settings) -> None:
        self._directory, self._treatment, self._settings = directory, treatment, settings
        self.free = FreeSlots()
        self._work = WorkQueue(settings.permits, {False: settings.workers, True: settings.heavy_lanes})
        self._free_at_hand: list[Slot] = []
        self._streams: SimpleQueue[Stream | None] = SimpleQueue()
        self._slot_count = 0
        self._threads: list[threading.Thread] = []
        self._closing = False
        self.is_waiting_for_slot = False
        for _ in range(settings.slots):
            self.add_slot()
        self._start()

    @property
    def slot_count(self) -> int:
        return self._slot_count

    def add_slot(self) -> None:
        """One more buffer, for a consumer that keeps its batches: those are its own memory then."""
        shape = self._treatment.shape if self._treatment else None
        dtype = self._treatment.dtype if self._treatment else "uint8"
        if self._treatment and self._settings.to_canvas:
            shape, dtype = (self._treatment.channels, *self._treatment.frame.canvas), "uint8"
        self._slot_count += 1
        self.free.put(Slot(self._slot_count, self._settings.batch_size, shape, dtype))

    def start(
        self, batches: Iterator[Issued], key_of: Callable[[int], str], find: Callable[[int], tuple[Place, Facts]]
    ) -> Stream:
        stream = Stream(batches, key_of, find)
        self._streams.put(stream)
        return stream

    def _start(self) -> None:
        settings = self._settings
        ready: SimpleQueue[BaseException | None] = SimpleQueue()
        jobs: list[tuple[str, Callable[[], None]]] = [("pannier-issue", self._issue)]
        jobs += [(f"pannier-worker-{i}", lambda: self._work_on(False, ready)) for i in range(settings.workers)]
        jobs += [(f"pannier-lane-{i}", lambda: self._work_on(True, ready)) for i in range(settings.heavy_lanes)]
        before = threading.stack_size(STACK_BYTES)
        try:
            for name, job in jobs:
                thread = threading.Thread(target=job, name=name, daemon=True)
                thread.start()
                self._threads.append(thread)
        finally:
            threading.stack_size(before)
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
                return
            batch.slot, batch.left = slot, len(batch.items)
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
                self._free_at_hand.pop()
            return self._free_at_hand.pop()
        return None

    def _runs(self, batch: Issued, stream: Stream) -> tuple[list[_Run], list[_Run]]:
        light = [item for item in batch.items if not item.is_heavy]
        longest, for_each = LONGEST_RUN, 2
        if light and light[-1].canvas is not None:  # little work: every hand-over counts (bench/prepare.py)
            longest, for_each = 2 * LONGEST_RUN, 1
        length = max(1, min(longest, -(-len(light) // (for_each * max(1, self._settings.workers)))))
        runs = [_Run(batch, light[at : at + length], stream) for at in range(0, len(light), length)]
        return runs, [_Run(batch, [item], stream) for item in batch.items if item.is_heavy]

    def _work_on(self, heavy: bool, ready: SimpleQueue[BaseException | None]) -> None:
        """A worker's or lane's thread."""
        try:
            hand = _Hand(self._directory, self._treatment, self._settings, heavy)
        except BaseException as error:
            ready.put(error)
            return
        ready.put(None)
        finished = None
        try:
            while (run := self._work.take(heavy, finished)) is not None:
                problem = None if run.stream.is_cancelled else hand.work(run)
                if problem is not None:
                    run.stream.done.put((None, problem))
                finished = run
                del run, problem
        finally:
            hand.close()

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
                batch, _ = self.next_done(stream)
            except PannierError:
                return
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
        for thread in self._threads:
            if thread is not threading.current_thread():
                thread.join()
        self._threads.clear()
        self._free_at_hand.clear()
        while not self.free.empty():
            self.free.get()


class _Hand:
    """What one thread works with: a reader, a read buffer, a preparation."""

    def __init__(self, directory: Directory, treatment: Treatment | None, settings: Settings, heavy: bool) -> None:
        threads = max(1, settings.workers + settings.heavy_lanes)
        self._reader = PictureReader(directory, max(4, min(DEFAULT_OPEN_FILES, 512 // threads)))
        self._room = memoryview(bytearray(0 if heavy or treatment is None else settings.light_read_bytes))
        self._preparation = None
        if treatment is not None:
            decode = 0 if heavy else settings.light_decode_bytes
            scratch = 0 if heavy else settings.light_scratch_bytes
            self._preparation = Preparation(treatment, decode_bytes=decode, scratch_bytes=scratch)
        self._to_canvas = settings.to_canvas
        self._canvases: PictureReader | None = None
        if settings.rendering is not None:
            self._canvases = PictureReader(settings.rendering.directory, max(4, min(DEFAULT_OPEN_FILES, 512 // threads)))
            self._canvas = np.empty(settings.rendering.shape, np.uint8)
            assert treatment is not None
            self._is_copied = treatment.is_canvas and treatment.dtype == "uint8" and treatment.layout == "chw"
            self._is_copied = self._is_copied and not treatment.own_at("values")

    def work(self, run: _Run) -> BaseException | None:
        """Prepares a run's pictures into their batch's slot; the error that stopped it, if one did."""
        slot = run.batch.slot
        assert slot is not None
        item, place = None, None
        try:
            for item in run.items:
                at, record, place, facts, variation, box, canvas, _ = item
                if canvas is not None and self._from_canvas(canvas, slot.array[at], variation):
                    continue
                if place is None or facts is None:
                    place, facts = run.stream.find(record)
                if self._preparation is None:
                    slot.items[at] = self._reader.read(place)
                    continue
                data = self._room_for(place.length)
                self._reader.read_into(data, place)
                if self._to_canvas:
                    self._preparation.canvas_into(data, facts, slot.array[at], box)
                else:
                    self._preparation.into(data, facts, slot.array[at], variation, box)
        except (ReadError, PictureError) as error:
            assert item is not None
            assert place is not None
            return damage(place, run.stream.key_of(item.record), _what(error))
        except BaseException as error:
            return error
        return None

    def _from_canvas(self, place: Place, out: np.ndarray[Any, Any], variation: Variation | None) -> bool:
        """Prepares a picture from its rendered canvas; False where that is damaged and the picture has to be decoded."""
        assert self._canvases is not None
        assert self._preparation is not None
        try:
            if self._is_copied and (variation is None or not (variation.flips or variation.program)):
                self._canvases.read_into(memoryview(out.data).cast("B"), place)
                return True
            self._canvases.read_into(memoryview(self._canvas.data).cast("B"), place)
        except ReadError as error:
            _log.warning("a rendered canvas in shard %s %s; its picture is decoded instead", place.shard, error)
            return False
        self._preparation.from_canvas(self._canvas, out, variation)
        return True

    def _room_for(self, byte_count: int) -> memoryview:
        if len(self._room) < byte_count:
            self._room = memoryview(bytearray(byte_count))
        return self._room[:byte_count]

    def close(self) -> None:
        self._reader.close()
        if self._canvases is not None:
            self._canvases.close()


def _what(error: ReadError | PictureError) -> str:
    if isinstance(error, PictureError):
        return f"cannot be decoded: {error.reason}; it was whole when it was packed, so the decoding library differs"
    return str(error)
