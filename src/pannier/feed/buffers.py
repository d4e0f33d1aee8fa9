"""Batch buffers on loan: a buffer comes back when the last view of it is gone, and not before."""

from __future__ import annotations

import mmap
import weakref
from queue import SimpleQueue
from typing import Any

import numpy as np

Array = np.ndarray[Any, Any]


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
            self.array: Array = np.frombuffer(self._memory, self.dtype, count * int(np.prod(shape))).reshape(count, *shape)


class _Loan:
    """The owner of a lent array. NumPy's views keep it alive; its end, and only that, gives the slot back."""

    def __init__(self, slot: Slot, count: int) -> None:
        self._slot = slot
        self.__array_interface__ = slot.array[:count].__array_interface__


def lend(slot: Slot, count: int, returned: SimpleQueue[Slot | None]) -> Array:
    """The first `count` arrays of a slot, as one that puts the slot into `returned` when nothing sees it any more.

    The finalizer does nothing but that put: it may run in any thread at any moment, and a lock could deadlock there.
    """
    loan = _Loan(slot, count)
    weakref.finalize(loan, returned.put, slot).atexit = False
    return np.asarray(loan)
