"""Which of a manifest's rows are fed, and flags of theirs: in bits, so that what is held does not grow with records much."""

from __future__ import annotations

from typing import Any

import numpy as np

from pannier.array_types import Flags, Numbers
from pannier.columns import Rows

_WORD = 64
_EVERY_SECOND, _PAIRS, _NIBBLES, _BYTES = (np.uint64(each * 0x0101010101010101) for each in (0x55, 0x33, 0x0F, 1))


class Bits:
    """Flags by place, a bit each."""

    def __init__(self, flags: Flags) -> None:
        padded = np.zeros(-(-len(flags) // _WORD) * _WORD, bool)
        padded[: len(flags)] = flags
        self.words = np.packbits(padded, bitorder="little").view("<u8")

    def flags(self) -> Flags:
        """All of them, and more to the end of the last word."""
        return np.unpackbits(self.words.view(np.uint8), bitorder="little").view(bool)

    def at(self, places: Numbers) -> Flags:
        """Those of some places."""
        of_place = self.words[places >> 6] >> (places & (_WORD - 1)).astype(np.uint64)
        return (of_place & np.uint64(1)).astype(bool)


class ChosenRows:
    """Ascending rows of a manifest of `total`, each found by its place among them in the same time, however many there are.

    A bit a row, and for every 64 rows how many are chosen before (rank and select on a bit vector, as in Jacobson,
    "Space-efficient Static Trees and Graphs", 1989). All rows take nothing; rows that do not ascend are kept as they are.
    """

    def __init__(self, chosen: Rows | Flags | None, total: int) -> None:
        """chosen: the rows, or a flag for each row of the manifest, or None for all."""
        self._total, self._kept = total, None
        self._bits: Bits | None = None
        self._length = total
        if chosen is None:
            return
        if chosen.dtype != np.bool_:
            if len(chosen) == total and (np.diff(chosen) == 1).all():
                return
            if (np.diff(chosen) <= 0).any():
                self._kept, self._length = chosen.astype(np.int64), len(chosen)
                return
            flags = np.zeros(total, bool)
            flags[chosen] = True
        else:
            flags = chosen.view(np.bool_)
        if flags.all():
            return
        self._bits = Bits(flags)
        counts = _bits_in(self._bits.words)
        through = np.cumsum(counts)
        self._before, self._length = (through - counts).astype(np.uint32), int(through[-1]) if total else 0

    def __len__(self) -> int:
        return self._length

    @property
    def byte_count(self) -> int:
        """What it holds."""
        if self._kept is not None:
            return int(self._kept.nbytes)
        return 0 if self._bits is None else int(self._bits.words.nbytes + self._before.nbytes)

    @property
    def walk(self) -> tuple[Rows, np.ndarray[Any, np.dtype[np.uint64]], int]:
        """What a kernel walks through: the rows where they are listed, or else their bits; and how many steps that takes."""
        rows = np.empty(0, np.int64) if self._kept is None else self._kept
        words = np.empty(0, np.uint64) if self._bits is None else self._bits.words
        return rows, words, self._total if self._kept is None else self._length

    def places_before(self, row: int) -> int:
        """How many stand before a row that is a multiple of 64; where they are listed, before that place."""
        return row if self._bits is None else int(self._before[row >> 6])

    def rows(self) -> Rows:
        """All of them."""
        return self.at(np.arange(self._length)) if self._bits is None else np.flatnonzero(self._bits.flags()[: self._total])

    def at(self, places: Numbers) -> Rows:
        """The rows at some places."""
        if self._kept is not None:
            return self._kept[places]
        if self._bits is None:
            return places
        words = np.searchsorted(self._before, places, side="right") - 1
        wanted = places - self._before[words]
        bits = np.unpackbits(self._bits.words[words].view(np.uint8).reshape(-1, 8), axis=1, bitorder="little")
        within = (np.cumsum(bits, axis=1, dtype=np.uint8) > wanted[:, None]).argmax(axis=1)
        return words * _WORD + within


def _bits_in(words: np.ndarray[Any, np.dtype[np.uint64]]) -> Numbers:
    """How many bits each has: summed up side by side (Knuth, "The Art of Computer Programming", 7.1.3)."""
    pairs = words - ((words >> np.uint64(1)) & _EVERY_SECOND)
    nibbles = (pairs & _PAIRS) + ((pairs >> np.uint64(2)) & _PAIRS)
    in_bytes = (nibbles + (nibbles >> np.uint64(4))) & _NIBBLES
    return ((in_bytes * _BYTES) >> np.uint64(56)).astype(np.int64)
