"""What keeps a feed from being faster: told from its threads' time, and from what bare processes do."""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

import numpy as np

from pannier.feeding.hand import Stages
from pannier.machine import usable_cores
from pannier.measuring.process import Run
from pannier.measuring.settings import Setting, Step

# what is read from: the system's memory, where files are warm, the disk, or the link to a bucket
MEMORY, DISK, LINK = "memory", "disk", "link"
# a consumer that waits for less than this is the slower of the two
FED = 0.05
# of reading or copying alone, from this part on nothing else counts much
NEAR_READING, NEAR_COPYING, READING_COLD, NEAR_TREATMENT = 0.8, 0.7, 0.3, 0.9
# threads that compute for so much of the time that their cores have are what binds
BUSY = 0.85
# and such that stand still for so much of their work wait for something
STALLED = 0.2


class Shares(NamedTuple):
    """What part of each ceiling a rate is."""

    treatment: float
    reading: float
    copying: float


def stages_of(runs: Sequence[Run]) -> Stages:
    return sum([run.stages for run in runs], Stages())


def stage_shares(runs: Sequence[Run]) -> dict[str, float]:
    """Of the threads' work, the part of each stage, and "stalled", the part in which they did not compute."""
    stages = stages_of(runs)
    if not stages.whole:
        return {}
    parts = {name: seconds / stages.whole for name, seconds in stages.of_work().items()}
    return parts | {"stalled": stages.stalled / stages.whole}


def what_binds(setting: Setting, runs: Sequence[Run], shares: Sequence[Shares], step: Step | None, *, medium: str) -> str:
    """In one or two words; "" where nothing stands out. By what is asked first:

    a consumer that hardly waits; reading or copying alone, where that is hardly faster; the threads' own computing, which
    keeps all cores busy, or all workers, where those are fewer; and what threads wait for while they have work: what they
    read from (`medium`: "disk", where its files are cold, or "link"), where reading alone is not far from it, and the
    interpreter lock otherwise.
    """
    is_slow = medium != MEMORY
    stages, seconds = stages_of(runs), sum(run.seconds for run in runs)
    if step is not None and sum(run.waited for run in runs) < FED * seconds:
        return "consumer"
    reading, copying = (float(np.median([getattr(each, name) for each in shares])) for name in ("reading", "copying"))
    if reading > NEAR_READING:
        return medium if is_slow else "memory bandwidth"
    if copying > NEAR_COPYING:
        return "memory bandwidth"
    cores, threads = usable_cores(), setting.workers * max(1, setting.processes)
    computing = (stages.whole - stages.stalled) / seconds
    if computing > BUSY * cores:
        return "processor"
    if computing > BUSY * threads:
        return "workers"
    if float(np.median([each.treatment for each in shares])) > NEAR_TREATMENT:
        return "processor"  # bare processes are hardly faster: others are at work on this machine
    if stages.stalled > STALLED * stages.whole:
        return medium if is_slow and reading > READING_COLD else "interpreter lock"
    return ""
