"""The program that a trial or a ceiling runs in: a process of its own, told what to do by lines of JSON.

The first line is the job; then {"run": seconds} is answered with {"pictures": n, "seconds": s}, until the input ends.
"""

from __future__ import annotations

import faulthandler
import json
import os
import signal
import sys
import threading
import time
from collections.abc import Callable, Collection, Iterator
from dataclasses import replace
from itertools import islice
from typing import Any, Protocol

import numpy as np

from pannier import memory
from pannier.feeding.feed import Feed
from pannier.feeding.job import FeedJob, work_of
from pannier.feeding.lookup import Lookup
from pannier.feeding.warming import warm_up_for
from pannier.images.prepare import Preparation
from pannier.storage.layout import shard_file
from pannier.store.state import State

Job = dict[str, Any]

MANY_EPOCHS = 1_000_000
STACK_BYTES = 1 << 20


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
        level, engines = getattr(runner, "level", memory.working_bytes()), getattr(runner, "engines", {})
        answer({"ready": True, "level": level, "engines": engines})
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
        feed_job, state = _opened(job)
        warm_up_for([work_of(replace(feed_job, memory_limit=None), state)])
        limit = feed_job.limit_bytes
        memory.release_free_memory()
        self.level, data_level = memory.working_bytes(), memory.writable_bytes()
        self._feed = Feed(feed_job, state)
        plan = self._feed.plan
        # batches that were made while nobody measured, and the one that is begun after them; where lanes lag behind
        # workers, as many again until all is steady
        self._untimed = (plan.ahead + 1) * (2 if plan.heavy_lanes else 1) + 1
        self._batches = self._endless()
        next(self._batches)
        if limit is not None:
            stacks = (plan.workers + plan.heavy_lanes + 2) * (STACK_BYTES + (64 << 10))
            memory.enforce_limit(limit, data_level + stacks)

    def _endless(self) -> Iterator[int]:
        for epoch in self._feed.epochs(MANY_EPOCHS):  # so work goes on across their borders, as in training
            for batch in epoch:
                size = len(batch)
                del batch
                yield size

    @property
    def engines(self) -> dict[int, int]:
        """Processes that work for the feed: by id, the bytes that each held before."""
        return self._feed.engines

    def end(self) -> None:
        """Leaves no lease behind; threads end with the process."""
        self._feed.end_lease()

    def run(self, seconds: float, *, settle: bool = True) -> tuple[int, float]:
        for _ in range(self._untimed):
            next(self._batches)
        pictures, started = 0, time.perf_counter()
        while (passed := time.perf_counter() - started) < seconds:
            pictures += next(self._batches)
        if settle:
            wait_until_idle(self.engines)  # what is made ahead must not run into the next one's turn
        return pictures, passed


def wait_until_idle(others: Collection[int] = ()) -> None:
    """Returns when this process, and those others, have stopped computing."""

    def computed() -> float:
        return time.process_time() + sum(map(memory.processor_seconds, others))

    before = computed()
    while True:
        time.sleep(0.03)
        now = computed()
        if now - before < 0.003:
            return
        before = now


class BareRunner:
    """The same work with no pipeline around it: read, decode, prepare, one picture after another, in one process."""

    def __init__(self, job: Job) -> None:
        feed_job, state = _opened(job)
        work = work_of(replace(feed_job, seed=feed_job.seed + job.get("part", 0), memory_limit=None), state)
        warm_up_for([work])
        assert feed_job.treatment is not None
        batches = Lookup(work).batches(0, 1)
        self._items = list(islice((item for batch in batches for item in batch.items), job.get("records", 4096)))
        self._reader = state.storage.reader()
        self._room = memoryview(bytearray(max(item.place.length for item in self._items if item.place)))
        self._preparation = Preparation(feed_job.treatment)
        self._out = np.empty((feed_job.batch_size, *feed_job.treatment.shape), feed_job.treatment.dtype)
        self._at = 0

    def run(self, seconds: float) -> tuple[int, float]:
        pictures, started = 0, time.perf_counter()
        while (passed := time.perf_counter() - started) < seconds:
            for _ in range(8):
                item = self._items[self._at % len(self._items)]
                assert item.place is not None
                assert item.facts is not None
                data = self._room[: item.place.length]
                self._reader.read_into(shard_file(item.place.shard), item.place.offset, data)
                out = self._out[self._at % len(self._out)]
                self._preparation.into(data, item.facts, out, item.variation, item.box)
                self._at += 1
            pictures += 8
        return pictures, passed


def _opened(job: Job) -> tuple[FeedJob, State]:
    memory.fix_map_threshold()
    threading.stack_size(STACK_BYTES)  # this process is our own; the system counts whole stacks against a limit
    feed_job = FeedJob.from_plain(job["feed"])
    return feed_job, feed_job.open()


def make_runner(job: Job) -> Runner:
    return FeedRunner(job) if job["kind"] == "feed" else BareRunner(job)


if __name__ == "__main__":
    serve(make_runner)
