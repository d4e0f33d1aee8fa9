"""The plan: how many workers, lanes and batches fit under a memory limit; a pure function of stated inputs."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace
from typing import Any, NamedTuple

import numpy as np

from pannier.errors import LimitError
from pannier.feeding.needs import LIGHT_ALLOCATION, Needs
from pannier.results import Result
from pannier.units import show_bytes

DEFAULT_AHEAD = 4

# what a thread holds beside its buffers: the part of its stack that is touched, Python objects, a table of sizes
WORKER_BYTES = 384 << 10
# what the C library keeps in pieces of what decoders on a heavy lane gave back: seen from outside, in processes of any kind
LANE_BYTES = 8 << 20
# what the engine holds once: queues, tasks under way, rows of the manifest that were looked up
ENGINE_BYTES = 3 << 20

# what asking a far storage takes beside what comes: its threads, its connections
FETCHER_BYTES = 6 << 20

# what a process of its own holds before it works: an interpreter with its libraries
PROCESS_BYTES = 128 << 20
# where "auto" takes processes: epochs of some ten seconds of one core, limits beside which an interpreter is little
LONG_EPOCH_BYTES = 256 << 20
LARGE_LIMIT_BYTES = 1 << 30
# one serves a core for every so many pixels of work (`Needs.pixels`), up to so many cores: of smaller ones more is Python
PIXELS_A_CORE = 16_384
CORES_A_PROCESS = 16

# how many of the light records may still be light, the rest going to lanes: the first that fits is taken
_SHARES = (1.0, 0.999, 0.99, 0.95, 0.8, 0.5, 0.0)


@dataclass(frozen=True, repr=False)
class Plan(Result):
    """How a feed works, all sizes in bytes.

    workers: how many threads compute at a time; each decodes into planned buffers. heavy_lanes: how many of those may at
    a time work on records that do not, each in a thread kept for that.
    ahead: batches kept ready beside the one that the consumer has. batch_bytes: one batch. decode_bytes: reading, decoding
    and resizing in all threads. fetched_bytes: what comes from afar before a thread takes it. total_bytes: everything; never
    over limit_bytes (None: unlimited).
    """

    workers: int
    heavy_lanes: int
    ahead: int
    batch_bytes: int
    decode_bytes: int
    order_bytes: int
    total_bytes: int
    limit_bytes: int | None
    light_bytes: int
    heavy_bytes: int
    fetched_bytes: int = 0

    def of_processes(self, count: int, limit_bytes: int | None) -> Plan:
        """What so many processes that each work by this plan come to, and the process that takes their batches."""
        each = ("workers", "heavy_lanes", "decode_bytes", "total_bytes", "fetched_bytes")
        taken = {name: count * getattr(self, name) for name in each}
        taken["total_bytes"] += self.order_bytes
        return replace(self, **taken, order_bytes=(count + 1) * self.order_bytes, limit_bytes=limit_bytes)


class Shape(NamedTuple):
    """What a plan may choose."""

    workers: int
    lanes: int
    ahead: int
    fetched: int


def processes_for(epoch_bytes: int, pixels: float | None, limit_bytes: int | None, cores: int) -> int:
    """How many processes "auto" comes to, by what an epoch and a picture have; 0 for threads.

    A process takes about a second to start and `PROCESS_BYTES` of its own: it is worth that for an epoch of some length, and
    where the limit is large beside it. One serves so many cores until its own interpreter lock binds.
    """
    if epoch_bytes < LONG_EPOCH_BYTES:
        return 0
    served = CORES_A_PROCESS if pixels is None else min(CORES_A_PROCESS, max(1, int(pixels / PIXELS_A_CORE)))
    wanted = -(-cores // served)
    return wanted if limit_bytes is None else min(wanted, limit_bytes // LARGE_LIMIT_BYTES)


def make_plan(
    needs: Needs,
    limit_bytes: int | None,
    cores: int,
    *,
    workers: int | None = None,
    ahead: int | None = None,
    keys: Any = None,
    processes: int = 0,
) -> Plan:
    """The first of the plans in order of preference that fits. `workers` and `ahead` are fixed where given.

    processes: of so many that share limit, cores and workers with each other, the plan of one; the one that they work for
    has the order as well. Tiny pictures have one worker in each where none are asked for.
    Raises LimitError, which names the batch size that would fit or else the smallest limit; `keys(i)` names a record.
    """
    smallest: Plan | None = None
    count, beside = max(1, processes), needs.order_bytes if processes else 0
    limit = None if limit_bytes is None else max(0, limit_bytes - beside) // count
    cores, workers = 1 if needs.is_tiny else max(1, cores // count), None if workers is None else -(-workers // count)
    for plan in _plans(needs, limit, cores, workers, ahead):
        if limit is None or plan.total_bytes <= limit:
            return plan
        if smallest is None or plan.total_bytes < smallest.total_bytes:
            smallest = plan
    assert smallest is not None
    assert limit is not None
    whole = limit_bytes, smallest.total_bytes * count + beside
    raise _refusal(needs, smallest, limit, whole, keys)


def _plans(needs: Needs, limit: int | None, cores: int, workers: int | None, ahead: int | None) -> Iterator[Plan]:
    """All plans worth a try, the best first: all workers, then less ahead and fewer lanes, then fewer workers."""
    each = needs.of_one_worker
    light = np.flatnonzero(needs.allocated <= LIGHT_ALLOCATION)
    light = light[np.argsort(each[light])]
    through = np.cumsum(needs.counts[light])  # so many records are of that kind or a lighter one
    at = [np.searchsorted(through, int(share * (through[-1] - 1)), side="right") for share in _SHARES] if len(light) else []
    largest_light = {int(each[light[place]]) for place in at} or {0}
    thresholds = sorted(largest_light, reverse=True)
    largest_heavy = [int(each[needs.heavy(threshold)].max(initial=0)) for threshold in thresholds]
    for count in [workers] if workers else range(cores, 0, -1):
        for some_ahead, lanes in _shapes(count, ahead):
            for threshold, heavy in zip(thresholds, largest_heavy, strict=True):
                if heavy or lanes == count:
                    for fetched in needs.fetched:
                        shape = Shape(count, lanes if heavy else 0, some_ahead, fetched)
                        yield _plan(needs, limit, shape, threshold, heavy)


def _shapes(workers: int, ahead: int | None) -> Iterator[tuple[int, int]]:
    """(ahead, lanes), the best first: two batches ahead are worth more than a lane, more than two are worth less."""
    lanes = range(workers, 0, -1)
    if ahead:
        yield from ((ahead, count) for count in lanes)
        return
    yield from ((some, count) for count in lanes for some in range(DEFAULT_AHEAD, 1, -1))
    yield from ((1, count) for count in lanes)


def _plan(needs: Needs, limit: int | None, shape: Shape, light: int, heavy: int) -> Plan:
    workers, lanes, ahead, fetched = shape
    light_each = light + WORKER_BYTES + needs.kept_bytes
    heavy_each = heavy + WORKER_BYTES + LANE_BYTES + needs.kept_bytes
    decode = workers * light_each + lanes * heavy_each
    batch = needs.batch_bytes(needs.batch_size)
    beside = fetched + FETCHER_BYTES if fetched else 0
    total = ENGINE_BYTES + needs.order_bytes + decode + (ahead + 1) * batch + beside
    return Plan(workers, lanes, ahead, batch, decode, needs.order_bytes, total, limit, light, heavy, fetched)


def _refusal(needs: Needs, smallest: Plan, limit: int, whole: tuple[Any, int], keys: Any) -> LimitError:
    """`whole`: the limit and the need of all processes together."""
    beside = smallest.total_bytes - 2 * smallest.batch_bytes
    need = show_bytes(whole[1], up=True)
    text = f"a memory limit of {show_bytes(whole[0])} is too small: this feed needs {need}"
    one = needs.batch_bytes(1)
    if beside + 2 * one <= limit:
        fits = max(n for n in _halvings(needs.batch_size) if beside + 2 * needs.batch_bytes(n) <= limit)
        if needs.item_bytes:
            fits = max(fits, (limit - beside) // (2 * needs.item_bytes))
        return LimitError(
            f"{text} for batches of {needs.batch_size}; a batch size of {fits} would fit, or a limit of {need}",
            smallest_limit=whole[1],
            batch_size=fits,
        )
    at = int(np.argmax(needs.of_one_worker))
    record = keys(at) if keys else f"record {at}"
    size = show_bytes(int(needs.of_one_worker[at]), up=True)
    return LimitError(
        f"{text}; record {record!r} alone takes {size} to decode, so no batch size fits: raise the limit to {need}",
        smallest_limit=whole[1],
    )


def _halvings(number: int) -> Iterator[int]:
    while number > 1:
        yield number
        number //= 2
    yield 1
