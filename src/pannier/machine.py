"""What the machine gives this process: usable cores and free memory, container limits included; and what it is."""

from __future__ import annotations

import math
import os
import platform
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from pannier import containers

# libraries on which it hangs how fast pictures are read, decoded and prepared
_LIBRARIES = ("numpy", "numba", "simplejpeg", "imagecodecs", "opencv-python-headless", "pillow", "pyarrow")


def usable_cores() -> int:
    """Cores this process may use: its affinity, and the quota of its container, rounded up."""
    cores = len(os.sched_getaffinity(0)) if hasattr(os, "sched_getaffinity") else os.cpu_count() or 1
    allowed = containers.allowed_cores()
    return max(1, cores if allowed is None else min(cores, math.ceil(allowed)))


def free_memory_bytes() -> int:
    """Memory that could be taken now without swapping, in bytes; at most what the container still allows."""
    import psutil

    free, allowed = int(psutil.virtual_memory().available), containers.free_bytes()
    return free if allowed is None else min(free, allowed)


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
