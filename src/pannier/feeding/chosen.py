"""Which of a manifest's rows are fed, and flags of theirs: in bits, so that what is held does not grow with records much."""

from __future__ import annotations

import numpy as np

from pannier.array_types import Flags, Numbers
from pannier.columns import Rows

_WORD = 64
_BITS_OF = np.array([bin(byte).count("1") for byte in range(256)], np.uint8)


class Bits:
    """Flags by place, a bit each."""

    def __init__(self, flags: Flags) -> None:
        padded = np.zeros(-(-len(flags) // _WORD) * _WORD, bool)
        padded[: len(flags)] = flags
        self.words = np.packbits(padded, bitorder="little").view("<u8")

    def at(self, places: Numbers) -> Flags:
        """Those of some places."""
        of_place = self.words[places >> 6] >> (places & (_WORD - 1)).astype(np.uint64)
        return (of_place & np.uint64(1)).astype(bool)


class ChosenRows:
    """Ascending rows of a manifest of `total`, each found by its place among them in the same time, however many there are.

    A bit a row, and for every 64 rows how many are chosen before (rank and select on a bit vector, as in Jacobson,
    "Space-efficient Static Trees and Graphs", 1989). All rows take nothing; rows that do not ascend are kept as they are.
    """

    def __init__(self, rows: Rows, total: int) -> None:
        self._length, self._kept = len(rows), None
        self._bits: Bits | None = None
        if len(rows) == total:
            return
        if (np.diff(rows) <= 0).any():
            self._kept = rows
            return
        chosen = np.zeros(total, bool)
        chosen[rows] = True
        self._bits = Bits(chosen)
        counts = _BITS_OF[self._bits.words.view(np.uint8)].reshape(-1, _WORD // 8).sum(axis=1)
        self._before = (np.cumsum(counts) - counts).astype(np.uint32)

    def __len__(self) -> int:
        return self._length

    @property
    def byte_count(self) -> int:
        """What it holds."""
        if self._kept is not None:
            return int(self._kept.nbytes)
        return 0 if self._bits is None else int(self._bits.words.nbytes + self._before.nbytes)

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
