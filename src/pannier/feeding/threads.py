"""The engine in this process: its batches collected in order."""

from __future__ import annotations

import time
from collections.abc import Iterator, Sequence
from typing import Any

from pannier.errors import PannierError
from pannier.feeding.buffers import Shelf, Slot
from pannier.feeding.engine import Engine
from pannier.feeding.hand import Stages
from pannier.feeding.job import FeedWork
from pannier.feeding.lookup import Issued
from pannier.feeding.making import Made
from pannier.feeding.runs import Stream


class Threads:
    """See `Maker`. With a `shelf` the buffers are another's, who adds more where the consumer keeps all of them."""

    def __init__(self, works: Sequence[FeedWork], shelf: Shelf | None = None) -> None:
        self.engine = Engine(works, shelf or own_shelf(works[0]))
        self._works = works
        self._adds_slots = shelf is None
        self._stream: Stream | None = None
        self._numbers: Iterator[tuple[int, int]] = iter(())
        self._ready: dict[tuple[int, int], Issued] = {}

    @property
    def is_under_way(self) -> bool:
        return self._stream is not None

    @property
    def levels(self) -> dict[int, int]:
        return {}

    @property
    def stages(self) -> Stages:
        return self.engine.stages

    @property
    def buffers(self) -> int:
        return self.engine.slot_count

    @property
    def lent(self) -> int:
        return self.engine.free.lent

    def begin(self, epoch: int, until: int, begin: int = 0, end: int | None = None, of: int = 0) -> None:
        self.stop()
        parts = self._works[of].course.numbers(epoch, until, begin, end)
        self._numbers = ((each, number) for each, numbers in parts for number in numbers)
        self._stream = self.engine.start(epoch, until, begin, end, of)

    def next(self) -> Made | BaseException | None:
        collected = self.collect()
        if collected is None or isinstance(collected, BaseException):
            return collected
        issued, slot = collected
        return Made(issued.number, issued.rows, issued.labels, self._images(slot, len(issued.rows)))

    def collect(self) -> tuple[Issued, Slot] | BaseException | None:
        """The next batch in order, when it is whole, and its buffer, which is the caller's now. None at the end."""
        stream, number = self._stream, next(self._numbers, None)
        if stream is None or number is None:
            return None
        while (whole := self._ready.pop(number, None)) is None:
            if stream.is_cancelled:
                return None
            if self._adds_slots:
                self._add_slot_if_all_are_kept(stream)
            try:
                batch, error = self.engine.next_done(stream)
            except PannierError as died:
                return died
            if error is not None:
                return error
            if batch is not None:
                stream.collected += 1
                self._ready[batch.number] = batch
        assert whole.slot is not None
        slot, whole.slot = whole.slot, None
        return whole, slot

    def _images(self, slot: Slot, count: int) -> Any:
        if slot.shape is not None:
            return self.engine.free.lend(slot, count)
        images = slot.items[:count]
        slot.items[:] = [b""] * len(slot.items)
        self.engine.free.put(slot)
        return images

    def _add_slot_if_all_are_kept(self, stream: Stream) -> None:
        """A consumer that keeps every batch would wait for ever: then it gets one more buffer, which it keeps too."""
        engine = self.engine
        for _ in range(3):
            is_out = stream.collected == stream.issued and engine.is_waiting_for_slot
            if not (is_out and engine.free.empty() and stream.done.empty()):
                return
            time.sleep(0.001)
        engine.add_slot()

    def interrupt(self) -> None:
        """Lets `collect`, in another thread, end soon."""
        stream = self._stream
        if stream is not None:
            stream.is_cancelled = True
            stream.done.put((None, None))

    def stop(self) -> None:
        stream, self._stream = self._stream, None
        if stream is not None:
            for batch in self._ready.values():
                if batch.slot is not None:
                    self.engine.free.put(batch.slot)
                    batch.slot = None
            self._ready = {}
            self.engine.cancel(stream)

    def close(self) -> None:
        stream, self._stream = self._stream, None
        if stream is not None:
            stream.is_cancelled = True
        self.engine.close()
        self._ready = {}

    def abandon(self) -> None:
        self.engine.abandon()


def own_shelf(work: FeedWork) -> Shelf:
    """Buffers in this process's own memory."""
    return Shelf(work.settings.batch_size, *work.array_kind)
