"""What the machine gives this process: usable cores and free memory, container limits included."""

from __future__ import annotations

import os
from pathlib import Path

_CGROUP = Path("/sys/fs/cgroup")


def usable_cores() -> int:
    """Cores this process may use: its affinity, and the quota of its container (cgroup 2), rounded up."""
    cores = len(os.sched_getaffinity(0)) if hasattr(os, "sched_getaffinity") else os.cpu_count() or 1
    try:
        quota, period = (_CGROUP / "cpu.max").read_text().split()
        if quota != "max":
            cores = min(cores, max(1, -(-int(quota) // int(period))))
    except (OSError, ValueError):
        pass
    return max(1, cores)


def free_memory_bytes() -> int:
    """Memory that could be taken now without swapping, in bytes; at most what the container still allows."""
    import psutil

    free = int(psutil.virtual_memory().available)
    try:
        limit = (_CGROUP / "memory.max").read_text().strip()
        if limit != "max":
            free = min(free, max(0, int(limit) - int((_CGROUP / "memory.current").read_text())))
    except (OSError, ValueError):
        pass
    return free
