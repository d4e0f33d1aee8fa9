"""Rows of a measurement: trials and ceilings, with what was seen of each."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

from pannier.measuring.settings import Setting
from pannier.results import Result


@dataclass(frozen=True, repr=False)
class Rate(Result):
    """Pictures a second: the median of all rounds, and the 10th and 90th percentile."""

    median: float
    low: float
    high: float


@dataclass(frozen=True, repr=False)
class Trial(Result):
    """One measured row. `status`: "ok", "too_small", "over_limit", "timed_out" or "died"; `reason` says why it is not ok.

    size: height and width. source: "shards", "rendered" or "folder:PATH". ahead: batches kept ready, as planned.
    share_of_ceiling: the median over the rounds. peak_bytes: the highest working memory seen. is_enforced: whether the
    system itself enforced the limit; otherwise it was watched. binds: what keeps it from being faster, "processor",
    "workers", "interpreter lock", "disk", "memory bandwidth", "consumer" or "". starved_share: the part of the time that the
    consumer waited for batches. dropped_share: with cold files, the part of their pages that were dropped before each round.
    stages: of the threads' work, the part of each stage, and "stalled", in which they did not compute. waits_ms: how long
    the consumer waited for a batch, by percentile. samples: pictures a second of each round.
    """

    workers: int
    memory_limit_bytes: int | None
    pictures_per_second: Rate | None = None
    share_of_ceiling: float | None = None
    peak_bytes: int | None = None
    status: str = "ok"
    reason: str = ""
    size: tuple[int, int] = (0, 0)
    batch_size: int = 32
    processes: int = 0
    ahead: int | None = None
    source: str = "shards"
    is_enforced: bool = True
    binds: str = ""
    starved_share: float | None = None
    dropped_share: float | None = None
    stages: dict[str, float] = field(default_factory=dict)
    waits_ms: dict[str, float] = field(default_factory=dict)
    samples: list[float] = field(default_factory=list)

    @property
    def rate(self) -> float:
        """Pictures a second, the median; 0 where it failed."""
        return self.pictures_per_second.median if self.pictures_per_second and self.status == "ok" else 0.0


def trial_of(setting: Setting, **seen: Any) -> Trial:
    """A row of a setting."""
    at = {name: getattr(setting, name) for name in ("size", "batch_size", "processes", "source")}
    return Trial(setting.workers, setting.memory_limit_bytes, **at, **{"ahead": setting.ahead, **seen})
