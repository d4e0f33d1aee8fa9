"""What arrives: bounded in bytes and pixels on its way in, looked at by content, checked to its end, shrunk where asked."""

from __future__ import annotations

import hashlib
import os
import zlib
from dataclasses import dataclass
from pathlib import Path
from typing import IO, Any

from pannier.errors import PictureError
from pannier.images.decode import decode
from pannier.images.facts import check_pixels, format_of, read_facts
from pannier.images.recode import Recoding
from pannier.units import show_bytes

# a header is looked for in so many bytes, then again when all has arrived
HEAD_BYTES = 1 << 16
# what is larger goes to its file while it comes
HELD_BYTES = 1 << 18
ENDINGS = {"jpeg": "jpg", "tiff": "tif"}
_INFLATED_AT_ONCE = 1 << 20


class RefusedError(Exception):
    """What arrives is not wanted, or refused by the host. `is_final`: it will not be otherwise the next time."""

    def __init__(self, reason: str, *, is_final: bool = True, status: int | None = None) -> None:
        super().__init__(reason)
        self.reason, self.is_final, self.status = reason, is_final, status


@dataclass(frozen=True)
class Bounds:
    """What a picture may be: its file's bytes, its pixels; `recoding` shrinks it."""

    max_bytes: int
    max_pixels: int
    recoding: Recoding | None = None


class Arriving:
    """A body on its way into a file: kept in memory while it is small. Raises RefusedError as soon as it is not wanted."""

    def __init__(self, path: Path, bounds: Bounds, content_type: str, encoding: str) -> None:
        self._path, self._bounds, self._content_type = path, bounds, content_type
        self._inflate: Any = zlib.decompressobj(47) if encoding in ("gzip", "deflate") else None
        if encoding not in ("", "identity", "gzip", "deflate"):
            raise RefusedError(f"it is sent in an encoding that was not asked for: {encoding}")
        self._content = bytearray()
        self._is_looked_at = False
        self._byte_count = 0
        self._file: IO[bytes] | None = None

    def take(self, chunk: bytes) -> None:
        if self._inflate is None:
            self._keep(chunk)
            return
        try:
            self._keep(self._inflate.decompress(chunk, _INFLATED_AT_ONCE))
            while self._inflate.unconsumed_tail:
                self._keep(self._inflate.decompress(self._inflate.unconsumed_tail, _INFLATED_AT_ONCE))
        except zlib.error as error:
            raise RefusedError(f"its compression is broken: {error}", is_final=False) from None

    def finish(self) -> None:
        """All of it has come."""
        if not self._is_looked_at:
            self._look(at_end=True)

    def close(self) -> None:
        if self._file is not None:
            self._file.close()

    def accept(self) -> tuple[str, int, str]:
        """Checks the picture to its end and shrinks it where asked: (ending, bytes, SHA-256). Raises RefusedError.

        It lies in its file then, flushed. For another thread than that in which it came.
        """
        data = bytes(self._content) if self._file is None else self._path.read_bytes()
        bounds, is_written = self._bounds, self._file is not None
        try:
            facts = read_facts(data)
            check_pixels(facts, bounds.max_pixels)
            small = bounds.recoding(data, facts) if bounds.recoding else data
            if small is data:
                decode(data, facts, "gray")
            else:
                data, facts, is_written = small, read_facts(small), False
        except PictureError as error:
            # what is cut short may come whole the next time
            raise RefusedError(error.reason, is_final=error.kind in ("oversized", "unsupported")) from None
        with open(self._path, "rb+" if is_written else "wb") as file:
            if not is_written:
                file.write(data)
                file.flush()
            os.fsync(file.fileno())
        return ENDINGS.get(facts.format, facts.format), len(data), hashlib.sha256(data).hexdigest()

    def _keep(self, content: bytes) -> None:
        self._byte_count += len(content)
        if self._byte_count > self._bounds.max_bytes:
            raise RefusedError(f"more than {show_bytes(self._bounds.max_bytes)}: raise `max_bytes` to take it")
        if self._file is not None:
            self._file.write(content)
            return
        self._content += content
        if not self._is_looked_at and len(self._content) >= HEAD_BYTES:
            self._look(at_end=False)
        if len(self._content) > HELD_BYTES:
            self._file = open(self._path, "wb", buffering=0)  # noqa: SIM115
            self._file.write(self._content)
            self._content = bytearray()

    def _look(self, *, at_end: bool) -> None:
        """Whether what has arrived begins like a picture that is not too large."""
        self._is_looked_at = True
        if not self._content:
            raise RefusedError("an empty answer", is_final=False)
        if format_of(bytes(self._content[:16])) is None:
            told = f" (the server calls it {self._content_type})" if self._content_type else ""
            raise RefusedError(f"not a picture{told}")
        try:
            check_pixels(read_facts(bytes(self._content)), self._bounds.max_pixels)
        except PictureError as error:
            if error.kind in ("oversized", "unsupported"):
                raise RefusedError(error.reason) from None
            if at_end:
                raise RefusedError(error.reason, is_final=False) from None
