"""Versions of a million records: names, histories, comparisons; and export and verify against bare copying and hashing."""

from __future__ import annotations

import hashlib
import os
import shutil
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import numpy as np

import pannier
from bench.data import write_archive
from bench.million import CHANGES, RECORDS, changes_of, fill_a_million, median_seconds
from bench.slices import Report, alternate, ratio
from pannier.machine import usable_cores
from pannier.packing.commit import Proposal, commit
from pannier.units import show_bytes

SNAPSHOTS = 1_000
PICTURES = 3_000
SLICES = 12


def run(report: Report) -> None:
    with tempfile.TemporaryDirectory() as folder:
        store = pannier.create(Path(folder) / "s.store")
        fill_a_million(store, Path(folder))
        _names_and_comparisons(report, store)
        _many_snapshots(report, store)
        _memory(report, store)
    with tempfile.TemporaryDirectory() as folder:
        _against_bare(report, Path(folder))


def _names_and_comparisons(report: Report, store: pannier.Store) -> None:
    report.title(f"versions of {RECORDS:,} records; medians")

    def first_row() -> None:
        snapshot = pannier.open(store.path)
        snapshot.record(len(snapshot) // 2)

    _seconds(report, "opening, seconds", lambda: pannier.open(store.path), 0.3)
    _seconds(report, "opening and a first row, seconds", first_row, 0.5)
    before = store.snapshot().id
    keys = store.snapshot().manifest.take(np.arange(0, RECORDS, RECORDS // CHANGES)[:CHANGES], ["key"]).column(0)
    rows = [{"key": key, "label": "class00"} for key in keys.to_pylist()]
    size = _bytes_in(store.path)
    started = time.perf_counter()
    changed = pannier.open_store(store.path).change(from_=rows).snapshot
    seconds = time.perf_counter() - started
    added = _bytes_in(store.path) - size
    report.line(f"a change of {CHANGES} scattered records by a table, seconds", f"{seconds:.2f}", "<= 1", seconds <= 1)
    report.line("bytes that it adds", f"{added:,}", "<= 1,000,000", added <= 1_000_000)
    sides = store.snapshot(before), store.snapshot(changed.id)
    _seconds(
        report, f"comparing two snapshots {CHANGES} changes apart, seconds", lambda: pannier.compare(*sides).counts, 0.5
    )
    names = iter(range(10_000))
    _seconds(report, "a new strand, seconds", lambda: store.start_strand(f"t{next(names)}"), 0.05 + 0.1)
    from pannier.versions.naming import add_tag, start_strand

    _seconds(report, "the same without opening the snapshot", lambda: start_strand(store, f"u{next(names)}"), 0.05)
    _seconds(report, "a new tag, seconds", lambda: add_tag(store, f"v{next(names)}"), 0.05)


def _many_snapshots(report: Report, store: pannier.Store) -> None:
    """A thousand snapshots of a hundred changes each, new bases among them."""
    rng = np.random.default_rng(1)
    size, started = _bytes_in(store.path), time.perf_counter()
    for _ in range(SNAPSHOTS):
        changes = changes_of(store.snapshot(), rng)
        commit(store, "main", lambda _, changes=changes: Proposal(changes))  # type: ignore[misc]
    seconds = (time.perf_counter() - started) / SNAPSHOTS
    added = (_bytes_in(store.path) - size) / SNAPSHOTS
    report.line(f"{SNAPSHOTS:,} snapshots of {CHANGES} changes: bytes each, new bases too", f"{added:,.0f}", "<= 3,000,000",
                added <= 3_000_000)  # fmt: skip
    report.line("seconds each", f"{seconds:.2f}")
    _seconds(report, f"history of {SNAPSHOTS:,} snapshots, seconds", store.history, 0.5)
    key = store.snapshot().record(5).key
    _seconds(report, "history of one record through them, seconds", lambda: store.history(key=key), None)


def _memory(report: Report, store: pannier.Store) -> None:
    """What each holds beyond what a process has that has opened the snapshot, in a process of its own."""
    other = store.path.with_name("other.store")
    work = {
        "compare": "pannier.compare(store.snapshot(ids[0]), store.snapshot(ids[-1])).counts",
        "history of a record": "store.history(key='class03/0000003.jpg')",
        "a query": "store.snapshot().query('SELECT label, count(*) FROM records GROUP BY label')",
        "tidy": "store.tidy(older_than=0)",
        "verify --quick": "pannier.verify(store, quick=True)",
        "export of the labels": f"write_label_table(snapshot, np.arange(len(snapshot)), {str(other) + '.csv'!r})",
    }
    for name, call in work.items():
        program = (
            "import numpy as np, pannier\n"
            "from pannier.memory import Sampler, release_free_memory, working_bytes\n"
            "from pannier.folders.label_table import write_label_table\n"
            f"store = pannier.open_store({str(store.path)!r})\n"
            "ids = [step.id for step in store.history()][:200]\n"
            "snapshot = store.snapshot()\nsnapshot.query('SELECT 1')\nrelease_free_memory()\n"
            f"level = working_bytes()\nsampler = Sampler(0)\n{call}\nsampler.close()\n"
            "print(max(0, sampler.peak_bytes - level))"
        )
        done = subprocess.run([sys.executable, "-c", program], capture_output=True, text=True, check=True)
        peak = int(done.stdout.split()[-1])
        report.line(f"working memory: {name}", show_bytes(peak), "<= 300 MiB", peak <= 300 << 20)


def _against_bare(report: Report, folder: Path) -> None:
    report.title(f"{PICTURES:,} pictures of about 54 KB, warm; {SLICES} alternating slices")
    archive = write_archive(folder / "archive", PICTURES)
    snapshot = pannier.create(folder / "s.store").pack(archive).snapshot
    count = iter(range(10_000))

    def export() -> None:
        snapshot.export(folder / f"out{next(count)}")

    def copy() -> None:
        shutil.copytree(archive, folder / f"out{next(count)}")

    times = alternate({"export": export, "copy": copy}, SLICES)
    for each in folder.glob("out*"):
        shutil.rmtree(each)
    share = ratio(times["copy"], times["export"])
    report.line("export against a plain copy of the files", share, ">= 0.8", share.median >= 0.8)
    shards = sorted((snapshot.store.path / "shards").iterdir())

    def bare() -> None:
        """Reads and hashes the same bytes with as many threads, in pieces of 4 MiB."""
        with ThreadPoolExecutor(usable_cores()) as pool:
            pieces = [(path, at) for path in shards for at in range(0, path.stat().st_size, 4 << 20)]
            list(pool.map(_hash_piece, pieces))

    times = alternate({"verify": lambda: pannier.verify(snapshot.store), "bare": bare}, SLICES)
    share = ratio(times["bare"], times["verify"])
    report.line("verify against reading and hashing bare", share, ">= 0.8", share.median >= 0.8)


def _hash_piece(piece: tuple[Path, int]) -> bytes:
    path, at = piece
    handle = os.open(path, os.O_RDONLY)
    try:
        return hashlib.sha256(os.pread(handle, 4 << 20, at)).digest()
    finally:
        os.close(handle)


def _seconds(report: Report, what: str, work: Callable[[], object], bar: float | None) -> None:
    seconds = median_seconds(work)
    report.line(what, f"{seconds:.3f}", f"<= {bar:g}" if bar else "", seconds <= bar if bar else None)


def _bytes_in(folder: Path) -> int:
    return sum(path.stat().st_size for path in folder.rglob("*") if path.is_file())
