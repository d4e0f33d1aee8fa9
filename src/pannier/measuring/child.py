"""The program that a trial or a ceiling runs in: a process of its own, told what to do by lines of JSON.

The first line is the job; then {"run": seconds, ...} is answered with {"pictures": n, "seconds": s, ...}, until the input
ends.
"""

from __future__ import annotations

import faulthandler
import importlib
import json
import os
import signal
import sys
import threading
import time
from collections.abc import Callable, Collection, Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress
from dataclasses import replace
from itertools import islice
from pathlib import Path
from typing import Any, Protocol

import numpy as np

from pannier import memory
from pannier.feeding.feed import Feed
from pannier.feeding.job import FeedJob, work_of
from pannier.feeding.lookup import Item, Lookup
from pannier.feeding.warming import warm_up_for
from pannier.files import drop_cached
from pannier.images.prepare import Preparation
from pannier.images.tone import use_no_threads_of_opencv
from pannier.measuring.settings import Step
from pannier.storage.layout import shard_file
from pannier.storage.protocol import Far
from pannier.store.places import Place
from pannier.store.shards import shard_names
from pannier.store.state import State

Job = dict[str, Any]

MANY_EPOCHS = 1_000_000
STACK_BYTES = 1 << 20
# of the waits of one run, at most so many are told
MOST_WAITS = 2000


class Runner(Protocol):
    """Work that can be run for a while and stopped in between; `told` says how, besides."""

    def run(self, seconds: float, **told: Any) -> Job: ...


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
        answer({"ready": True, "level": level, "engines": engines, **getattr(runner, "about", {})})
        for line in sys.stdin:
            told = json.loads(line)
            answer(runner.run(told.pop("run"), **told))
        getattr(runner, "end", lambda: None)()
    except BaseException as error:
        with suppress(OSError):  # nobody hears
            answer({"error": type(error).__name__, "message": str(error)})
    os._exit(0)  # nothing is wanted any more; threads may be at work, under which the interpreter must not be taken down


class FeedRunner:
    """A feed under a limit that the system enforces from the moment its threads and buffers stand."""

    def __init__(self, job: Job) -> None:
        feed_job, state = _opened(job)
        warm_up_for([work_of(feed_job, state)])
        limit = feed_job.limit_bytes
        self._step = Step(*job["step"]) if job.get("step") else None
        self._files = _Files(state, feed_job, job.get("folder")) if job.get("cold") else None
        memory.release_free_memory()
        self.level, data_level = memory.working_bytes(), memory.writable_bytes()
        self._feed = Feed(feed_job, state)
        plan = self._feed.plan
        self.about = {"ahead": plan.ahead}
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

    def run(self, seconds: float, **told: Any) -> Job:
        dropped = self._files.drop() if self._files else None
        for _ in range(self._untimed):
            next(self._batches)
            self._consume()
        before, waits, pictures = self._feed._stages, list[float](), 0
        started = time.perf_counter()
        while (passed := time.perf_counter() - started) < seconds or not waits:
            asked = time.perf_counter()
            pictures += next(self._batches)
            waits.append(time.perf_counter() - asked)
            self._consume()
        stages = [after - first for after, first in zip(self._feed._stages, before, strict=True)]
        if told.get("settle", True):
            wait_until_idle(self.engines)  # what is made ahead must not run into the next one's turn
        every = -(-len(waits) // MOST_WAITS)
        about = {"waited": sum(waits), "waits": waits[::every], "stages": stages, "dropped": dropped}
        return {"pictures": pictures, "seconds": passed, **about}

    def _consume(self) -> None:
        step = self._step
        if step is None:
            return
        if not step.holds_lock:
            time.sleep(step.seconds)
            return
        until = time.perf_counter() + step.seconds
        while time.perf_counter() < until:
            pass


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


class _Files:
    """The files that a feed reads, dropped from the system's cache before each round."""

    def __init__(self, state: State, job: FeedJob, folder: str | None) -> None:
        rendering = work_of(replace(job, memory_limit=None), state).rendering
        self._storage = state.storage if rendering is None else rendering.storage
        self._paths = [path for path in Path(folder).rglob("*") if path.is_file()] if folder else []

    def drop(self) -> float | None:
        """The part of their pages that is not in memory any more; None where nobody can say."""
        shares = [self._storage.drop_cached(shard_file(name)) for name in shard_names(self._storage)]
        shares = [*map(drop_cached, self._paths)] if self._paths else shares
        known = [share for share in shares if share is not None]
        return sum(known) / len(known) if known else None


# of a store far away a bare process has so many times the records that are asked for at once
FAR_ROUNDS = 4


class BareRunner:
    """The same work with no pipeline around it, one picture after another, in one process.

    `what`: "treatment" reads, decodes and prepares; "reading" reads alone; "copying" copies a ready batch. From afar the
    treatment has what came before, and reading asks as often at once as the storage is worth.
    """

    def __init__(self, job: Job) -> None:
        feed_job, state = _opened(job)
        work = work_of(replace(feed_job, seed=feed_job.seed + job.get("part", 0), memory_limit=None), state)
        warm_up_for([work])
        assert feed_job.treatment is not None
        batches = Lookup(work).batches(0, 1)
        items = (item for batch in batches for item in Lookup.items_of(batch))
        self._items = list(islice(items, job.get("records", 4096)))
        self._files = _Files(state, feed_job, job.get("folder")) if job.get("cold") else None
        rendering = work.rendering
        self._rendered = rendering.storage if rendering and isinstance(rendering.storage, Far) else None
        self._reader, self._canvases = state.storage.reader(), rendering.storage.reader() if rendering else None
        self._canvas = np.empty(rendering.shape if rendering else (0, 0, 0), np.uint8)
        places = [item.canvas or item.place for item in self._items]
        self._room = memoryview(bytearray(max(place.length for place in places if place)))
        self._preparation = Preparation(feed_job.treatment)
        self._out = np.empty((feed_job.batch_size, *feed_job.treatment.shape), feed_job.treatment.dtype)
        self._ready = np.ones_like(self._out)
        self._at, self._far = 0, state.storage if isinstance(state.storage, Far) else None
        if self._far is not None:
            self._items = self._items[: FAR_ROUNDS * self._far.in_flight]
            self._pool = ThreadPoolExecutor(self._far.in_flight)
            self._held = [memoryview(bytearray(each)) for each in self._pool.map(self._asked, self._items)]

    def _asked(self, item: Item) -> memoryview:
        """A record's bytes, from afar. For any thread."""
        assert self._far is not None
        place, storage = item.canvas or item.place, self._far
        assert place is not None
        file = shard_file(place.shard)
        return (self._rendered if item.canvas and self._rendered else storage).range_of(file, place.offset, place.length)

    def run(self, seconds: float, what: str = "treatment", **_: Any) -> Job:
        if self._files:
            self._files.drop()
        one = {"treatment": self._treat, "reading": self._read, "copying": self._copy}[what]
        pictures, started = 0, time.perf_counter()
        while (passed := time.perf_counter() - started) < seconds:
            pictures += one()
        return {"pictures": pictures, "seconds": passed}

    def _next(self) -> tuple[Item, memoryview]:
        """The next record, and its bytes."""
        at = self._at % len(self._items)
        item = self._items[at]
        self._at += 1
        if self._far is not None:
            return item, self._held[at]
        if item.canvas is not None and self._canvases is not None:
            return item, self._bytes(self._canvases, item.canvas)
        assert item.place is not None
        return item, self._bytes(self._reader, item.place)

    def _bytes(self, reader: Any, place: Place) -> memoryview:
        data = self._room[: place.length]
        reader.read_into(shard_file(place.shard), place.offset, data)
        return data

    def _treat(self) -> int:
        for _ in range(8):
            out = self._out[self._at % len(self._out)]
            item, data = self._next()
            if item.canvas is not None:
                self._canvas.data.cast("B")[:] = data
                self._preparation.from_canvas(self._canvas, out, item.variation)
            else:
                assert item.facts is not None
                self._preparation.into(data, item.facts, out, item.variation, item.box)
        return 8

    def _read(self) -> int:
        if self._far is not None:
            return sum(1 for _ in self._pool.map(self._asked, self._items))
        for _ in range(8):
            self._next()
        return 8

    def _copy(self) -> int:
        np.copyto(self._out, self._ready)
        return len(self._out)


def _opened(job: Job) -> tuple[FeedJob, State]:
    memory.fix_map_threshold()
    threading.stack_size(STACK_BYTES)  # this process is our own; the system counts whole stacks against a limit
    use_no_threads_of_opencv()
    for name in job.get("modules", ()):
        importlib.import_module(name)
    feed_job = FeedJob.from_plain(job["feed"])
    if "folder" not in job:
        return feed_job, feed_job.open()
    from pannier.packing.pack import TakingOptions
    from pannier.packing.unpacked import unpacked

    state = unpacked(job["folder"], TakingOptions(unlabeled="keep", doubtful="keep"))[1]
    split = feed_job.split if feed_job.split in state.splits else None
    return replace(feed_job, address="memory:", snapshot=state.id, split=split), state


def make_runner(job: Job) -> Runner:
    return FeedRunner(job) if job["kind"] == "feed" else BareRunner(job)


if __name__ == "__main__":
    serve(make_runner)
