"""A training step on one core beside a feed on the other, against the slower of the two; what Python takes of a picture,
and what the meter takes."""

from __future__ import annotations

import tempfile
import time
import timeit
from collections.abc import Callable
from pathlib import Path
from typing import Any
from unittest import mock

import numpy as np

import pannier
from bench.data import write_archive
from bench.slices import Report, alternate, ratio
from pannier.feeding import hand

SIDE, BATCH, PICTURES = 96, 32, 320
# filters of the convolution: so many that a step takes longer than its batch does by one worker
FILTERS = 6


def run(report: Report) -> None:
    report.title(f"Beside a training step: a convolution of {FILTERS} filters in NumPy, {SIDE} x {SIDE}, two cores")
    with tempfile.TemporaryDirectory() as folder:
        archive = write_archive(Path(folder) / "archive", PICTURES)
        snapshot = pannier.create(Path(folder) / "s.store").pack(archive, shares={"train": 100}, near=None).snapshot
        treatment = pannier.Treatment(SIDE, values="signed")
        for processes in (0, 1):
            with snapshot.feed("train", treatment, workers=1, processes=processes, rendered=False) as feed:
                _beside(report, feed, "a process of its own" if processes else "threads")
        _interpreter(report, snapshot, treatment)
        _metered(report, snapshot)


def _beside(report: Report, feed: pannier.Feed, what: str) -> None:
    weights = np.random.default_rng(0).normal(0, 0.1, (FILTERS, 3 * 9)).astype(np.float32)
    ready = np.zeros((BATCH, 3, SIDE, SIDE), np.float32)

    def together() -> None:
        for images, _ in feed:
            step(images, weights)

    def fed() -> None:
        for each in feed:
            del each

    def trained() -> None:
        for _ in range(PICTURES // BATCH):
            step(ready, weights)

    times = alternate({"together": together, "fed": fed, "trained": trained}, 8)
    slower = [max(pair) for pair in zip(times["fed"], times["trained"], strict=True)]
    found = ratio(times["together"], slower)
    report.line(f"an epoch beside it by {what}, against the slower of the two alone", found, "<= 1.1", found.median <= 1.1)


def step(images: Any, weights: Any) -> float:
    """A convolution of 3 x 3 in plain sums, on one core, and the gradient of its mean square by its weights."""
    tall, wide, total = images.shape[2] - 2, images.shape[3] - 2, 0.0
    for own in weights:
        made = np.zeros((len(images), tall, wide), np.float32)
        for at, weight in enumerate(own):
            channel, down, across = at // 9, at % 9 // 3, at % 3
            made += weight * images[:, channel, down : down + tall, across : across + wide]
        np.maximum(made, 0, out=made)
        own -= 1e-6 * float(made.mean())
        total += float((made * made).mean())
    return total


def _interpreter(report: Report, snapshot: pannier.Snapshot, treatment: pannier.Treatment) -> None:
    """Processor time of a feed by one worker, less what reading, decoding and preparing take: what its Python costs."""
    for what, rendered, bar in (("unrendered", False, 60), ("rendered uint8", True, 12)):
        through = treatment if not rendered else pannier.Treatment(SIDE, values="raw", dtype="uint8")
        if rendered:
            snapshot.render("train", through)
        shares, totals = [], []
        with snapshot.feed("train", through, workers=1, rendered=rendered) as feed:
            for _ in feed:
                pass
            for _ in range(8):
                before, computed = feed._hold.stages, time.process_time()
                for _ in range(4):
                    for each in feed:
                        del each
                computed, after = time.process_time() - computed, feed._hold.stages
                inside, whole, stalled = sum(after[:3]) - sum(before[:3]), after[3] - before[3], after[4] - before[4]
                shares.append(max(0.0, computed - inside * (1 - stalled / whole)) / (4 * PICTURES) * 1e6)
                totals.append(computed / (4 * PICTURES) * 1e6)
        own = float(np.median(shares))
        whole = f"{own:.1f} of {np.median(totals):.1f}"
        report.line(f"its own Python, {what}, microseconds a picture", whole, f"<= {bar}", own <= bar)


def _metered(report: Report, snapshot: pannier.Snapshot) -> None:
    """What telling the time, counting and looking for memory take of an epoch of pictures that cost least."""
    asked = dict.fromkeys(("perf_counter", "thread_time"), 0.0)
    each = {name: timeit.timeit(getattr(time, name), number=100_000) / 100_000 for name in asked}

    def counted(name: str) -> Callable[[], float]:
        clock = getattr(time, name)

        def ask() -> float:
            asked[name] += each[name]
            return float(clock())

        return ask

    with snapshot.feed("train", pannier.Treatment(SIDE, values="raw", dtype="uint8"), workers=1, rendered=True) as feed:
        with mock.patch.multiple(hand, **{name: counted(name) for name in asked}):
            clocks = sum(len(batch) for batch in feed) / sum(asked.values())  # pictures a second of asking
        tick, ticking = feed._count.tick, 0.0

        def timed(metered: Any) -> None:
            nonlocal ticking
            started = time.perf_counter()
            tick(metered)
            ticking += time.perf_counter() - started

        feed._count.tick = timed  # type: ignore[method-assign]
        started, pictures = time.perf_counter(), 0
        while (passed := time.perf_counter() - started) < 4:
            pictures += sum(len(batch) for batch in feed)
    share = (ticking + pictures / clocks) / passed
    report.line("what the meter takes of the time, rendered uint8", f"{share:.2%}", "< 1 %", share < 0.01)
