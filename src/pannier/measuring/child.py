"""The program that a trial or a ceiling runs in: a process of its own, told what to do by lines of JSON.

The first line is the job; then {"run": seconds} is answered with {"pictures": n, "seconds": s}, until the input ends.
"""

from __future__ import annotations

import faulthandler
import json
import os
import signal
import sys
import time
from collections.abc import Callable, Iterator
from typing import Any, Protocol

from pannier.measuring.memory import (
    enforce_limit,
    fix_map_threshold,
    release_free_memory,
    working_bytes,
    writable_bytes,
)

Job = dict[str, Any]

MANY_EPOCHS = 1_000_000


class Runner(Protocol):
    """Work that can be run for a while and stopped in between."""

    def run(self, seconds: float) -> tuple[int, float]: ...


def serve(make_runner: Callable[[Job], Runner]) -> None:
    """Speaks the protocol on standard input and output, with whatever runner the job asks for."""
    faulthandler.register(signal.SIGUSR1, all_threads=True)
    answers = os.fdopen(os.dup(1), "w")
    os.dup2(2, 1)

    def answer(message: Job) -> None:
        answers.write(json.dumps(message) + "\n")
        answers.flush()

    job = json.loads(sys.stdin.readline())
    try:
        runner = make_runner(job)
        answer({"ready": True, "level": getattr(runner, "level", working_bytes())})
        for line in sys.stdin:
            pictures, seconds = runner.run(json.loads(line)["run"])
            answer({"pictures": pictures, "seconds": seconds})
    except BaseException as error:
        answer({"error": type(error).__name__, "message": str(error)})
    else:
        getattr(runner, "end", lambda: None)()
    answers.flush()
    os._exit(0)  # the parent has its answer; nothing of this process is wanted any more


class FeedRunner:
    """A feed under a limit that the system enforces from the moment its threads and buffers stand."""

    def __init__(self, job: Job) -> None:
        import pannier
        from pannier.feed.engine import STACK_BYTES

        snapshot, treatment, positions = _opened(job)
        _warm_up(snapshot, treatment, positions)
        limit = job["memory_limit"]
        release_free_memory()
        self.level, data_level = working_bytes(), writable_bytes()
        self._feed = pannier.Feed(
            snapshot,
            job["split"],
            treatment,
            batch_size=job["batch_size"],
            seed=job["seed"],
            subset=job.get("subset"),
            workers=job["workers"],
            memory_limit=limit,
            shuffle=True,
            augment=job.get("augment"),
            rendered=False,  # what is measured is the work, against the same work with nothing around it
        )
        plan = self._feed.plan
        # batches that were made while nobody measured, and the one that is begun after them; where lanes lag behind
        # workers, as many again until all is steady
        self._untimed = (plan.ahead + 1) * (2 if plan.heavy_lanes else 1) + 1
        self._batches = self._endless()
        next(self._batches)
        if limit is not None:
            stacks = (plan.workers + plan.heavy_lanes + 1) * (STACK_BYTES + (64 << 10))
            enforce_limit(limit, data_level + stacks)

    def _endless(self) -> Iterator[int]:
        for epoch in self._feed.epochs(MANY_EPOCHS):  # so work goes on across their borders, as in training
            for batch in epoch:
                size = len(batch)
                del batch
                yield size

    def end(self) -> None:
        """Leaves no lease behind; threads end with the process."""
        if self._feed._lease is not None:
            self._feed._lease.end()

    def run(self, seconds: float, *, settle: bool = True) -> tuple[int, float]:
        for _ in range(self._untimed):
            next(self._batches)
        pictures, started = 0, time.perf_counter()
        while (passed := time.perf_counter() - started) < seconds:
            pictures += next(self._batches)
        if settle:
            wait_until_idle()  # what is made ahead must not run into the next one's turn
        return pictures, passed


def wait_until_idle() -> None:
    """Returns when this process has stopped computing."""
    before = time.process_time()
    while True:
        time.sleep(0.03)
        now = time.process_time()
        if now - before < 0.003:
            return
        before = now


class BareRunner:
    """The same work with no pipeline around it: read, decode, prepare, one picture after another, in one process."""

    def __init__(self, job: Job) -> None:
        import numpy as np

        from pannier.columns import digests_of
        from pannier.feed.feed import AUGMENTED_SPLIT
        from pannier.images.chance import Variation, variations
        from pannier.images.facts import Facts
        from pannier.images.placement import Box
        from pannier.images.prepare import Preparation
        from pannier.store.canvases import boxes_of
        from pannier.store.shards import shard_path

        snapshot, treatment, positions = _opened(job)
        _warm_up(snapshot, treatment, positions)
        table = snapshot.manifest.take(positions)
        places = snapshot.store.index.find(digests_of(table.column("sha256")))
        handles = [os.open(shard_path(snapshot.store.directory, shard), os.O_RDONLY) for shard in places.shards]
        facts = map(Facts._make, zip(*(table.column(name).to_pylist() for name in Facts._fields), strict=True))
        places_of = zip(places.segment.tolist(), places.offset.tolist(), places.length.tolist(), strict=True)
        varied: list[Variation | None] = [None] * len(positions)
        if treatment.varies and job.get("augment", job["split"] == AUGMENTED_SPLIT):
            varied = [*variations(treatment, snapshot.manifest.hashes[positions], job["seed"], 0)]
        boxes: list[Box | None] = [None] * len(positions)
        if treatment.box is not None:
            boxes = boxes_of(snapshot.manifest, positions, treatment)
        self._work = [
            (handles[segment], offset, length, *how)
            for (segment, offset, length), *how in zip(places_of, facts, varied, boxes, strict=True)
        ]
        self._preparation = Preparation(treatment)
        self._out = np.empty((job["batch_size"], *treatment.shape), treatment.dtype)
        self._at = 0

    def run(self, seconds: float) -> tuple[int, float]:
        pictures, started = 0, time.perf_counter()
        while (passed := time.perf_counter() - started) < seconds:
            for _ in range(8):
                handle, offset, length, facts, variation, box = self._work[self._at % len(self._work)]
                data = os.pread(handle, length, offset)
                self._preparation.into(data, facts, self._out[self._at % len(self._out)], variation, box)
                self._at += 1
            pictures += 8
        return pictures, passed


def _opened(job: Job) -> tuple[Any, Any, Any]:
    """Snapshot, treatment and the shuffled rows of the split."""
    import pannier
    from pannier.feed.order import shuffled

    fix_map_threshold()
    snapshot = pannier.open_store(job["store"]).snapshot(job["snapshot"])
    treatment = pannier.Treatment(**job["treatment"])
    rows = snapshot.subset_of(job["split"], job.get("subset"), job["seed"])
    rows = rows[shuffled(snapshot.manifest.hashes[rows], job["seed"] + job.get("part", 0), 0)]
    return snapshot, treatment, rows[: job.get("records", 4096)]


def _warm_up(snapshot: Any, treatment: Any, rows: Any) -> None:
    """Loads every decoder and kernel that the split will need: one picture, the smallest, of each format and mode."""
    from pannier.images.prepare import warm_up

    columns = snapshot.manifest.take(rows).select(["format", "mode", "byte_count"]).to_pydict()
    smallest: dict[tuple[str, str], tuple[int, int]] = {}
    for row, form, mode, size in zip(rows.tolist(), *columns.values(), strict=True):
        smallest[form, mode] = min(smallest.get((form, mode), (size, row)), (size, row))
    for _, row in smallest.values():
        warm_up(treatment, snapshot.record(row).bytes())


def make_runner(job: Job) -> Runner:
    return FeedRunner(job) if job["kind"] == "feed" else BareRunner(job)


if __name__ == "__main__":
    serve(make_runner)
