"""What feeds take of a limit that keeps them from making as many batches ahead as they would without."""

from __future__ import annotations

import statistics
import tempfile
from pathlib import Path
from typing import Any

import pannier
from bench.data import write_archive
from bench.slices import Report

# ending, height, width, how many
SETS = ((".jpg", 375, 500, 240), (".png", 375, 500, 160), (".webp", 375, 500, 160))
# of the smallest limit into which two workers fit
TIMES = (1.0, 1.15, 1.3, 1.5, 1.75, 2.0)
HOW: dict[str, Any] = {"workers": 2, "batch_size": 16}


def run(report: Report) -> None:
    report.title("Feeding to 160 x 160 float32 under limits that leave room for fewer batches ahead than are best")
    shares = list[float]()
    for ending, height, width, count in SETS:
        with tempfile.TemporaryDirectory() as folder:
            archive = write_archive(Path(folder) / "archive", count, height, width, ending=ending)
            store = pannier.create(Path(folder) / "s.store")
            snapshot = store.pack(archive, shares={"train": 100}, near=None).snapshot
            shares += [share for processes in (0, 1) for share in _shares(snapshot, processes)]
    middle, told = statistics.median(shares), f"of {len(shares)} feeds"
    report.line("what they take of their limit, median", f"{middle:.2f} {told}", ">= 0.6", middle >= 0.6)
    report.line("the same, at most", f"{max(shares):.2f} {told}", "<= 1", max(shares) <= 1)


def _shares(snapshot: pannier.Snapshot, processes: int) -> list[float]:
    treatment, least = pannier.Treatment(160), 0
    try:
        snapshot.feed("train", treatment, processes=processes, memory_limit="1MiB", **HOW)
    except pannier.LimitError as error:
        least = error.smallest_limit or 0
    limits = [*(int(least * times) for times in TIMES), None]
    found = snapshot.measure("train", treatment, processes=processes, memory_limit=limits, rounds=3, **HOW)
    best = max(trial.ahead or 0 for trial in found.trials)
    bound = [trial for trial in found.trials if trial.memory_limit_bytes and (trial.ahead or 0) < best]
    assert all(trial.status in ("ok", "over_limit") for trial in bound), bound
    return [(trial.peak_bytes or 0) / (trial.memory_limit_bytes or 1) for trial in bound]
