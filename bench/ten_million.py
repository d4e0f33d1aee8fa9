"""Ten million records on one machine: what each operation takes, in a process of its own; a made-up manifest."""

from __future__ import annotations

import json
import subprocess
import sys
import tempfile
from pathlib import Path
from typing import Any

import pannier
from bench.data import write_archive
from bench.million import bytes_in, fill_a_million
from bench.slices import Report

RECORDS = 10_000_000
MOST_BYTES = 1 << 30
CHANGES, SNAPSHOTS = 100, 20

PROGRAM = """
import json, sys, time
import numpy as np
import pannier
from pannier.memory import Sampler, working_bytes

path, folder = sys.argv[1:3]
store = pannier.open_store(path)
rng = np.random.default_rng(int(sys.argv[3]))
level, sampler, started = working_bytes(), Sampler(0, 0.005), time.perf_counter()
OPERATION
seconds = time.perf_counter() - started
sampler.close()
print(json.dumps({"seconds": seconds, "bytes": sampler.peak_bytes - level}))
"""
CHANGE = f"""
snapshot = store.snapshot()
rows = np.sort(rng.choice(len(snapshot), {CHANGES}, replace=False)).tolist()
keys = [snapshot.record(row).key for row in rows]
started = time.perf_counter()
store.change(from_=[{{"key": key, "inspected": int(sys.argv[3])}} for key in keys])
"""
# the same picture is in ten thousand of these records: with other labels than one that is changed they are all in doubt
RELABEL = CHANGE.replace('"inspected": int(sys.argv[3])', '"label": "class00"')
OPERATIONS = {
    "a pack of 1,000 pictures more": "store.pack(folder + '/more', prefix='more', unlabeled='keep')",
    f"a change of {CHANGES} records": CHANGE,
    f"a change of {CHANGES} labels, with which a million others are in doubt": RELABEL,
    "comparing with the snapshot before": "now = store.snapshot(); "
    "pannier.compare(store.snapshot(now.parents[0]), now).counts",
    "history": "assert len(store.history()) > 2",
    "the history of a record": "store.history(key=store.snapshot().record(5).key)",
    "SQL: count by label": "store.snapshot().query('SELECT label, count(*) FROM records GROUP BY label')",
    "verify, structure alone": "assert not [each for each in store.verify(quick=True) if each.is_damage]",
    "tidy, looking": "store.tidy(preview=True)",
    "labels as a table, to Parquet": "import contextlib\n"
    "from pannier.cli.entry import main\n"
    "with contextlib.suppress(SystemExit): main(['export', path, '--table', folder + '/labels.parquet'])",
}


def run(report: Report) -> None:
    report.title(f"{RECORDS:,} records: seconds, and the working memory it takes beyond a process that has opened the store")
    with tempfile.TemporaryDirectory() as folder:
        store = pannier.create(Path(folder) / "s.store")
        fill_a_million(store, Path(folder), RECORDS)
        write_archive(Path(folder) / "more", 1_000, 120, 160, 5)
        for number, (name, operation) in enumerate(OPERATIONS.items()):
            told = _measured(folder, operation, number)
            size = told["bytes"]
            value = f"{told['seconds']:.1f} s, {size >> 20:,} MiB"
            report.line(f"{name} ({told['seconds'] / RECORDS * 1e9:.0f} ns a record)", value, "<= 1 GiB", size <= MOST_BYTES)
        before, seconds = bytes_in(store.path), 0.0
        for number in range(SNAPSHOTS):
            seconds += _measured(folder, CHANGE, 100 + number)["seconds"] / SNAPSHOTS
        each = (bytes_in(store.path) - before) / SNAPSHOTS
        report.line(f"a snapshot of {CHANGES} changes, mean of {SNAPSHOTS}, seconds", f"{seconds:.2f}", "<= 2", seconds <= 2)
        report.line("bytes that it adds, mean", f"{each:,.0f}", "<= 4,000,000", each <= 4_000_000)


def _measured(folder: str, operation: str, seed: int) -> dict[str, Any]:
    program = PROGRAM.replace("OPERATION", operation)
    command = [sys.executable, "-c", program, str(Path(folder) / "s.store"), folder, str(seed)]
    found: dict[str, Any] = json.loads(
        subprocess.run(command, capture_output=True, text=True, check=True).stdout.splitlines()[-1]
    )
    return found
