"""Work by the workers of an executor, piece by piece; a cluster, by its scheduler's address, is an executor too."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import FIRST_COMPLETED, BrokenExecutor, CancelledError, Executor, Future, wait
from contextlib import contextmanager
from typing import TypeVar

from pannier.errors import PannierError, UsageError

# a piece whose worker died is done by another, so often
TRIES = RETRIES = 3
# so many are given out at once: plain data waits for a worker, not the other way round
GIVEN_OUT = 64
# of little work every worker gets some
LEAST_PIECES = 16
_CONNECT_SECONDS = 15

P = TypeVar("P")
B = TypeVar("B")
R = TypeVar("R")


def done_by(
    executor: Executor, work: Callable[[P], R], pieces: Iterable[tuple[P, B]], *, in_order: bool = False
) -> Iterator[tuple[P, B, R]]:
    """Has pieces of plain data done, and gives each as it comes, with what was kept here beside it and what came of it.

    Pieces are made as they are given out, and no more of them are held, waiting for one before them either (`in_order`);
    where this ends too soon, those that wait are not begun. Raises PannierError where workers die again and again, and
    whatever stopped a piece.
    """
    waiting, rest = dict[Future[R], tuple[int, P, B, int]](), enumerate(pieces)
    early, turn = dict[int, tuple[P, B, R]](), 0
    try:
        while True:
            while len(waiting) + len(early) < GIVEN_OUT and (given := next(rest, None)) is not None:
                number, (piece, beside) = given
                waiting[executor.submit(work, piece)] = (number, piece, beside, 1)
            if not waiting:
                return
            for future in wait(waiting, return_when=FIRST_COMPLETED).done:
                number, piece, beside, tries = waiting.pop(future)
                try:
                    result = future.result()
                except Exception as error:
                    if not _is_death(error):
                        raise
                    if tries == TRIES or isinstance(error, BrokenExecutor):
                        raise PannierError(f"workers of the executor die: {error or type(error).__name__}") from error
                    waiting[executor.submit(work, piece)] = (number, piece, beside, tries + 1)
                    continue
                early[number if in_order else turn] = (piece, beside, result)
                while turn in early:
                    yield early.pop(turn)
                    turn += 1
    finally:
        for future in waiting:
            future.cancel()


def _is_death(error: Exception) -> bool:
    """Whether a piece failed because its worker did: Dask tells that by errors of its own."""
    return isinstance(error, (BrokenExecutor, CancelledError)) or type(error).__module__.startswith("distributed.")


def runs_of(count: int, most: int) -> Iterator[range]:
    """So many things in runs, one a piece: of at most so many, and all workers get some."""
    step = max(1, min(most, -(-count // LEAST_PIECES)))
    yield from (range(at, min(at + step, count)) for at in range(0, count, step))


def check_reachable(*addresses: str) -> None:
    """Raises UsageError for a store that no other process can open."""
    if any(address.startswith("memory:") for address in addresses):
        raise UsageError("a store in memory is in this process alone: workers of an executor cannot open it")


@contextmanager
def workers_at(address: str | None) -> Iterator[Executor | None]:
    """The workers of the Dask cluster whose scheduler is at tcp://HOST:PORT, as long as the context lasts; None for none.

    Raises UsageError where `distributed` is missing, PannierError where nobody answers.
    """
    if address is None:
        yield None
        return
    try:
        from distributed import Client
    except ImportError:
        raise UsageError("a cluster needs distributed; pip install 'pannier[cluster]'") from None
    try:
        client = Client(address, timeout=_CONNECT_SECONDS, set_as_default=False)
    except (OSError, ValueError, TimeoutError) as error:
        what = "no scheduler answers there; dask scheduler starts one, dask worker its workers"
        raise PannierError(f"{address}: {what} ({error or type(error).__name__})") from error
    with client:
        yield client.get_executor(pure=False, retries=RETRIES)
