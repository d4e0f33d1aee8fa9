"""Checksums of many pieces that were read at once."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from pannier.array_types import Numbers


class CrcJoiner:
    """The CRC-32 of several pieces of one length together, from those of each (zlib's `crc32_combine`).

    As many zero bytes change a CRC as a linear map of its bits does, which is kept as four tables, one for each byte.
    """

    def __init__(self, length: int) -> None:
        power, rows = [0xEDB88320, *(1 << bit for bit in range(31))], [1 << bit for bit in range(32)]  # of one zero bit
        for _ in range(3):
            power = [_mapped(power, row) for row in power]
        while length:
            if length & 1:
                rows = [_mapped(power, row) for row in rows]
            power, length = [_mapped(power, row) for row in power], length >> 1
        tables = [[_mapped(rows[8 * byte : 8 * byte + 8], value) for value in range(256)] for byte in range(4)]
        self._tables = np.array(tables, np.uint32)

    def join(self, crcs: Numbers) -> int:
        """Of the pieces in a row."""
        from pannier.storage.kernels import join_crcs

        return int(join_crcs(self._tables, crcs))


def _mapped(rows: Sequence[int], vector: int) -> int:
    """A vector of bits times a matrix of them, a row for each bit."""
    total = 0
    for row in rows:
        if vector & 1:
            total ^= row
        vector >>= 1
    return total
