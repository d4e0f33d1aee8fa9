"""An engine in a process of its own: beside an idle consumer, beside one busy in Python, and until it is ready."""

from __future__ import annotations

import subprocess
import sys
import tempfile
from dataclasses import replace
from pathlib import Path
from typing import Any

import pannier
from bench.data import write_archive
from bench.feed import rates_of
from bench.pack import write_small
from bench.slices import Report, alternate, ratio
from pannier.feeding.job import job_of

SLICES = 24
SECONDS = 0.5


def run(report: Report) -> None:
    report.title("Engines in processes of their own, two cores, workers as by default; unlike feeds in alternating slices")
    with tempfile.TemporaryDirectory() as folder:
        large = write_archive(Path(folder) / "large", 600)
        small = write_small(Path(folder) / "small", 4_000)
        for what, archive, side in (("500 x 375 to 224 x 224", large, 224), ("24 x 32 to 24 x 24", small, 24)):
            store = pannier.create(Path(folder) / f"{side}.store")
            snapshot = store.pack(archive, shares={"train": 100}, near=None).snapshot
            _feeds(report, what, snapshot, pannier.Treatment(side))
        _start(report, store)


def _feeds(report: Report, what: str, snapshot: Any, treatment: Any) -> None:
    job = job_of(snapshot, "train", treatment, memory_limit=None, rendered=False)
    threads, process = ({"feed": replace(job, processes=count).to_plain()} for count in (0, 1))
    jobs = {
        "threads": [threads | {"kind": "feed"}],
        "process": [process | {"kind": "feed"}],
        "busy threads": [threads | {"kind": "busy"}],
        "busy process": [process | {"kind": "busy"}],
        "left": [threads | {"kind": "bare"}, {"kind": "spin"}],
    }
    rates = rates_of(jobs, SLICES, SECONDS)
    found = ratio(rates["process"], rates["threads"])
    report.line(f"{what}: one process, against threads, idle consumer", found, ">= 0.95", found.median >= 0.95)
    found = ratio(rates["busy process"], rates["left"])
    report.line(
        "a Python thread spinning beside it, against what the other core can do", found, ">= 0.9", found.median >= 0.9
    )
    report.line("the same by threads", ratio(rates["busy threads"], rates["left"]))
    report.line("pictures a second, idle, by a process; median", round(sorted(rates["process"])[SLICES // 2]))


def _start(report: Report, store: Any) -> None:
    """From opening a snapshot until an engine waits for its first batch to be asked for."""
    address = str(store.path)

    def numpy() -> None:
        subprocess.run([sys.executable, "-c", "import numpy"], check=True)

    def ready() -> None:
        with pannier.open(address).feed("train", pannier.Treatment(24), processes=1) as feed:
            feed._shared.given_to(feed._hold)

    times = alternate({"numpy": numpy, "ready": ready}, 12)
    found = ratio(times["ready"], times["numpy"])
    report.line("an engine ready, against `import numpy` in a process", found, "<= 6", found.median <= 6)
