"""Batch buffers on loan: a buffer comes back when the last view of it is gone, and not before."""

from __future__ import annotations

import mmap
import weakref
from queue import SimpleQueue

import numpy as np

from pannier.array_types import Array


class Slot:
    """Memory for one batch: an anonymous mapping, which goes back to the system when the last loan of it ends.

    Without a shape it is a list, for encoded bytes.
    """

    def __init__(self, number: int, count: int, shape: tuple[int, ...] | None, dtype: str) -> None:
        self.number = number
        self.shape, self.dtype = shape, np.dtype(dtype)
        self.items: list[bytes] = [b""] * count if shape is None else []
        if shape is not None:
            size = max(1, count * int(np.prod(shape)) * self.dtype.itemsize)
            self._memory = mmap.mmap(-1, size, flags=mmap.MAP_PRIVATE | mmap.MAP_ANONYMOUS)  # so that limits count it
            self.bytes = memoryview(self._memory)
            self.array: Array = np.frombuffer(self._memory, self.dtype, count * int(np.prod(shape))).reshape(count, *shape)


class _Loan:
    """The owner of a lent array. NumPy's views keep it alive; its end, and only that, gives the slot back."""

    def __init__(self, slot: Slot, count: int, free: FreeSlots) -> None:
        self._slot, self._free = slot, free
        self.__array_interface__ = slot.array[:count].__array_interface__


class _Watch(weakref.ref[_Loan]):
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

    def lend(self, slot: Slot, count: int) -> Array:
        """The first `count` arrays of a slot, as one array; the slot comes back when nothing sees that any more."""
        loan = _Loan(slot, count, self)
        watch = _Watch(loan, self._queue.put)
        watch.slot = slot
        self._lent[id(watch)] = watch
        return np.asarray(loan)
