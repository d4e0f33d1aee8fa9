"""Packing by two workers of a local cluster, processes of their own, against two threads of this one."""

from __future__ import annotations

import tempfile
import time
from pathlib import Path
from typing import Any

import psutil

import pannier
from bench.data import write_archive
from bench.slices import Report, ratio

PICTURES, ROUNDS = 10_000, 3
IDLE_SECONDS = 5.0


def run(report: Report) -> None:
    try:
        from distributed import Client, LocalCluster
    except ImportError:
        report.title("Packing by a cluster: distributed is not here")
        return
    report.title(f"Packing {PICTURES:,} pictures of 500 x 375 by two workers of a local cluster")
    with tempfile.TemporaryDirectory() as folder:
        archive = write_archive(Path(folder) / "archive", PICTURES, 375, 500, 84)
        with (
            LocalCluster(n_workers=2, threads_per_worker=1, dashboard_address=None) as cluster,
            Client(cluster, set_as_default=False) as client,
        ):
            executor = client.get_executor(pure=False, retries=3)
            pannier.create(Path(folder) / "warm.store").pack(archive, include="class0/00000*", executor=executor)
            seconds: dict[str, list[float]] = {"here": [], "there": []}
            calling: dict[str, float] = {}
            idle = _idle_share()
            for number in range(ROUNDS):
                for where, how in (("here", {"workers": 2}), ("there", {"executor": executor})):
                    started, cpu, own = time.perf_counter(), time.process_time(), time.thread_time()
                    pannier.create(Path(folder) / f"{number}-{where}.store").pack(archive, **how)
                    seconds[where].append(time.perf_counter() - started)
                    cpu, calling[where] = time.process_time() - cpu, time.thread_time() - own
            peaks = [_peak(worker.pid) for worker in cluster.workers.values()]
    rate = ratio(seconds["here"], seconds["there"])
    report.line("rate of two workers, against two threads", rate, ">= 0.9", rate.median >= 0.9)
    # planning and the commit are there at home too; handing pieces out is not
    each = (cpu - calling["here"] - idle * seconds["there"][-1]) / PICTURES * 1e6
    what = "scheduling, ms per 1,000, beyond an idle cluster's and the same here"
    report.line(what, f"{each:.0f}", "<= 100", each <= 100)
    report.line("what the calling thread takes here, ms of processor per 1,000", f"{calling['here'] / PICTURES * 1e6:.0f}")
    most = max(peaks)
    report.line("memory of a worker at its most, MiB", f"{most / 2**20:.0f}", "<= 300", most <= 300 << 20)


def _idle_share() -> float:
    """Processor seconds a second that this process takes for a cluster that has nothing to do: scheduler and client."""
    cpu = time.process_time()
    time.sleep(IDLE_SECONDS)
    return (time.process_time() - cpu) / IDLE_SECONDS


def _peak(pid: int | None) -> int:
    """The most memory that a process had, as the system tells it."""
    assert pid is not None
    status: Any = Path(f"/proc/{psutil.Process(pid).pid}/status").read_text()
    return int(status.partition("VmHWM:")[2].split()[0]) << 10
