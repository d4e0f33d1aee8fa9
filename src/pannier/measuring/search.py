"""Which settings are tried: all of them, or those that a search looks at.

A search climbs: it tries what is likely the best, and its neighbors on each axis of the grid, goes on from the best of
those, and ends where no neighbor is better, or where a third of the settings have been tried.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import replace
from typing import Any

from pannier.machine import usable_cores
from pannier.measuring.rows import Trial
from pannier.measuring.settings import AXES, Setting, Step

# of a grid, the part that may be tried
SHARE = 3
# a batch size that is large enough for what each batch costs, and small enough for memory and cache
USUAL_BATCH = 64
SOURCES_BY_SPEED = ("rendered", "shards")


class All:
    """Every setting, in order."""

    def __init__(self, settings: Sequence[Setting]) -> None:
        self._settings = settings

    @property
    def count(self) -> int:
        """How many will be tried, at most."""
        return len(self._settings)

    def next(self, tried: Mapping[Setting, Trial]) -> list[Setting]:
        """What is to be tried next, none at the end."""
        return [setting for setting in self._settings if setting not in tried]


class Search:
    """The same, climbing: for each size and limit by itself."""

    def __init__(self, settings: Sequence[Setting], step: Step | None) -> None:
        parts: dict[Any, list[Setting]] = {}
        for setting in settings:
            parts.setdefault((setting.size, setting.memory_limit_bytes), []).append(setting)
        self._climbs = [_Climb(part, step) for part in parts.values()]

    @property
    def count(self) -> int:
        return sum(climb.most for climb in self._climbs)

    def next(self, tried: Mapping[Setting, Trial]) -> list[Setting]:
        return next(filter(None, (climb.next(tried) for climb in self._climbs)), [])


class _Climb:
    """The settings of one size and limit."""

    def __init__(self, settings: Sequence[Setting], step: Step | None) -> None:
        self._settings = set(settings)
        self._axes: dict[str, list[Any]] = {name: [*dict.fromkeys(getattr(s, name) for s in settings)] for name in AXES}
        self.most = max(1, len(settings) // SHARE)
        self._start = min(settings, key=lambda setting: _unlikeliness(setting, step))

    def next(self, tried: Mapping[Setting, Trial]) -> list[Setting]:
        own = {setting: trial for setting, trial in tried.items() if setting in self._settings}
        left = self.most - len(own)
        best = max(own, key=lambda setting: own[setting].rate, default=None)
        wanted = [self._start, *self._neighbors(self._start)] if best is None else [*self._neighbors(best)]
        return [setting for setting in dict.fromkeys(wanted) if setting not in own][: max(0, left)]

    def _neighbors(self, setting: Setting) -> Iterator[Setting]:
        """One step along one axis, on both sides; the axes that matter most first."""
        for name, values in self._axes.items():
            at = values.index(getattr(setting, name))
            for other in (at + 1, at - 1):
                if 0 <= other < len(values):
                    neighbor = replace(setting, **{name: values[other]})
                    if neighbor in self._settings:
                        yield neighbor


def _unlikeliness(setting: Setting, step: Step | None) -> tuple[Any, ...]:
    """How far a setting is from what is best as a rule: a worker a core, canvases, a process beside a busy consumer."""
    by_speed = SOURCES_BY_SPEED.index(setting.source) if setting.source in SOURCES_BY_SPEED else len(SOURCES_BY_SPEED)
    wants_process = step is not None and step.holds_lock
    return (
        abs(setting.workers * max(1, setting.processes) - usable_cores()),
        by_speed,
        (setting.processes != 1) if wants_process else setting.processes,
        setting.ahead is not None,
        abs(setting.batch_size - USUAL_BATCH),
    )
