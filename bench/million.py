"""A million records: opening, a small change, the first batch. A made-up manifest; the pictures are a thousand real ones."""

from __future__ import annotations

import tempfile
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa

import pannier
from bench.data import write_archive
from bench.slices import Report
from pannier.hashing import text_hash
from pannier.packing.commit import Proposal, commit
from pannier.store.manifest_files import REMOVED, SCHEMA

RECORDS, MANY = 1_000_000, 8_000_000
PICTURES = 1_000
CHANGES = 100
TIMES = 7


def run(report: Report) -> None:
    report.title(f"{RECORDS:,} records, libraries and kernels warm; median of {TIMES}")
    with tempfile.TemporaryDirectory() as folder:
        store = pannier.create(Path(folder) / "s.store")
        fill_a_million(store, Path(folder))
        treatment = pannier.Treatment(96)
        treatment(store.snapshot()[0].bytes())

        opening = median_seconds(lambda: pannier.open(store.path))
        report.line("opening, seconds", f"{opening:.2f}", "<= 0.5", opening <= 0.5)

        first, by_process = (
            float(np.median([_first_batch(store.path, treatment, each) for _ in range(TIMES)])) for each in (0, 1)
        )
        report.line("first batch after opening, seconds", f"{first:.2f}", "<= 0.1", first <= 0.1)
        report.line("the same by a process of its own, which starts first", f"{by_process:.2f}")
        position = _position_within(store.path, treatment)
        within = float(np.median([_first_batch(store.path, treatment, 0, position) for _ in range(TIMES)]))
        report.line("the same in the middle of an epoch, by a position", f"{within:.2f}", "<= 0.5", within <= 0.5)
        held = store.snapshot().feed("train", treatment, processes=0).plan.order_bytes / RECORDS
        report.line("what its order and plan hold, bytes a record", f"{held:.2f}", "<= 1", held <= 1)
        rng = np.random.default_rng(0)
        seconds, sizes = [], []
        for _ in range(TIMES):
            before = bytes_in(store.path)
            changes = changes_of(store.snapshot(), rng)
            opened = pannier.open_store(store.path)
            started = time.perf_counter()
            commit(opened, "main", lambda _, changes=changes: Proposal(changes))  # type: ignore[misc]
            seconds.append(time.perf_counter() - started)
            sizes.append(bytes_in(store.path) - before)
        change, size = float(np.median(seconds)), max(sizes)
        report.line(f"a snapshot of {CHANGES} changes, opening included, seconds", f"{change:.2f}", "<= 1", change <= 1)
        report.line("bytes that it adds, at most", f"{size:,}", "<= 1,000,000", size <= 1_000_000)
    with tempfile.TemporaryDirectory() as folder:
        store = pannier.create(Path(folder) / "s.store")
        fill_a_million(store, Path(folder), MANY)
        first = float(np.median([_first_batch(store.path, treatment, 0) for _ in range(TIMES)]))
        report.line(f"{MANY:,} records: first batch after opening, seconds", f"{first:.2f}", "<= 0.15", first <= 0.15)


def _first_batch(path: Path, treatment: pannier.Treatment, processes: int, position: Any = None) -> float:
    snapshot = pannier.open(path)
    started = time.perf_counter()
    with snapshot.feed("train", treatment, processes=processes, position=position) as feed:
        next(iter(feed))
        return time.perf_counter() - started


def _position_within(path: Path, treatment: pannier.Treatment) -> dict[str, Any]:
    """Of the middle of the first epoch: as after its first batch, but for the batch."""
    with pannier.open(path).feed("train", treatment, processes=0) as feed:
        next(iter(feed))
        return feed.position | {"batch": len(feed) // 2}


def fill_a_million(store: pannier.Store, folder: Path, count: int = RECORDS) -> None:
    archive = write_archive(folder / "archive", PICTURES, 120, 160)
    real = store.pack(archive, strand="real").snapshot.manifest.table()
    keys = [f"class{i % 100:02}/{i:07}.jpg" for i in range(count)]
    hashes = np.array([text_hash(key) for key in keys], np.uint64)
    rows = real.take(pa.array(np.arange(count) % PICTURES))
    labels = pa.DictionaryArray.from_arrays(
        pa.array(np.arange(count) % 100, pa.int32()), [f"class{i:02}" for i in range(100)]
    )
    splits = pa.DictionaryArray.from_arrays(pa.array((np.arange(count) % 10 == 0).astype(np.int32)), ["train", "val"])
    new: dict[str, Any] = {
        "hash": pa.array(hashes),
        "key": pa.array(keys, pa.large_string()),
        "label": labels,
        "split": splits,
    }
    columns = [new.get(field.name, rows.column(field.name)) for field in SCHEMA] + [pa.array(np.zeros(count, bool))]
    table = pa.table(columns, schema=pa.schema([*SCHEMA, REMOVED])).sort_by("hash")
    commit(store, "main", lambda _: Proposal(table))


def changes_of(snapshot: pannier.Snapshot, rng: np.random.Generator) -> Any:
    rows = np.sort(rng.choice(len(snapshot), CHANGES, replace=False))
    table = snapshot.manifest.take(rows).combine_chunks()
    label = pa.array(["class00"] * CHANGES).dictionary_encode()
    table = table.set_column(table.schema.get_field_index("label"), SCHEMA.field("label"), label)
    return table.append_column(REMOVED, pa.array([False] * CHANGES))


def median_seconds(work: Callable[[], object]) -> float:
    work()
    times = []
    for _ in range(TIMES):
        started = time.perf_counter()
        work()
        times.append(time.perf_counter() - started)
    return float(np.median(times))


def bytes_in(folder: Path) -> int:
    return sum(path.stat().st_size for path in folder.rglob("*") if path.is_file())
