"""Runs cases in children under limits, and judges how each ended: nothing but an answer or an error of ours is well."""

from __future__ import annotations

import contextlib
import json
import os
import resource
import signal
import sys
import time
import traceback
from collections.abc import Callable, Iterator, Sequence
from pathlib import Path
from typing import Any, NamedTuple

from pannier.errors import PannierError

LONGEST_SECONDS = 5.0
MOST_BYTES = 256 << 20
# what a child may take before the system refuses, so that a bomb ends the case and not the machine
_HARD_BYTES = 2 << 30
_STUCK_SECONDS = 60
# a plain loop of a million steps takes so long where the bar of seconds is meant; elsewhere it is as many times longer
_LOOP_SECONDS = 0.08

Case = Callable[[int], None]


class Outcome(NamedTuple):
    """How a case ended: "taken", "refused" with an error of ours, or what is wrong; its seconds, and memory at its peak.

    slowness: how many times longer this machine takes at that hour, where it took long.
    """

    seed: int
    status: str
    told: str = ""
    seconds: float = 0.0
    peak_bytes: int = 0
    most_bytes: int = MOST_BYTES
    slowness: float = 1.0

    @property
    def is_ended_well(self) -> bool:
        return self.status in ("taken", "refused")

    @property
    def is_well(self) -> bool:
        is_soon = self.seconds <= LONGEST_SECONDS * self.slowness
        return self.is_ended_well and is_soon and self.peak_bytes <= self.most_bytes

    def __str__(self) -> str:
        return f"{self.seed}: {self.status}, {self.seconds:.1f} s, {self.peak_bytes >> 20} MiB {self.told}".rstrip()


def run(case: Case, seeds: Sequence[int], prepare: Callable[[], None] = lambda: None) -> Iterator[Outcome]:
    """Outcomes of a case with each of some seeds, in order; a child does many, until one ends it.

    prepare: what each child does before, without bounds: no thread of ours is there when it is forked.
    """
    at = 0
    while at < len(seeds):
        for outcome in _in_child(case, seeds[at:], prepare):
            at += 1
            yield outcome


def _in_child(case: Case, seeds: Sequence[int], prepare: Callable[[], None]) -> Iterator[Outcome]:
    """Those that one child came to, the last of which may have ended it."""
    sys.stdout.flush()
    read_end, write_end = os.pipe()
    child = os.fork()
    if child == 0:
        os.close(read_end)
        _work(case, seeds, write_end, prepare)
    os.close(write_end)
    done = 0
    with os.fdopen(read_end) as answers:
        for line in answers:
            done += 1
            yield Outcome(**json.loads(line))
    _, status = os.waitpid(child, 0)
    if done < len(seeds):
        signaled = os.WTERMSIG(status) if os.WIFSIGNALED(status) else 0
        how = "stuck" if signaled == signal.SIGALRM else f"ended by {signal.Signals(signaled).name}" if signaled else "ended"
        yield Outcome(seeds[done], how)


def _work(case: Case, seeds: Sequence[int], answers: int, prepare: Callable[[], None]) -> None:
    try:
        prepare()
        resource.setrlimit(resource.RLIMIT_DATA, (_HARD_BYTES, _HARD_BYTES))
        resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
        os.dup2(os.open(os.devnull, os.O_WRONLY), 2)
        for seed in seeds:
            signal.alarm(_STUCK_SECONDS)
            os.write(answers, (json.dumps(_judged(case, seed)._asdict()) + "\n").encode())
    finally:
        os._exit(0)


def _judged(case: Case, seed: int) -> Outcome:
    # of the processor: what waits for ever is ended by the alarm
    before, started = _peak_anew(), time.process_time()
    status, told = "taken", ""
    try:
        case(seed)
    except PannierError as error:
        status, told = "refused", str(error)
        if "\n" in told or len(told) > 2000:
            status = "refused in more than a line"
    except BaseException as error:
        last = traceback.extract_tb(error.__traceback__)[-1]
        status, told = f"raised {type(error).__name__}", f"{error} ({Path(last.filename).name}:{last.lineno})"
    seconds, peak = time.process_time() - started, max(0, _peak() - before)
    slowness = _slowness() if seconds > LONGEST_SECONDS else 1.0
    return Outcome(seed, status, told[:300], seconds, peak, slowness=slowness)


def _slowness() -> float:
    started, steps = time.process_time(), 0
    while steps < 1_000_000:
        steps += 1
    return max(1.0, (time.process_time() - started) / _LOOP_SECONDS)


def _peak_anew() -> int:
    """Forgets the peak so far; the memory that is held now."""
    with contextlib.suppress(OSError):
        Path("/proc/self/clear_refs").write_text("5")
    return _peak()


def _peak() -> int:
    for line in Path("/proc/self/status").read_text().splitlines():
        if line.startswith("VmHWM"):
            return int(line.split()[1]) * 1024
    return 0


def told_together(outcomes: Sequence[Outcome]) -> dict[str, Any]:
    """Counts by status, and the worst of seconds and memory."""
    counts: dict[str, int] = {}
    for each in outcomes:
        counts[each.status] = counts.get(each.status, 0) + 1
    worst = {"seconds": max(each.seconds for each in outcomes), "MiB": max(each.peak_bytes for each in outcomes) >> 20}
    return {**counts, **worst}
