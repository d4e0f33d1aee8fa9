"""What a process holds and has computed, and how the system is told to enforce a limit on it (Linux)."""

from __future__ import annotations

import contextlib
import ctypes
import gc
import os
import resource
import sys
import threading
import time
from collections.abc import Mapping

_M_MMAP_THRESHOLD = -3
# what the system tells of a process, as long as it may be
_STATUS_BYTES = 1 << 16
_MAP_THRESHOLD_BYTES = 128 << 10


def working_bytes(pid: int | None = None) -> int:
    """RssAnon + RssShmem of a process (this one for None), in bytes; 0 where it is gone or the system does not tell."""
    return _status(pid, ("RssAnon", "RssShmem"))


def resident_bytes(pid: int | None = None) -> int:
    """All memory of a process that is in use now, files that it has mapped included; 0 where the system does not tell."""
    return _status(pid, ("RssAnon", "RssFile", "RssShmem"))


def private_bytes(pid: int | None = None) -> int:
    """RssAnon: what a process alone holds, without memory that it shares."""
    return _status(pid, ("RssAnon",))


def bytes_above(levels: Mapping[int, int]) -> int:
    """What some processes hold, each above its level; memory that they share with others included."""
    return sum(max(0, working_bytes(pid) - level) for pid, level in levels.items())


def writable_bytes(pid: int | None = None) -> int:
    """VmData: all private writable mappings, touched or not; what RLIMIT_DATA counts."""
    return _status(pid, ("VmData",))


def _status(pid: int | None, names: tuple[str, ...]) -> int:
    try:
        handle = os.open(f"/proc/{pid or 'self'}/status", os.O_RDONLY)
        try:
            told = os.read(handle, _STATUS_BYTES)
        finally:
            os.close(handle)
    except OSError:
        return 0
    total = 0
    for name in names:
        at = told.find(b"\n%s:" % name.encode())
        total += int(told[at + len(name) + 2 :].split(None, 1)[0]) * 1024 if at >= 0 else 0
    return total


def processor_seconds(pid: int) -> float:
    """What another process has computed so far; 0 where it is gone or the system does not tell."""
    try:
        with open(f"/proc/{pid}/stat", "rb") as file:
            user, system = file.read().rpartition(b")")[2].split()[11:13]
    except OSError:
        return 0.0
    return (int(user) + int(system)) / os.sysconf("SC_CLK_TCK")


def can_enforce_limits() -> bool:
    return sys.platform == "linux"


def enforce_limit(limit_bytes: int, above: int) -> None:
    """From now on the system refuses this process memory beyond `above` (a `writable_bytes` level) + `limit_bytes`."""
    if can_enforce_limits():
        _, hard = resource.getrlimit(resource.RLIMIT_DATA)
        resource.setrlimit(resource.RLIMIT_DATA, (above + limit_bytes, hard))


def fix_map_threshold() -> None:
    """Makes the C library give large freed blocks back at once. For processes of our own alone."""
    with contextlib.suppress(OSError, AttributeError):
        ctypes.CDLL(None).mallopt(_M_MMAP_THRESHOLD, _MAP_THRESHOLD_BYTES)


def release_free_memory() -> None:
    """Collects garbage and gives what the C library holds free back to the system, before a level is taken."""
    gc.collect()
    give_back_free_memory()


def give_back_free_memory() -> None:
    """The latter alone."""
    with contextlib.suppress(OSError, AttributeError):
        ctypes.CDLL(None).malloc_trim(0)


def was_refused(error: BaseException) -> bool:
    """Whether the system refused memory, as Python or OpenCV says it."""
    return isinstance(error, MemoryError) or (type(error).__module__ == "cv2" and "Insufficient memory" in str(error))


class Sampler:
    """Watches a process's working memory from outside: its peak since the last `reset`, but while it is paused. `close` ends
    the watching.

    `add` has it watch the processes that work for it too, each above its own level; memory they share is counted once.
    """

    def __init__(self, pid: int, every_seconds: float = 0.01) -> None:
        self._pid, self._every = pid, every_seconds
        self._ended, self._watching = threading.Event(), threading.Event()
        self._watching.set()
        self._others: dict[int, int] = {}
        self.peak_bytes = 0
        self._thread = threading.Thread(target=self._watch, name="pannier-sampler", daemon=True)
        self._thread.start()

    def add(self, pid: int, level: int) -> None:
        self._others[pid] = level

    def reset(self) -> None:
        self.peak_bytes = self._bytes()

    def _bytes(self) -> int:
        if not self._others:
            return working_bytes(self._pid)
        return private_bytes(self._pid) + bytes_above(self._others)

    def pause(self) -> None:
        """Looks once more, and then no more until `go_on`."""
        self._watching.clear()
        self._look()

    def go_on(self) -> None:
        self._watching.set()

    def _look(self) -> None:
        held = self._bytes()
        self.peak_bytes = max(self.peak_bytes, held)  # read after the look, since two threads look

    def _watch(self) -> None:
        while not self._ended.is_set():
            self._look()
            time.sleep(self._every)
            self._watching.wait()

    def close(self) -> None:
        self._ended.set()
        self._watching.set()
        self._thread.join()
