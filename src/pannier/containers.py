"""What a container allows its processes: the limits of control groups, of version 1 and 2, the tightest on the way up."""

from __future__ import annotations

from collections.abc import Iterator
from itertools import takewhile
from pathlib import Path

_MOUNTED = Path("/sys/fs/cgroup")
_OWN = Path("/proc/self/cgroup")


def allowed_cores() -> float | None:
    """Processor seconds a second; None where there is no quota."""
    quotas = list[float]()
    for group in _groups("cpu"):
        said = _read(group / "cpu.max").split() or [_read(group / f"cpu.cfs_{name}_us") for name in ("quota", "period")]
        quota, period = (_number(each) for each in said)
        if quota is not None and quota > 0 and period:  # -1 is none
            quotas.append(quota / period)
    return min(quotas, default=None)


def free_bytes() -> int | None:
    """Memory that may still be taken, the system's cache of files given up for it; None where there is no limit."""
    free = list[int]()
    for group in _groups("memory"):
        for limit, used in (("memory.max", "memory.current"), ("memory.limit_in_bytes", "memory.usage_in_bytes")):
            most, taken = _number(_read(group / limit)), _number(_read(group / used))
            if most is not None and taken is not None:
                free.append(max(0, most - max(0, taken - _cached_bytes(group))))
    return min(free, default=None)


def _groups(controller: str) -> Iterator[Path]:
    """Folders of this process's groups for that, and of all above them. What a container does not see is not there."""
    for line in _read(_OWN).splitlines():
        names, _, path = line.partition(":")[2].partition(":")
        if names and controller not in names.split(","):
            continue
        for mounted in {_MOUNTED / names, _MOUNTED / controller} if names else {_MOUNTED, _MOUNTED / "unified"}:
            own = mounted / path.lstrip("/")
            yield from takewhile(mounted.parent.__ne__, (own, *own.parents))


def _cached_bytes(group: Path) -> int:
    """Of files, which the system gives up where memory is wanted; those of groups below included."""
    said = dict(line.split() for line in _read(group / "memory.stat").splitlines() if len(line.split()) == 2)
    kinds = ("inactive_file", "active_file")
    return sum(_number(said.get(f"total_{kind}", said.get(kind, "0"))) or 0 for kind in kinds)


def _read(path: Path) -> str:
    try:
        return path.read_text().strip()
    except OSError:
        return ""


def _number(text: str) -> int | None:
    """None for "max" and for nothing."""
    try:
        return int(text)
    except ValueError:
        return None
