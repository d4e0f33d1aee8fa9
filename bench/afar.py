"""Feeding from a bucket far away: a stand-in with a latency and a link as stated, on this machine's own two cores."""

from __future__ import annotations

import os
import tempfile
import time
import urllib.request
from pathlib import Path
from typing import Any

import psutil

import pannier
from bench.data import write_archive
from bench.slices import Report
from pannier.demo.bucket import bucket_server, environment
from pannier.machine import usable_cores

PICTURES, EPOCHS = 3000, 3
LATENCY, LINK = 0.05, "100MB"
IN_FLIGHT = 32
# the first seconds of an epoch, in which requests are under way and nothing has come, are not counted
WARM_SECONDS = 2.0


def run(report: Report) -> None:
    report.title(
        f"From a bucket, {LATENCY * 1000:.0f} ms away by a link of {LINK} a second; {PICTURES:,} pictures of 500 x 375"
    )
    with tempfile.TemporaryDirectory() as folder:
        root, treatment = Path(folder), pannier.Treatment(96)
        archive = write_archive(root / "archive", PICTURES, 375, 500, 84)
        local = pannier.create(root / "s.store").pack(archive, shares={"train": 100}, near=None).snapshot
        bytes_each = sum(record.byte_count for record in local) / PICTURES
        with bucket_server(root / "bucket") as endpoint:
            os.environ.update(environment(endpoint))
            urllib.request.urlopen(urllib.request.Request(f"{endpoint}/cloth", method="PUT")).close()
            local.store.copy("main", pannier.create("s3://cloth/s.store"))
        with bucket_server(root / "bucket", latency=LATENCY, bandwidth=LINK) as endpoint:
            os.environ.update(environment(endpoint))
            far = pannier.open("s3://cloth/s.store")
            bare, own = _rates(local, treatment, window=512)
            link = 100e6 / bytes_each
            taken, started = _of_server(), time.perf_counter()
            windowed, own_far = _rates(far, treatment, window=512)
            left = 1 - (_of_server() - taken) / (time.perf_counter() - started) / usable_cores()
            share = windowed / min(bare * left, link)
            what = "windows of 512: share of the lower of link and treatment, from the third second on"
            report.line(what, f"{share:.2f} ({windowed:,.0f} a second)", ">= 0.9", share >= 0.9)
            report.line("the treatment's: what the stand-in leaves of these cores, on which it runs too", f"{left:.2f}")
            added = (own_far - own) * 1e6
            report.line(
                "the same: processor time of fetching, microseconds a record", f"{added:,.0f}", "<= 400", added <= 400
            )
            shuffled, own_far = _rates(far, treatment)
            allowed = min(bare, link, IN_FLIGHT / LATENCY)
            share = shuffled / allowed
            what = f"whole shuffle: share of what {IN_FLIGHT} requests in flight allow"
            report.line(what, f"{share:.2f} ({shuffled:,.0f} a second)", ">= 0.9", share >= 0.9)
            added = (own_far - own) * 1e6
            report.line(
                "the same: processor time of fetching, microseconds a record", f"{added:,.0f}", "<= 400", added <= 400
            )
            kept = pannier.open("s3://cloth/s.store", cache=root / "cache")
            _rates(kept, treatment, epochs=1)
            near, own_near = _rates(kept, treatment)
            local_rate, own = _rates(local, treatment)
            report.line(
                "an epoch that is kept near by, against the disk",
                f"{near / local_rate:.2f}",
                ">= 0.95",
                near >= 0.95 * local_rate,
            )
            added = (own_near - own) * 1e6
            report.line("the same: processor time a record, microseconds", f"{added:,.0f}")


def _of_server() -> float:
    """Processor seconds of the processes that this one has started and that still run."""
    return sum(sum(process.cpu_times()[:2]) for process in psutil.Process().children(recursive=True))


def _rates(
    snapshot: pannier.Snapshot, treatment: pannier.Treatment, epochs: int = EPOCHS, **how: Any
) -> tuple[float, float]:
    """Pictures a second after the first seconds, and processor seconds of this process a picture."""
    with snapshot.feed("train", treatment, batch_size=32, **how) as feed:
        count = counted = 0
        started, own, since = time.perf_counter(), time.process_time(), 0.0
        for epoch in feed.epochs(epochs):
            for batch in epoch:
                count += len(batch)
                now = time.perf_counter()
                if now - started < WARM_SECONDS:
                    since, counted = now, count
        return (count - counted) / (time.perf_counter() - since), (time.process_time() - own) / count
