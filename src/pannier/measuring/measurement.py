"""What a measurement gives: its rows, and the answer."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

from pannier.columns import frame_of
from pannier.measuring.answer import Answer, answer_of
from pannier.measuring.rows import Trial
from pannier.results import Result, grid, titled
from pannier.units import show_bytes


@dataclass(frozen=True, repr=False)
class Measurement(Result):
    """What was measured: `trials` has a row for each setting that was tried, `ceiling` one for what bare processes do.

    The ceiling has a row for each size, source and number of workers, doing the same work with no pipeline around it;
    reading and copying: rows of the same processes that read the files, and copy ready batches, and do nothing else.
    settings: what is the same for all rows. machine: what it ran on.
    """

    ceiling: list[Trial]
    trials: list[Trial]
    settings: dict[str, Any] = field(default_factory=dict)
    reading: list[Trial] = field(default_factory=list)
    copying: list[Trial] = field(default_factory=list)
    machine: dict[str, Any] = field(default_factory=dict)

    @property
    def answer(self) -> Answer:
        """Which setting to take, and why. Raises SourceError where every trial failed."""
        return answer_of(self.trials, self.settings)

    def _repr_html_(self) -> str:
        told = " ".join(self.answer.sentences) if any(trial.rate for trial in self.trials) else "Every trial failed."
        header = ["workers", "processes", "batch size", "source", "limit", "pictures/s", "of ceiling", "bound by"]
        rows = [
            [
                *(str(trial.workers), str(trial.processes), str(trial.batch_size), trial.source),
                "none" if trial.memory_limit_bytes is None else show_bytes(trial.memory_limit_bytes),
                *(f"{trial.rate:,.0f}", f"{trial.share_of_ceiling or 0:.2f}"),
                trial.binds or trial.reason.partition("\n")[0],
            ]
            for trial in self.trials
        ]
        return titled(told, grid(header, rows))

    def to_frame(self) -> Any:
        """The trials as a pandas table, a row each; rates as columns. Raises UsageError where pandas is not installed."""
        return frame_of(
            trial.to_dict() | {"pictures_per_second": trial.rate, "size": "x".join(map(str, trial.size))}
            for trial in self.trials
        )
