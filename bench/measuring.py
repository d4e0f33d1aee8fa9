"""Measuring itself: what it costs, whether a search finds what the whole grid holds; and pages."""

from __future__ import annotations

import resource
import tempfile
import time
from pathlib import Path
from typing import Any

import pannier
from bench.data import write_archive
from bench.slices import Report
from pannier.measuring.rows import Trial
from pannier.measuring.search import Search
from pannier.measuring.settings import MeasureOptions, Setting

GRID: dict[str, Any] = {"workers": (1, 2, 4), "processes": (0, 1), "batch_size": (16, 64), "rounds": 4, "slice_seconds": 0.2}
# pictures of each store: height, width, quality, ending; and the treatment
WORK: tuple[tuple[str, tuple[int, int, int, str], dict[str, Any]], ...] = (
    ("500 x 375 JPEG to 224", (375, 500, 84, ".jpg"), {"size": 224, "values": "signed"}),
    ("128 x 96 JPEG to 64", (96, 128, 84, ".jpg"), {"size": 64}),
    ("320 x 240 PNG to 160", (240, 320, 0, ".png"), {"size": 160}),
    ("1600 x 1200 JPEG to 224", (1200, 1600, 80, ".jpg"), {"size": 224, "color": "gray"}),
    ("500 x 375 WebP to 128, varied", (375, 500, 80, ".webp"), {"size": 128, "turn": 10, "brightness": 0.2}),
)
PICTURES, RECORDS = 160, 10_000


def run(report: Report) -> None:
    report.title(f"Measuring: a search in a grid of {2 * 3 * 2} settings, with the grid's own figures")
    shares = []
    for what, (height, width, quality, ending), fields in WORK:
        with tempfile.TemporaryDirectory() as folder:
            archive = write_archive(Path(folder) / "archive", PICTURES, height, width, quality, ending)
            snapshot = pannier.create(Path(folder) / "s.store").pack(archive, shares={"train": 100}, near=None).snapshot
            treatment = pannier.Treatment(**fields)
            before, own = _children_seconds(), time.process_time()
            found = snapshot.measure("train", treatment, **GRID)
            shares.append((time.process_time() - own) / (_children_seconds() - before))
        share, tried = _searched(found, MeasureOptions(**GRID).grid(treatment).settings())
        bar = len(found.trials) // 3
        told = f"{share:.2f} in {tried} of {len(found.trials)} trials"
        report.line(
            f"{what}: the best found, against the best of all", told, f">= 0.95 in {bar}", share >= 0.95 and tried <= bar
        )
    most = max(shares)
    report.line("measuring's own processor time, against the trials'", f"{most:.1%} at most", "<= 2 %", most <= 0.02)
    _pages(report)


def _searched(found: pannier.Measurement, settings: list[Setting]) -> tuple[float, int]:
    """What a search comes to that sees the figures of the grid: its best against that of all, and how many it tried."""
    rows: dict[Setting, Trial] = dict(zip(settings, found.trials, strict=True))
    search, tried = Search(settings, None), dict[Setting, Trial]()
    while some := search.next(tried):
        tried |= {setting: rows[setting] for setting in some}
    return max(trial.rate for trial in tried.values()) / max(trial.rate for trial in rows.values()), len(tried)


def _children_seconds() -> float:
    used = resource.getrusage(resource.RUSAGE_CHILDREN)
    return used.ru_utime + used.ru_stime


def _pages(report: Report) -> None:
    report.title(f"A page of a snapshot of {RECORDS:,} records")
    with tempfile.TemporaryDirectory() as folder:
        archive = write_archive(Path(folder) / "archive", RECORDS, 48, 64, 80)
        snapshot = pannier.create(Path(folder) / "s.store").pack(archive, shares={"train": 100}, near=None).snapshot
        pannier.report(snapshot, Path(folder) / "warm.html")
        started = time.perf_counter()
        size = pannier.report(snapshot, Path(folder) / "page.html")
        seconds = time.perf_counter() - started
    report.line("seconds to make it", f"{seconds:.2f}", "<= 3", seconds <= 3)
    report.line("MB", f"{size / 1e6:.2f}", "<= 5", size <= 5e6)
