"""What the machine gives this process: usable cores and free memory, container limits included; and what it is."""

from __future__ import annotations

import os
import platform
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from pathlib import Path
from typing import Any

_CGROUP = Path("/sys/fs/cgroup")
# libraries on which it hangs how fast pictures are read, decoded and prepared
_LIBRARIES = ("numpy", "numba", "simplejpeg", "imagecodecs", "opencv-python-headless", "pillow", "pyarrow")


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


def machine_facts() -> dict[str, Any]:
    """What it is, and what runs on it: processor, cores, memory in bytes, system, versions. No names of hosts or people."""
    import psutil

    return {
        "processor": _processor(),
        "cores": usable_cores(),
        "memory_bytes": int(psutil.virtual_memory().total),
        "system": f"{platform.system()} {platform.release()}",
        "python": platform.python_version(),
        "versions": {name: version for name in ("pannier", *_LIBRARIES) if (version := _version(name))},
    }


@contextmanager
def environment_as(said: Mapping[str, str | None]) -> Iterator[None]:
    """The environment with these variables said, as long as the context lasts; those of None stay as they are."""
    before = {name: os.environ.get(name) for name in said}
    os.environ.update({name: value for name, value in said.items() if value is not None})
    try:
        yield
    finally:
        for name, value in before.items():
            os.environ.pop(name, None)
            os.environ.update({} if value is None else {name: value})


def _processor() -> str:
    try:
        lines = Path("/proc/cpuinfo").read_text().splitlines()
    except OSError:
        return platform.machine()
    return next((line.partition(":")[2].strip() for line in lines if line.startswith("model name")), platform.machine())


def _version(name: str) -> str | None:
    from importlib import metadata  # takes as long to load as a small package

    try:
        return metadata.version(name)
    except metadata.PackageNotFoundError:
        return None
