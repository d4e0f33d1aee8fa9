"""Measuring itself: what it costs, whether a search finds what the whole grid holds; and pages."""

from __future__ import annotations

import resource
import shutil
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
            if len(shares) == 1:
                _twice(report, snapshot, treatment)
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


def _twice(report: Report, snapshot: pannier.Snapshot, treatment: pannier.Treatment) -> None:
    """The same run twice: whether the intervals of each setting meet."""
    how: dict[str, Any] = {"workers": (1, 2), "batch_size": (16, 64), "rounds": 8, "slice_seconds": 0.3}
    runs = [snapshot.measure("train", treatment, **how).trials for _ in range(2)]
    rates = [[trial.pictures_per_second for trial in trials] for trials in runs]
    meet = sum(a.low <= b.high and b.low <= a.high for a, b in zip(*rates, strict=True) if a and b)
    told = f"{meet} of {len(rates[0])}"
    report.line("the same run twice: settings whose intervals meet", told, "all", meet == len(rates[0]))


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
        opened = _opened(Path(folder) / "page.html")
    report.line("seconds to make it", f"{seconds:.2f}", "<= 3", seconds <= 3)
    report.line("MB", f"{size / 1e6:.2f}", "<= 5", size <= 5e6)
    if opened is None:
        report.line("seconds to open it", "no chromium here")
    else:
        report.line("seconds to open it, in headless Chromium", f"{opened:.2f}", "<= 1", opened <= 1)


def _opened(page: Path) -> float | None:
    """Seconds until a page is drawn, at its second opening."""
    if not (shutil.which("chromium") and shutil.which("chromedriver")):
        return None
    from selenium.webdriver import Chrome, ChromeOptions
    from selenium.webdriver.chrome.service import Service

    options = ChromeOptions()
    options.binary_location = shutil.which("chromium") or ""
    for flag in ("headless", "no-sandbox", "disable-gpu", "window-size=1280,800"):
        options.add_argument(f"--{flag}")
    driver = Chrome(options=options, service=Service(shutil.which("chromedriver")))
    try:
        for _ in range(2):
            driver.get(page.as_uri())
        return float(driver.execute_script("return performance.getEntriesByType('navigation')[0].loadEventEnd")) / 1000
    finally:
        driver.quit()
