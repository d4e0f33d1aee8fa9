"""Bounds of what is unpacked: a few bytes may stand for very many, in an archive, a table or a compressed stream."""

from __future__ import annotations

import shutil
import tempfile
from pathlib import Path

from pannier.errors import SourceError
from pannier.units import show_bytes

# what pictures and tables of people never come to: so many bytes, and so many times what they take packed
_FREE_BYTES = 256 << 20
_MOST_TIMES = 100
# of the temporary disk this much stays free when something is unpacked to it
_KEPT_FREE_BYTES = 256 << 20


def is_bomb(unpacked: int, packed: int) -> bool:
    """Whether so many bytes out of so few are none that anybody packed for use."""
    return unpacked > _FREE_BYTES + _MOST_TIMES * packed


def refuse_bomb(path: str | Path, unpacked: int, packed: int) -> None:
    """Raises SourceError where a file unpacks to more than anybody packed for use."""
    if is_bomb(unpacked, packed):
        raise SourceError(
            f"{path} has {show_bytes(packed)} and unpacks to more than {show_bytes(unpacked)}, as no pictures do: "
            "unpack it yourself where you trust it"
        )


class Unpacking:
    """What is unpacked of a file to the temporary disk, counted."""

    def __init__(self, path: str | Path, packed: int) -> None:
        self._path, self._packed, self._count = path, packed, 0
        self._room = max(0, shutil.disk_usage(tempfile.gettempdir()).free - _KEPT_FREE_BYTES)

    def count(self, byte_count: int) -> None:
        """So many bytes more. Raises SourceError where they do not fit on the disk, or are beyond all measure."""
        self._count += byte_count
        refuse_bomb(self._path, self._count, self._packed)
        if self._count > self._room:
            raise SourceError(
                f"{self._path} does not fit unpacked on the disk of temporary files ({tempfile.gettempdir()}): "
                "unpack it yourself, or set TMPDIR to a larger disk"
            )


def refuse_beyond(most_bytes: int | None, byte_count: int, path: str | Path, what: str = "reading it") -> None:
    """Raises SourceError where something takes more memory than a limit (None: unlimited) allows."""
    if most_bytes is not None and byte_count > most_bytes:
        raise SourceError(
            f"{path}: {what} takes {show_bytes(byte_count, up=True)} of memory, and {show_bytes(most_bytes)} is the limit: "
            "raise `memory_limit`"
        )
