"""The answer of a measurement: which setting to take, why, and the line to use it by."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from pannier.errors import SourceError
from pannier.measuring.rows import Trial
from pannier.measuring.settings import source_in_short
from pannier.results import Result
from pannier.units import show_bytes

# settings nearer to one another than this are as fast; then the one that takes least is the better
AS_FAST = 0.03
# a memory limit under which a setting is so much slower, or less, is enough for it: as far apart are two of its own runs
UNDER_LIMIT = 0.06
# a consumer that waits for more than this of the time starves
STARVED = 0.05

WHY = {
    "processor": "its threads keep all cores computing: fewer or smaller pixels would help, or rendering",
    "workers": "all its workers are busy, and cores are free: more workers would help",
    "interpreter lock": "its threads wait for the interpreter lock: try engines of their own processes (`processes` 1, 2)",
    "disk": "it waits for the disk: a rendering of smaller pictures, or more memory for the system's cache, would help",
    "link": "it waits for the link to the bucket: windows, a cache near by (`cache`) or a rendering of it would help",
    "memory bandwidth": "it is as fast as bytes are copied here: uint8 batches or smaller ones would help",
    "consumer": "the training step is the slower of the two: nothing about the feed would help",
    "": "",
}


@dataclass(frozen=True, repr=False)
class Answer(Result):
    """What to take: the best trial, two or three sentences that say why, and the options of a feed like it."""

    best: Trial
    sentences: list[str]
    options: dict[str, Any]

    @property
    def said_options(self) -> dict[str, Any]:
        """The options as one would write them: sizes as "64MiB"."""
        return {name: _as_said(name, value) for name, value in self.options.items()}

    def call(self, split: str | None, *, snapshot: str = "snapshot", treatment: str = "treatment") -> str:
        """Such a feed in Python, of a snapshot and a treatment as they are written."""
        said = ", ".join(f"{name}={value!r}" for name, value in self.said_options.items())
        return f"{snapshot}.feed({split!r}, {treatment}, {said})"


def answer_of(trials: Sequence[Trial], settings: Mapping[str, Any]) -> Answer:
    """The fastest setting, or of those that are as fast the one that takes least. Raises SourceError where all failed.

    Settings of several sizes are several tasks: the answer is for the first size at which any trial succeeded.
    """
    good = [trial for trial in trials if trial.rate]
    if not good:
        raise SourceError("every trial failed, see their reasons")
    good = [trial for trial in good if trial.size == good[0].size]
    fastest = max(trial.rate for trial in good)
    as_fast = [trial for trial in good if trial.rate >= fastest * (1 - AS_FAST)]
    best = min(as_fast, key=_what_it_takes)
    alike = [trial for trial in good if _differ_in(trial, best) <= {"memory_limit_bytes"}]
    enough = max(trial.rate for trial in alike) * (1 - UNDER_LIMIT)
    best = min((trial for trial in alike if trial.rate >= enough), key=_what_it_takes)
    sentences = [_in_short(best), *filter(None, (WHY[best.binds], _of_the_step(settings.get("step"), best)))]
    if best.memory_limit_bytes is not None and any(trial.memory_limit_bytes is None for trial in alike):
        sentences.append(f"a memory limit of {show_bytes(best.memory_limit_bytes)} is enough")
    sentences += _of_others(best, good, settings.get("rendering_bytes", {}))
    options: dict[str, Any] = {"batch_size": best.batch_size, "workers": best.workers, "processes": best.processes}
    options |= {"ahead": best.ahead, "memory_limit": best.memory_limit_bytes}
    if best.source == "rendered":
        options["rendered"] = True
    options |= {name: settings[name] for name in ("seed", "subset") if settings.get(name)}
    return Answer(best, [_sentence(each) for each in sentences], options)


def _what_it_takes(trial: Trial) -> tuple[Any, ...]:
    """Threads, processes, memory: a trial under a limit goes before one without, since it is known to be enough."""
    threads = trial.workers * max(1, trial.processes)
    return threads, trial.processes, trial.memory_limit_bytes or math.inf, trial.peak_bytes or 0, -trial.rate


def _in_short(best: Trial) -> str:
    """ "2 workers, 3 ahead: 1,180 pictures/s, 96 % of the ceiling, 61 of 64 MiB" """
    parts = [f"{best.workers} worker{'s' * (best.workers != 1)}", f"batches of {best.batch_size}", f"{best.ahead} ahead"]
    if best.processes:
        parts.insert(0, f"{best.processes} process{'es' * (best.processes != 1)}")
    if best.source != "shards":
        parts.append(f"from {'rendered canvases' if best.source == 'rendered' else source_in_short(best.source)}")
    held = show_bytes(best.peak_bytes or 0)
    if best.memory_limit_bytes is not None:
        held = f"{held} of {show_bytes(best.memory_limit_bytes)}"
    share = f"{best.share_of_ceiling or 0:.0%} of the ceiling".replace("%", " %")
    return f"{', '.join(parts)}: {best.rate:,.0f} pictures/s, {share}, {held}"


def _of_the_step(step: str | float | None, best: Trial) -> str:
    """What the consumer had of it, and the shortest step that it keeps busy."""
    shortest = f"{best.batch_size / best.rate * 1000:.3g} ms"
    if step is None:
        return f"a training step of {shortest} or longer a batch never waits for it"
    starved = best.starved_share or 0.0
    if starved > STARVED:
        return f"the step of {step} waited {starved:.0%} of the time".replace("%", " %")
    return f"the step of {step} waited for nothing ({starved:.1%} of the time)".replace("%", " %")


def _of_others(best: Trial, good: Sequence[Trial], rendering: Mapping[str, int]) -> list[str]:
    """What more workers, rendering and decoding give or would give, where that was measured."""
    told = []
    cost = rendering.get("x".join(map(str, best.size)))
    for_what = f"for {show_bytes(cost)} of disk" if cost else ""
    fastest = {source: max((t.rate for t in good if t.source == source), default=0.0) for source in ("shards", "rendered")}
    if best.source == "shards" and fastest["rendered"]:
        told.append(f"rendering would give {fastest['rendered'] / best.rate:.1f} times that {for_what}".rstrip())
    if best.source == "rendered" and fastest["shards"]:
        told.append(f"that is {best.rate / fastest['shards']:.1f} times what decoding gives, {for_what}".rstrip(", "))
    more = [trial for trial in good if trial.workers > best.workers and _differ_in(trial, best) <= {"workers"}]
    if more:
        other = min(more, key=lambda trial: trial.workers)
        gain = other.rate / best.rate - 1
        told.append(f"{other.workers} workers give {abs(gain):.0%} {'more' if gain > 0 else 'less'}".replace("%", " %"))
    return told


def _differ_in(one: Trial, other: Trial) -> set[str]:
    names = ("batch_size", "workers", "processes", "source", "memory_limit_bytes")
    return {name for name in names if getattr(one, name) != getattr(other, name)}


def _sentence(text: str) -> str:
    return f"{text[:1].upper()}{text[1:]}."


def _as_said(name: str, value: Any) -> Any:
    is_round = name == "memory_limit" and value is not None and not value % (1 << 20)
    return show_bytes(value).replace(" ", "") if is_round else value
