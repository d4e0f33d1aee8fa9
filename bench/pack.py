"""Packing against reading, hashing and decoding the same files bare; and many small pictures: cost and memory flat."""

from __future__ import annotations

import hashlib
import io
import tempfile
import time
from concurrent.futures import ProcessPoolExecutor
from multiprocessing import get_context
from pathlib import Path

import numpy as np
from PIL import Image

import pannier
from bench.data import write_archive
from bench.slices import Report, alternate, ratio
from pannier.memory import Sampler, release_free_memory, working_bytes
from pannier.units import show_bytes

# so many that what a pack costs at all plays little part; with fewer the ratio is lower
PICTURES = 2_000
SMALL = 100_000


def bare(paths: list[str]) -> int:
    import simplejpeg

    total = 0
    for path in paths:
        with open(path, "rb") as file:
            data = file.read()
        total += len(hashlib.sha256(data).digest()) + len(simplejpeg.decode_jpeg(data))
    return total


def run(report: Report) -> None:
    report.title(
        f"Packing {PICTURES:,} JPEG of 500 x 375, two workers, against two bare processes that read, hash and decode"
    )
    with tempfile.TemporaryDirectory() as folder, ProcessPoolExecutor(2, mp_context=get_context("spawn")) as pool:
        archive = write_archive(Path(folder) / "archive", PICTURES)
        paths = sorted(map(str, archive.rglob("*.jpg")))
        number = iter(range(1000))

        def pack() -> None:
            pannier.create(Path(folder) / f"{next(number)}.store").pack(archive, workers=2)

        def bare_processes() -> None:
            list(pool.map(bare, [paths[0::2], paths[1::2]]))

        times = alternate({"pack": pack, "bare": bare_processes}, 12)
        share = ratio(times["bare"], times["pack"])
        report.line("speed against bare", share, ">= 0.8", share.median >= 0.8)
    _many_small(report)


def write_small(archive: Path, count: int) -> Path:
    """Fifty class folders of JPEG files of 24 x 32."""
    rng = np.random.default_rng(0)
    for i in range(count):
        path = archive / f"class{i % 50:02}" / f"{i:06}.jpg"
        path.parent.mkdir(parents=True, exist_ok=True)
        sink = io.BytesIO()
        pixels = rng.integers(0, 256, (3, 4, 3), dtype=np.uint8)
        Image.fromarray(pixels).resize((32, 24), Image.Resampling.BICUBIC).save(sink, "jpeg", quality=70)
        path.write_bytes(sink.getvalue())
    return archive


def _many_small(report: Report) -> None:
    report.title(f"Packing {SMALL:,} pictures of 24 x 32")
    with tempfile.TemporaryDirectory() as folder:
        archive = write_small(Path(folder) / "archive", SMALL)
        marks: list[float] = []

        def note(done: int, _: int) -> None:
            if done % (SMALL // 10) == 0:
                marks.append(time.process_time())  # cost, not speed: these machines drift

        release_free_memory()
        level = working_bytes()
        sampler = Sampler(0, 0.05)
        started = time.perf_counter()
        result = pannier.create(Path(folder) / "s.store").pack(
            archive, shares={"train": 80, "test": 20}, workers=2, progress=note
        )
        seconds = time.perf_counter() - started
        sampler.close()
        tenths = np.diff(marks)
        flat = float(np.median(tenths[-3:]) / np.median(tenths[:3]))
        report.line("cost of a picture, last third against first third", f"{flat:.2f}", "<= 1.2", flat <= 1.2)
        report.line("microseconds a picture, all of it", round(seconds / SMALL * 1e6))
        peak = sampler.peak_bytes - level
        report.line("working memory at most", show_bytes(peak), "<= 200 MiB", peak <= 200 << 20)
        assert len(result.snapshot) == SMALL
