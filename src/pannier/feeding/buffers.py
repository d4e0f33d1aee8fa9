"""Batch buffers on loan: a buffer comes back when the last view of it is gone, and not before."""

from __future__ import annotations

import mmap
import weakref
from queue import SimpleQueue

import numpy as np

from pannier.array_types import Array


class Slot:
    """Memory for one batch: a mapping, which goes back to the system when the last loan of it ends.

    Without a shape it is a list, for encoded bytes.
    """

    def __init__(
        self, number: int, count: int, shape: tuple[int, ...] | None, dtype: str, memory: memoryview | None
    ) -> None:
        self.number = number
        self.shape = shape
        self.items: list[bytes] = [b""] * count if shape is None else []
        if shape is not None and memory is not None:
            self.bytes = memory
            self.array: Array = np.frombuffer(memory, dtype, count * int(np.prod(shape))).reshape(count, *shape)


class Shelf:
    """Makes slots, and takes those back that are not needed any more: in memory of this process alone."""

    def __init__(self, count: int, shape: tuple[int, ...] | None, dtype: str) -> None:
        self.count, self.shape, self.dtype = count, shape, dtype
        self.slot_bytes = 0 if shape is None else max(1, count * int(np.prod(shape)) * np.dtype(dtype).itemsize)

    def make(self, number: int) -> Slot:
        """The slot of that number, from 0 on."""
        return Slot(number, self.count, self.shape, self.dtype, self._memory(number) if self.shape is not None else None)

    def drop(self, slot: Slot) -> None:
        """Its memory goes back when nothing sees it any more."""

    def _memory(self, number: int) -> memoryview:
        flags = mmap.MAP_PRIVATE | mmap.MAP_ANONYMOUS  # so that limits count it
        return memoryview(mmap.mmap(-1, self.slot_bytes, flags=flags))


class Loan:
    """The owner of a lent array. NumPy's views keep it alive; its end, and only that, gives the slot back.

    `keeps`: what has to live as long.
    """

    def __init__(self, slot: Slot, count: int, keeps: object) -> None:
        self._slot, self._keeps = slot, keeps
        self.__array_interface__ = slot.array[:count].__array_interface__


class _Watch(weakref.ref[Loan]):
    """Sees the end of a loan, and knows its slot."""

    __slots__ = ("slot",)
    slot: Slot


class FreeSlots:
    """Slots that nobody uses, as they come back; None among them wakes a waiting reader. Safe between threads.

    A loan's end is told by a call into C alone, which may happen in any thread at any moment: a lock could deadlock there,
    and Python code could be cut short by Ctrl-C, so that the interruption was swallowed and the slot lost.
    """

    def __init__(self) -> None:
        self._queue: SimpleQueue[Slot | _Watch | None] = SimpleQueue()
        self._lent: dict[int, _Watch] = {}

    def put(self, slot: Slot | None) -> None:
        self._queue.put(slot)

    def get(self) -> Slot | None:
        """The next slot; waits for one."""
        item = self._queue.get()
        if isinstance(item, _Watch):
            self._lent.pop(id(item), None)
            return item.slot
        return item

    def empty(self) -> bool:
        return self._queue.empty()

    @property
    def lent(self) -> int:
        """How many are seen outside."""
        return sum(watch() is not None for watch in [*self._lent.values()])

    def lend(self, slot: Slot, count: int) -> Array:
        """The first `count` arrays of a slot, as one array; the slot comes back when nothing sees that any more."""
        loan = Loan(slot, count, self)
        watch = _Watch(loan, self._queue.put)
        watch.slot = slot
        self._lent[id(watch)] = watch
        return np.asarray(loan)
