"""A budget of memory: what a limit comes to in bytes, and bytes that threads take before they use them."""

from __future__ import annotations

import threading
from collections.abc import Iterator
from contextlib import contextmanager

from pannier.errors import UsageError
from pannier.machine import free_memory_bytes
from pannier.units import read_limit


def limit_bytes(memory_limit: str | int | None) -> int | None:
    """A memory limit in bytes: "auto" is half of what is free, None unlimited. Raises UsageError."""
    try:
        limit = read_limit(memory_limit)
    except UsageError as error:
        raise UsageError(f"`memory_limit` {error}") from None
    return free_memory_bytes() // 2 if isinstance(limit, str) else limit


class Budget:
    """Bytes for several threads: who wants more than is left waits until others give back; one for all of it is alone."""

    def __init__(self, byte_count: int) -> None:
        self._all = self._left = byte_count
        self._change = threading.Condition()

    @contextmanager
    def taken(self, byte_count: int) -> Iterator[None]:
        """So many bytes for a `with` block, at most all; nobody takes twice at a time."""
        wanted = min(byte_count, self._all)
        with self._change:
            self._change.wait_for(lambda: self._left >= wanted)
            self._left -= wanted
        try:
            yield
        finally:
            with self._change:
                self._left += wanted
                self._change.notify_all()
