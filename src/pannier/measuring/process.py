"""The parent's side of a trial: start a child, let it run for a while, end it by wall clock where it hangs."""

from __future__ import annotations

import contextlib
import json
import os
import select
import signal
import subprocess
import sys
import tempfile
import time
from typing import Any, NamedTuple

from pannier.feeding.hand import Stages
from pannier.memory import Sampler

SETUP_SECONDS = 60.0
SLACK_SECONDS = 20.0
# a child that is told to end by its closed input, and does not, is killed after this
GRACE_SECONDS = 10.0
# how the interpreter tells of a signal that ends it: between these two stand stacks
FELL, AFTER_STACKS = "Fatal Python error:", "\nExtension modules:"


class TrialEnded(Exception):
    """A child gave an error, died or was ended; `status` as in a trial's row."""

    def __init__(self, status: str, reason: str) -> None:
        super().__init__(reason)
        self.status, self.reason = status, reason


class Run(NamedTuple):
    """One run of a child. waits: seconds for each batch; waited: all of them. dropped: see `Trial.dropped_share`."""

    pictures: int
    seconds: float
    waited: float
    waits: list[float]
    stages: Stages
    dropped: float | None

    @property
    def rate(self) -> float:
        return self.pictures / self.seconds


class Child:
    """One process under measurement. `close` ends it, hung or not, and may be called twice."""

    def __init__(self, job: dict[str, Any], module: str = "pannier.measuring.child") -> None:
        self._errors = tempfile.TemporaryFile()  # noqa: SIM115 - closed with the child
        self._process = subprocess.Popen(
            [sys.executable, "-m", module],
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            stderr=self._errors,
            env=os.environ | {"PYTHONFAULTHANDLER": "1"},
            start_new_session=True,  # Ctrl-C is the parent's: it ends its children in order
        )
        self._lines = b""
        self._sampler: Sampler | None = None
        self._ended: TrialEnded | None = None
        self.level, self.ahead = 0, None
        self.peak_bytes = 0
        self._send(job)

    def wait_until_ready(self, seconds: float = SETUP_SECONDS) -> None:
        """Raises TrialEnded."""
        ready = self._answer(seconds)
        self.level, self.ahead = ready["level"], ready.get("ahead")
        self._sampler = Sampler(self._process.pid)
        for pid, level in ready.get("engines", {}).items():
            self._sampler.add(int(pid), level)
        self._sampler.pause()

    def begin(self, seconds: float, **told: Any) -> None:
        if self._ended:
            raise self._ended
        if self._sampler:
            self._sampler.go_on()
        self._send({"run": seconds, **told})

    def finish(self, seconds: float) -> Run:
        """What came of the run that was begun. Raises TrialEnded."""
        answer = self._answer(seconds + SLACK_SECONDS)
        if self._sampler:
            self._sampler.pause()  # between its turns it stands still
            self.peak_bytes = max(self.peak_bytes, self._sampler.peak_bytes - self.level)
        stages = Stages(*answer.get("stages", ()))
        waits = (answer.get("waited", 0.0), answer.get("waits", []))
        return Run(answer["pictures"], answer["seconds"], *waits, stages, answer.get("dropped"))

    def _send(self, message: dict[str, Any]) -> None:
        assert self._process.stdin is not None
        try:
            self._process.stdin.write(json.dumps(message).encode() + b"\n")
            self._process.stdin.flush()
        except BrokenPipeError:
            pass  # its last answer, or its death, says why

    def _answer(self, seconds: float) -> dict[str, Any]:
        if self._ended:
            raise self._ended
        assert self._process.stdout is not None
        until = time.monotonic() + seconds
        while b"\n" not in self._lines:
            ready, _, _ = select.select([self._process.stdout], [], [], max(0.0, until - time.monotonic()))
            if not ready:
                self._end("timed_out", f"no answer within {seconds:.0f} s; where it hung: {self._where_it_hangs()}")
            piece = os.read(self._process.stdout.fileno(), 65536)
            if not piece:
                self._end("died", self._last_words())
            self._lines += piece
        line, self._lines = self._lines.split(b"\n", 1)
        answer: dict[str, Any] = json.loads(line)
        if "error" in answer:
            too_small = answer["error"] == "LimitError"
            reason = answer["message"] or answer["error"]
            self._end("too_small" if too_small else "died", reason + self._where_it_fell())
        return answer

    def _end(self, status: str, reason: str) -> None:
        self._ended = TrialEnded(status, reason)
        self.close()
        raise self._ended

    def _last_words(self) -> str:
        code = self._process.wait()
        how = f"ended by signal {-code}" if code < 0 else f"exit status {code}"
        if fell := self._where_it_fell():
            return how + fell
        lines = self._written().strip().splitlines()
        return f"{how}: {lines[-1]}" if lines else how

    def _where_it_hangs(self) -> str:
        """The stacks of all its threads."""
        self._process.send_signal(signal.SIGUSR1)
        time.sleep(0.5)
        return self._written().strip()

    def _where_it_fell(self) -> str:
        """The stacks of all threads of a process of its own that fell, if one did."""
        _, fell, stacks = self._written().rpartition(FELL)
        return f"; {fell}{stacks.partition(AFTER_STACKS)[0].rstrip()}" if fell else ""

    def _written(self) -> str:
        self._errors.seek(0)
        return self._errors.read().decode(errors="replace")

    def hang_up(self) -> None:
        """Closes its input, by which it ends, leaving nothing behind."""
        if self._process.stdin and not self._process.stdin.closed:
            with contextlib.suppress(BrokenPipeError):
                self._process.stdin.close()

    def close(self) -> None:
        if self._sampler:
            self._sampler.close()
            self._sampler = None
        self.hang_up()
        try:
            self._process.wait(0.0 if self._ended else GRACE_SECONDS)
        except subprocess.TimeoutExpired:
            self._process.kill()
            self._process.wait()
        for stream in (self._process.stdin, self._process.stdout):
            if stream and not stream.closed:
                with contextlib.suppress(BrokenPipeError):
                    stream.close()
        self._errors.close()
