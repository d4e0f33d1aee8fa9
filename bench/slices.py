"""Ratios of two ways of doing the same, in alternating slices: these machines drift, so neighbors are compared."""

from __future__ import annotations

import time
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass

import numpy as np


@dataclass(frozen=True)
class Ratio:
    """Median and 10th to 90th percentile of a quotient over all slices."""

    median: float
    low: float
    high: float

    def __str__(self) -> str:
        return f"{self.median:5.2f} [{self.low:.2f} to {self.high:.2f}]"


def ratio(numbers: Sequence[float], baseline: Sequence[float]) -> Ratio:
    low, median, high = np.percentile(np.array(numbers) / np.array(baseline), (10, 50, 90))
    return Ratio(float(median), float(low), float(high))


def alternate(
    ways: Mapping[str, Callable[[], object]], slices: int = 24, clock: Callable[[], float] = time.perf_counter
) -> dict[str, list[float]]:
    """Seconds of each way in each slice, one way after another, round after round; one round before is not counted."""
    times: dict[str, list[float]] = {name: [] for name in ways}
    for way in ways.values():
        way()
    for _ in range(slices):
        for name, way in ways.items():
            started = clock()
            way()
            times[name].append(clock() - started)
    return times


class Report:
    """Collects lines, prints them as they come."""

    def __init__(self) -> None:
        self.lines: list[str] = []

    def title(self, text: str) -> None:
        self._add(f"\n{text}")

    def line(self, what: str, value: object, bar: str = "", met: bool | None = None) -> None:
        verdict = "" if met is None else ("reached" if met else "NOT reached")
        self._add(f"  {what:<72} {value!s:<26} {bar:<10} {verdict}".rstrip())

    def _add(self, text: str) -> None:
        self.lines.append(text)
        print(text, flush=True)
