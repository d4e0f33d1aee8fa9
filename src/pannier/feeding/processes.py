"""Engines in processes of their own: the same batches, through memory that both sides map.

Each is a program that is started anew, told its job as plain data, and holds nothing but memory: it ends when the pipe that
it reads from does, however this process may have ended.
"""

from __future__ import annotations

import contextlib
import json
import logging
import os
import socket
import struct
import subprocess
import sys
import time
import weakref
from collections.abc import Iterator, Sequence
from dataclasses import replace
from typing import Any

from pannier.errors import PannierError, UsageError
from pannier.feeding.hand import Stages
from pannier.feeding.job import CannotTravel, FeedWork, modules_of
from pannier.feeding.making import Made
from pannier.feeding.plain_errors import error_of
from pannier.feeding.shared import Lending, SharedShelf

# how often a waiting consumer looks whether the process it waits for runs
_TIMEOUT = struct.pack("ll", 0, 500_000)
# a process that is told to end, and has not, is killed after this
GRACE_SECONDS = 1.0
# one that keeps canvases publishes them before
FILLING_SECONDS = 30.0

_log = logging.getLogger("pannier")

Message = dict[str, Any]


class Engine:
    """One engine in a process of its own, from the other side."""

    def __init__(self, works: Sequence[FeedWork], turn: int) -> None:
        work, modules = works[0], modules_of(works[0].job)
        shape, dtype = work.array_kind
        assert shape is not None
        self._slots = work.settings.slots
        self.level, self.stages = 0, Stages()
        self._lines: list[bytes] = []
        self._rest = b""
        self._stopped_looks = 0
        with contextlib.ExitStack() as where_it_does_not_start:
            self._shelf = SharedShelf.create(self._slots, work.settings.batch_size, (shape, dtype))
            where_it_does_not_start.callback(self._shelf.close, ())
            self._shelf.reserve(self._slots)
            self._hears, says = socket.socketpair()
            where_it_does_not_start.callback(self._hears.close)
            self._hears.setsockopt(socket.SOL_SOCKET, socket.SO_RCVTIMEO, _TIMEOUT)  # so that one call waits and reads
            with says:
                self._process = _started(says.fileno(), self._shelf.file)
            where_it_does_not_start.pop_all()
        assert self._process.stdin is not None
        self._said, self._answers = self._process.stdin.fileno(), self._hears.fileno()
        self.lending = Lending(self._said)
        jobs = [replace(each.job, turn=turn, position=None).to_plain() for each in works]
        self.tell({"jobs": jobs, "modules": modules, "file": self._shelf.file})

    @property
    def pid(self) -> int:
        return self._process.pid

    def wait_until_ready(self) -> None:
        """Raises CannotTravel, or what hindered it."""
        message = self.answer()
        if isinstance(message, BaseException):
            raise message
        if "unable" in message:
            raise CannotTravel(message["unable"])
        self.level = int(message["level"])

    @property
    def slots(self) -> int:
        """Buffers that there are."""
        return self._slots - self._shelf.gone

    def tell(self, message: Message) -> None:
        self._say(json.dumps(message).encode() + b"\n")

    def _say(self, data: bytes) -> None:
        with contextlib.suppress(BrokenPipeError):  # its end is seen where its answers are read
            while data:
                data = data[os.write(self._said, data) :]

    def made(self, stream: int) -> Made | BaseException:
        """The next batch of a stream; waits for it."""
        while True:
            if not self._lines and len(self.lending.kept()) == self.slots:
                self.add_slot()  # the consumer keeps all: what it keeps is its own memory
            message = self.answer()
            if isinstance(message, BaseException):
                return message
            if "made" in message and message["made"][0] == stream:
                _, epoch, number, at, count = message["made"]
                self.stages = Stages(*message["stages"])
                slot = self._shelf.make(at)
                rows, labels = self._shelf.records_of(slot, count)
                return Made((epoch, number), rows.copy(), labels.copy(), self.lending.lend(slot, count))

    def add_slot(self) -> None:
        self._slots += 1
        self._shelf.reserve(self._slots)
        self.tell({"add": 1})

    def end(self, stream: int) -> None:
        """Waits until nothing of a stream is under way; batches that were made of it and not taken are free again."""
        while True:
            message = self.answer()
            if isinstance(message, BaseException) or message.get("ended") == stream:
                return
            if "made" in message:
                self._say(b"%d\n" % message["made"][3])

    def answer(self) -> Message | BaseException:
        """What the process says next, but for what concerns this side alone; an error where it fails, ends or stands."""
        while True:
            while not self._lines:
                problem = self._read()
                if problem is not None:
                    return problem
            message = json.loads(self._lines.pop(0))
            if "log" in message:
                _log.log(*message["log"])
            elif "dropped" in message:
                self._shelf.forget(message["dropped"])
            elif "failed" in message:
                return error_of(message["failed"])
            else:
                return dict(message)

    def _read(self) -> PannierError | None:
        try:
            piece = os.read(self._answers, 1 << 16)
        except BlockingIOError:
            return self._problem_if_stopped()
        except ConnectionResetError:  # it ended with something unread
            piece = b""
        self._stopped_looks = 0
        if not piece:
            return PannierError(f"the engine's process {self._how_it_ended()}; open a new feed")
        *lines, self._rest = (self._rest + piece).split(b"\n")
        self._lines += lines
        return None

    def _problem_if_stopped(self) -> PannierError | None:
        """A process that somebody stopped says nothing, and does not end either."""
        with contextlib.suppress(OSError), open(f"/proc/{self.pid}/stat", "rb") as file:
            if file.read().rpartition(b")")[2].split()[0] in (b"T", b"t"):
                self._stopped_looks += 1
                if self._stopped_looks > 1:
                    return PannierError(f"the engine's process {self.pid} was stopped by a signal; open a new feed")
        return None

    def _how_it_ended(self) -> str:
        try:
            code = self._process.wait(GRACE_SECONDS)
        except subprocess.TimeoutExpired:
            return f"{self.pid} closed its output"
        if code == -9:
            return f"{self.pid} was killed, by somebody or by the system for want of memory"
        return f"{self.pid} ended " + (f"by signal {-code}" if code < 0 else f"with exit status {code}")

    def hang_up(self) -> None:
        """Closes this side's pipes, on which the process ends."""
        kept = self.lending.kept()
        self.lending.close()
        for end in (self._process.stdin, self._hears):
            assert end is not None
            end.close()
        self._kept = kept

    def wait(self, until: float) -> None:
        """Ends the process, by force once that time has come, and gives back the memory that nobody sees."""
        try:
            self._process.wait(max(0.0, until - time.monotonic()))
        except subprocess.TimeoutExpired:
            self._process.kill()
            self._process.wait()
        self._shelf.close(self._kept)

    def leave_to_parent(self) -> None:
        """In a forked child: what this process says and hears there goes nowhere, and keeps nothing alive."""
        with open(os.devnull, "r+b", buffering=0) as nothing:
            for pipe in (self._said, self._answers):
                os.dup2(nothing.fileno(), pipe, inheritable=False)


def _started(says: int, file: int) -> subprocess.Popen[bytes]:
    return subprocess.Popen(
        [sys.executable, "-P", "-m", "pannier.feeding.child"],
        stdin=subprocess.PIPE,
        stdout=says,
        env=os.environ | {"PYTHONPATH": os.pathsep.join(path or os.getcwd() for path in sys.path)},
        pass_fds=[file],
        start_new_session=True,  # Ctrl-C is this process's, which ends the other in order
        bufsize=0,
    )


class Processes:
    """See `Maker`. Batch by batch the engines take turns. Raises CannotTravel, or what hindered an engine at its start.

    An exception in a call, such as Ctrl-C, may have come in the middle of an answer: then the engines end, and the next
    `begin` starts others.
    """

    def __init__(self, works: Sequence[FeedWork]) -> None:
        self._works, self._course, self._owner = works, works[0].course, os.getpid()
        self._stream = 0
        self._busy: list[Engine] = []
        self._numbers: Iterator[tuple[int, int]] = iter(())
        self._engines: list[Engine] = []
        self._start()
        _living.add(self)

    @property
    def levels(self) -> dict[int, int]:
        """By process, the bytes that it held before it began to work."""
        return {engine.pid: engine.level for engine in self._engines}

    @property
    def is_under_way(self) -> bool:
        return bool(self._busy)

    @property
    def stages(self) -> Stages:
        return sum([engine.stages for engine in self._engines], Stages())

    @property
    def buffers(self) -> int:
        return sum(engine.slots for engine in self._engines)

    @property
    def lent(self) -> int:
        return sum(len(engine.lending.kept()) for engine in self._engines)

    def _start(self) -> None:
        with self._whole():
            for turn in range(int(self._works[0].job.processes)):
                self._engines.append(Engine(self._works, turn))
            for engine in self._engines:
                engine.wait_until_ready()

    def begin(self, epoch: int, until: int, begin: int = 0, end: int | None = None, of: int = 0) -> None:
        self._check_owner()
        self.stop()
        if not self._engines:
            self._start()
        self._course = self._works[of].course
        parts = self._course.numbers(epoch, until, begin, end)
        self._numbers = ((each, number) for each, numbers in parts for number in numbers)
        self._stream += 1
        with self._whole():
            self._busy = self._engines
            for engine in self._busy:
                engine.tell({"begin": self._stream, "of": [epoch, until, begin, end, of]})

    def next(self) -> Made | BaseException | None:
        self._check_owner()
        number = next(self._numbers, None) if self._busy else None
        if number is None:
            return None
        epoch, batch = number
        with self._whole():
            return self._busy[(epoch * self._course.batches + batch) % len(self._busy)].made(self._stream)

    def stop(self) -> None:
        busy, self._busy = self._busy, []
        with self._whole():
            for engine in busy:
                engine.tell({"end": self._stream})
            for engine in busy:
                engine.end(self._stream)

    @contextlib.contextmanager
    def _whole(self) -> Iterator[None]:
        try:
            yield
        except BaseException:
            self.close()
            raise

    def close(self) -> None:
        if self._owner != os.getpid():
            return
        engines, self._engines, self._busy = self._engines, [], []
        for engine in engines:
            engine.hang_up()
        until = time.monotonic() + (FILLING_SECONDS if self._works[0].job.fills else GRACE_SECONDS)
        for engine in engines:
            engine.wait(until)

    def abandon(self) -> None:
        self.close()

    def leave_to_parent(self) -> None:
        for engine in self._engines:
            engine.leave_to_parent()

    def _check_owner(self) -> None:
        if self._owner != os.getpid():
            raise UsageError("this feed was opened before the process forked: open one in each process")


_living: weakref.WeakSet[Processes] = weakref.WeakSet()


def _leave_all_to_parent() -> None:
    for each in list(_living):
        each.leave_to_parent()


os.register_at_fork(after_in_child=_leave_all_to_parent)
