"""Feeds of PNG and WebP, and of large JPEG, against bare processes that decode them whole."""

from __future__ import annotations

import tempfile
from pathlib import Path
from typing import Any

import pannier
from bench.data import write_archive
from bench.feed import rates_of
from bench.slices import Report, ratio
from pannier.feeding.job import job_of

SIDE = 224
# ending, height, width, how many, the bar
SETS = ((".png", 375, 500, 300, 1.5), (".webp", 375, 500, 300, 1.15), (".jpg", 3000, 4000, 24, 3.0))
SLICES, SECONDS = 24, 0.5


def run(report: Report) -> None:
    report.title(f"Feeding to {SIDE} x {SIDE} standardized, against two bare processes of OpenCV decode + area")
    for ending, height, width, count, bar in SETS:
        with tempfile.TemporaryDirectory() as folder:
            archive = write_archive(Path(folder) / "archive", count, height, width, ending=ending)
            store = pannier.create(Path(folder) / "s.store")
            snapshot = store.pack(archive, shares={"train": 100}, near=None).snapshot
            treatment = pannier.Treatment(SIDE, values="standard", mean=[0.48, 0.46, 0.41], std=[0.23, 0.22, 0.225])
            job = job_of(snapshot, "train", treatment, workers=2, batch_size=8, memory_limit=None, rendered=False)
            scale, offset = treatment.value_line()
            hand: dict[str, Any] = {"kind": "by hand", "how": "area", "folder": str(archive), "side": SIDE}
            hand |= {"scale": scale.tolist(), "offset": offset.tolist()}
            jobs = {"feed": [{"kind": "feed", "feed": job.to_plain()}], "hand": [hand | {"part": i} for i in range(2)]}
            rates = rates_of(jobs, SLICES, SECONDS)
        found = ratio(rates["feed"], rates["hand"])
        report.line(f"{ending[1:]} of {width} x {height}", found, f">= {bar:g}", found.median >= bar)
