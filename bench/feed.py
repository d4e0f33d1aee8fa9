"""The feed against bare processes: the same treatment, hand-written OpenCV, hand-written Pillow."""

from __future__ import annotations

import tempfile
from dataclasses import replace
from pathlib import Path
from typing import Any

import pannier
from bench.data import write_archive
from bench.slices import Report, ratio
from pannier.feeding.job import job_of
from pannier.measuring.process import Child

SIDE = 224
SLICES = 64
SECONDS = 0.3
# what is far from its bar, or has none and takes long to settle, is measured in every eighth slice alone
SELDOM = {"pillow", "busy"}
EVERY = 8
PICTURES = 600


def run(report: Report) -> None:
    report.title(
        f"Feeding 500 x 375 JPEG to {SIDE} x {SIDE} standardized float32, two workers on two cores, {SLICES} slices"
    )
    with tempfile.TemporaryDirectory() as folder:
        archive = write_archive(Path(folder) / "archive", PICTURES)
        snapshot = pannier.create(Path(folder) / "s.store").pack(archive, shares={"train": 100}).snapshot
        treatment = pannier.Treatment(SIDE, values="standard", mean=[0.48, 0.46, 0.41], std=[0.23, 0.22, 0.225])
        rates = rates_of(_jobs(snapshot, treatment, archive), SLICES, SECONDS)
    feed = rates["feed"]
    _line(report, "two bare processes, the same treatment", feed, rates["same"], 0.97)
    _line(report, "two bare processes, OpenCV decode + area resize + standardize", feed, rates["area"], 1.7)
    _line(report, "two bare processes, OpenCV decode + plain bilinear + standardize", feed, rates["bilinear"], 1.0)
    _line(report, "one process, a Pillow loop", feed[EVERY - 1 :: EVERY], rates["pillow"], 4.0)
    _line(report, "at 64 MiB, batches of 32, against unlimited", rates["64MiB"], feed, 0.95)
    report.line("under a consumer busy in pure Python, against an idle one", ratio(rates["busy"], feed[EVERY - 1 :: EVERY]))
    report.line("pictures a second, median", round(sorted(feed)[len(feed) // 2]))


def _jobs(snapshot: Any, treatment: Any, archive: Path) -> dict[str, list[dict[str, Any]]]:
    scale, offset = treatment.value_line()
    job = job_of(snapshot, "train", treatment, workers=2, memory_limit=None, rendered=False)
    base = {"feed": job.to_plain()}
    limited = {"kind": "feed", "feed": replace(job, memory_limit=64 << 20).to_plain()}
    hand = {"kind": "by hand", "folder": str(archive), "side": SIDE, "scale": scale.tolist(), "offset": offset.tolist()}
    return {
        "feed": [base | {"kind": "feed"}],
        "same": [base | {"kind": "bare", "part": part} for part in range(2)],
        "area": [hand | {"how": "area", "part": part} for part in range(2)],
        "bilinear": [hand | {"how": "bilinear", "part": part} for part in range(2)],
        "pillow": [hand | {"how": "pillow"}],
        "64MiB": [limited],
        "busy": [base | {"kind": "busy"}],
    }


def rates_of(jobs: dict[str, list[dict[str, Any]]], slices: int, seconds: float) -> dict[str, list[float]]:
    """Pictures a second of each group of processes together, slice by slice; the first slice is not counted."""
    children = {name: [Child(job, "bench.children") for job in group] for name, group in jobs.items()}
    try:
        for group in children.values():
            for child in group:
                child.wait_until_ready(120)
        rates: dict[str, list[float]] = {name: [] for name in jobs}
        for number in range(slices + 1):
            for name, group in children.items():
                if name in SELDOM and number % EVERY:
                    continue
                for child in group:
                    child.begin(seconds)
                rates[name].append(sum(child.finish(seconds).rate for child in group))
        return {name: each[1:] for name, each in rates.items()}
    finally:
        for group in children.values():
            for child in group:
                child.close()


def _line(report: Report, what: str, numbers: list[float], baseline: list[float], bar: float) -> None:
    found = ratio(numbers, baseline)
    report.line(what, found, f">= {bar:g}", found.median >= bar)
