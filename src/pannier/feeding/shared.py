"""Batch buffers in memory that two processes map: one file without a name, which is gone with the last that holds it."""

from __future__ import annotations

import ctypes
import mmap
import os
import weakref
from collections.abc import Callable, Container
from functools import partial

import numpy as np

from pannier.array_types import Array
from pannier.feeding.buffers import Loan, Shelf, Slot

_ROW, _LABEL = np.dtype(np.int64), np.dtype(np.int32)


class SharedShelf(Shelf):
    """Slots of a file in memory, each with the rows and class numbers of its batch behind its pictures.

    One process makes the file (`create`), the other is given its descriptor. Slots are mapped in pieces, of `planned` slots
    first, then as many as there are already: a mapping holds a descriptor. `slots` are those that were made, by number;
    `dropped` hears of each that goes.
    """

    def __init__(
        self,
        planned: int,
        count: int,
        kind: tuple[tuple[int, ...], str],
        file: int,
        dropped: Callable[[int], None] | None = None,
    ) -> None:
        super().__init__(count, *kind)
        self.planned, self.file, self._dropped = planned, file, dropped
        self.slots: dict[int, Slot] = {}
        self.gone = 0
        self._pieces: dict[int, mmap.mmap] = {}
        self._rows_at = -(-self.slot_bytes // _ROW.itemsize) * _ROW.itemsize
        whole = self._rows_at + count * (_ROW.itemsize + _LABEL.itemsize)
        self._mapped_bytes = -(-whole // mmap.PAGESIZE) * mmap.PAGESIZE

    @staticmethod
    def create(planned: int, count: int, kind: tuple[tuple[int, ...], str]) -> SharedShelf:
        return SharedShelf(planned, count, kind, os.memfd_create("pannier-batches", os.MFD_CLOEXEC))

    def reserve(self, slots: int) -> None:
        """Room for so many slots in the file; what nobody has written to yet takes no memory."""
        first, length = self._piece(slots - 1)
        os.ftruncate(self.file, (first + length) * self._mapped_bytes)

    def make(self, number: int) -> Slot:
        slot = self.slots.get(number)
        if slot is None:
            slot = self.slots[number] = super().make(number)
        return slot

    def _piece(self, number: int) -> tuple[int, int]:
        """The piece that a slot lies in: its first slot, and how many it has."""
        if number < self.planned:
            return 0, self.planned
        first = self.planned << ((number // self.planned).bit_length() - 1)
        return first, first

    def _memory(self, number: int) -> memoryview:
        (first, length), size = self._piece(number), self._mapped_bytes
        piece = self._pieces.get(first)
        if piece is None:
            piece = self._pieces[first] = mmap.mmap(self.file, length * size, offset=first * size)
        return memoryview(piece)[(number - first) * size :][:size]

    def records_of(self, slot: Slot, count: int) -> tuple[Array, Array]:
        """Where the rows int64 (count,) and class numbers int32 (count,) of a slot's batch stand."""
        rows = np.frombuffer(slot.bytes, _ROW, count, self._rows_at)
        return rows, np.frombuffer(slot.bytes, _LABEL, count, self._rows_at + self.count * _ROW.itemsize)

    def drop(self, slot: Slot) -> None:
        self.give_back(slot)
        self.slots.pop(slot.number, None)
        if self._dropped is not None:
            self._dropped(slot.number)

    def give_back(self, slot: Slot) -> None:
        """The memory of a slot that nobody sees goes back to the system, for both sides."""
        first, _ = self._piece(slot.number)
        self._pieces[first].madvise(mmap.MADV_REMOVE, (slot.number - first) * self._mapped_bytes, self._mapped_bytes)

    def forget(self, number: int) -> None:
        """The other side has dropped a slot."""
        self.slots.pop(number, None)
        self.gone += 1

    def close(self, kept: Container[int]) -> None:
        """Gives back all but the slots that are kept, which stay valid."""
        for number, slot in self.slots.items():
            if number not in kept:
                self.give_back(slot)
        self.slots.clear()
        self._pieces.clear()
        if self.file >= 0:
            os.close(self.file)
            self.file = -1


class _TellingWatch(weakref.ref[Loan]):
    """Sees the end of a loan. To `ctypes` it is a number, which the text that is written then has no place for."""

    __slots__ = ()
    _as_parameter_ = ctypes.c_int(0)


class Lending:
    """Lends slots to the consumer; a loan's end writes the slot's number to a pipe, by a call into C alone.

    For the reasons of `FreeSlots`; and no thread of this process has to hear of it. `close` before the pipe is closed.
    """

    def __init__(self, pipe: int) -> None:
        self._print = partial(ctypes.PyDLL(None).dprintf, pipe)
        self._lent: dict[int, _TellingWatch] = {}

    def lend(self, slot: Slot, count: int) -> Array:
        """The first `count` arrays of a slot, as one array."""
        loan = Loan(slot, count, None)
        self._lent[slot.number] = _TellingWatch(loan, partial(self._print, b"%d\n" % slot.number))
        return np.asarray(loan)

    def kept(self) -> set[int]:
        """Slots that somebody sees still, by number."""
        return {number for number, watch in self._lent.items() if watch() is not None}

    def close(self) -> None:
        self._lent.clear()
