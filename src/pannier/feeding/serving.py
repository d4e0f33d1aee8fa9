"""An engine that serves another process: a job in, batches out, in memory that both sides map.

It reads lines: the jobs first (see `child`); then {"begin": ...} and {"end": ...}, {"add": n} for one more buffer, and the
bare number of a buffer that is free again. It writes lines: {"ready": ...}, {"made": ...}, {"ended": ...}, {"dropped": ...},
{"log": ...}, {"failed": ...}. When its input ends, however that came, it ends.
"""

from __future__ import annotations

import contextlib
import importlib
import json
import logging
import os
import threading
from collections.abc import Callable, Sequence
from queue import SimpleQueue
from typing import Any

from pannier import memory
from pannier.feeding.job import FeedJob, FeedWork, works_of
from pannier.feeding.plain_errors import plain_error
from pannier.feeding.shared import SharedShelf
from pannier.feeding.threads import Threads
from pannier.feeding.warming import warm_up_for
from pannier.images.tone import use_no_threads_of_opencv

STACK_BYTES = 1 << 20

_log = logging.getLogger("pannier")


class Child:
    """One engine: a thread reads what is said, the main thread collects batches and says that they are made."""

    def __init__(self, said: int, answers: int) -> None:
        self._said, self._answers = said, answers
        _log.addHandler(_Telling(self))
        _log.propagate = False
        self._writing = threading.Lock()
        self._commands: SimpleQueue[dict[str, Any]] = SimpleQueue()
        self._threads: Threads | None = None
        self._under_way = self._ended = self._level = 0
        self._changing = threading.Lock()

    def run(self, jobs: dict[str, Any], rest: bytes, ready: Callable[[], None]) -> None:
        """rest: what was read after the jobs. `ready` is called when the engine is there."""
        threading.Thread(target=self._read, args=(rest,), name="pannier-said", daemon=True).start()
        try:
            self._threads = self._started(self._jobs(jobs), jobs["file"])
            ready()
            self._tell({"ready": os.getpid(), "level": self._level})
            while True:
                command = self._commands.get()
                if "begin" in command:
                    self._feed(self._threads, command["begin"], command["of"])
                elif "end" in command:
                    self._threads.stop()
                    self._tell({"ended": command["end"]})
        except BaseException as error:
            with contextlib.suppress(OSError):  # nobody hears: what is said ends as well
                self._tell({"failed": plain_error(error)})
        threading.Event().wait()  # the other side has been told, and closes

    def _started(self, jobs: Sequence[FeedJob], file: int) -> Threads:
        memory.fix_map_threshold()
        threading.stack_size(STACK_BYTES)  # this process is our own; the system counts whole stacks against a limit
        use_no_threads_of_opencv()
        works = works_of(jobs, jobs[0].open())
        warm_up_for(works)
        memory.give_back_free_memory()  # what is garbage by now are some hundred KiB: not looked for
        self._level, data_level = memory.working_bytes(), memory.writable_bytes()
        (shape, dtype), settings = works[0].array_kind, works[0].settings
        assert shape is not None
        self._shelf = SharedShelf(settings.slots, settings.batch_size, (shape, dtype), file, self._dropped)
        threads = Threads(works, self._shelf)
        _limit(works[0], self._shelf, data_level)
        return threads

    def _jobs(self, command: dict[str, Any]) -> list[FeedJob]:
        try:
            for name in command["modules"]:
                importlib.import_module(name)
            return [FeedJob.from_plain(job) for job in command["jobs"]]
        except Exception as error:
            self._tell({"unable": f"{type(error).__name__}: {error}"})
            raise

    def _dropped(self, number: int) -> None:
        self._tell({"dropped": number})

    def _feed(self, threads: Threads, stream: int, of: list[Any]) -> None:
        """Makes the batches of one stream, until they end or are not wanted any more."""
        threads.begin(*of)
        with self._changing:
            self._under_way = stream
            if self._ended >= stream:
                threads.interrupt()
        while (made := threads.collect()) is not None:
            if isinstance(made, BaseException):
                raise made
            issued, slot = made
            count = len(issued.rows)
            rows, labels = self._shelf.records_of(slot, count)
            rows[:], labels[:] = issued.rows, issued.labels
            self._tell({"made": [stream, *issued.number, slot.number, count], "stages": threads.stages})

    def _read(self, rest: bytes) -> None:
        """What is said, line by line; at the end of it nothing of this process is wanted any more."""
        piece = b""
        while True:
            *lines, rest = (rest + piece).split(b"\n")
            for line in lines:
                self._hear(line)
            piece = os.read(self._said, 1 << 16)
            if not piece:
                break
        if self._threads is not None and self._threads.engine.filling is not None:
            self._threads.engine.filling.close()
        os._exit(0)

    def _hear(self, line: bytes) -> None:
        threads = self._threads
        if threads is not None and line.isdigit():
            threads.engine.free.put(self._shelf.slots[int(line)])
            return
        command = json.loads(line)
        if threads is not None and "add" in command:
            threads.engine.add_slot()
            return
        self._commands.put(command)
        if threads is not None and "end" in command:
            with self._changing:
                self._ended = command["end"]
                if self._under_way <= self._ended:
                    threads.interrupt()

    def _tell(self, message: dict[str, Any]) -> None:
        data = json.dumps(message).encode() + b"\n"
        with self._writing:
            while data:
                data = data[os.write(self._answers, data) :]

    def log(self, record: logging.LogRecord) -> None:
        self._tell({"log": [record.levelno, record.getMessage()]})


class _Telling(logging.Handler):
    """What this process logs is logged by the other side."""

    def __init__(self, child: Child) -> None:
        super().__init__()
        self._child = child

    def emit(self, record: logging.LogRecord) -> None:
        self._child.log(record)


def _limit(work: FeedWork, shelf: SharedShelf, data_level: int) -> None:
    """From now on the system refuses this process more than its share; batches are shared, which it does not count."""
    plan, limit = work.plan, work.job.limit_bytes
    if limit is not None:
        own = limit // max(1, int(work.job.processes)) - work.settings.slots * shelf.slot_bytes
        threads = plan.workers + plan.heavy_lanes + 3
        memory.enforce_limit(own, data_level + threads * (STACK_BYTES + (64 << 10)))
