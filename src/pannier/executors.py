"""Work by the workers of an executor, piece by piece; a cluster, by its scheduler's address, is an executor too."""

from __future__ import annotations

import importlib
import logging
import os
import socket
import threading
from collections.abc import Callable, Collection, Iterable, Iterator, Sequence
from concurrent.futures import FIRST_COMPLETED, BrokenExecutor, CancelledError, Executor, Future, wait
from contextlib import contextmanager
from dataclasses import dataclass
from typing import Any, Generic, TypeVar

from pannier.errors import PannierError, UsageError

# a piece whose worker died is done by another, so often
TRIES = RETRIES = 3
# so many are given out at once: plain data waits for a worker, not the other way round
GIVEN_OUT = 64
# of little work every worker gets some
LEAST_PIECES = 16
_CONNECT_SECONDS = 15
# how often a call that waits looks whether the scheduler is there
_LOOK_SECONDS = 0.5

P = TypeVar("P")
B = TypeVar("B")
R = TypeVar("R")


@dataclass(frozen=True)
class Requirements:
    """What a worker must have before it does any work: the caller's versions, its stores and a sample of its files.

    versions: by module, of Pannier and of the libraries that decode pictures. paths: absolute, of folders and files.
    """

    versions: tuple[tuple[str, str], ...]
    paths: tuple[str, ...]

    @staticmethod
    def of_caller(paths: Iterable[str | bytes]) -> Requirements:
        """paths: those that lie on a disk; addresses of buckets and web servers are left out."""
        texts = (os.fsdecode(path) for path in paths)
        return Requirements(_versions(), tuple(os.path.abspath(path) for path in texts if "://" not in path))

    def lack(self) -> str | None:
        """What the process that calls this lacks, with its host; None where it lacks nothing."""
        for (name, version), (_, here) in zip(self.versions, _versions(), strict=True):
            if version != here:
                return (
                    f"the worker on {worker_name()} runs {name} {here}, and this process {version}: install the same there"
                )
        for path in self.paths:
            if not os.path.exists(path):
                return f"the worker on {worker_name()} does not see {path}: mount it there under the same path"
        return None


# the libraries that decode pictures, whose version decides pixels
_DECODERS = ("PIL", "cv2", "simplejpeg", "imagecodecs")


def _versions() -> tuple[tuple[str, str], ...]:
    return tuple((name, str(importlib.import_module(name).__version__)) for name in ("pannier", *_DECODERS))


def worker_name() -> str:
    """This process, as messages about a worker name it: its host and process id."""
    return f"{socket.gethostname()} (process {os.getpid()})"


@dataclass(frozen=True)
class _Guarded(Generic[P, R]):
    """A piece of work that a worker does only where it has what is required. Plain data, as far as `work` is."""

    work: Callable[[P], R]
    requirements: Requirements

    def __call__(self, piece: P) -> R:
        if lack := self.requirements.lack():
            raise PannierError(lack)
        return self.work(piece)


def check_workers(executor: Executor, requirements: Requirements) -> None:
    """Raises PannierError where a worker of a Dask cluster lacks something. Of other executors each piece is checked alone.

    A worker that joins later is checked by the first piece that it gets.
    """
    client = _client_of(executor)
    if client is None:
        return
    for address, lack in _asked_of_all(client, requirements).items():
        if isinstance(lack, BaseException):
            what = f"the worker at {address} cannot run this version of pannier ({type(lack).__name__}: {lack})"
            raise PannierError(f"{what}: install the same there, and the same Python")
        if lack:
            raise PannierError(f"{lack}; nothing was done")


def _client_of(executor: Executor) -> Any | None:
    """The Dask client behind an executor, which has no public way back to it; None for any other executor."""
    client = getattr(executor, "_client", None)
    return client if hasattr(client, "run") and hasattr(client, "status") else None


def _scheduler_lost(error: Exception | None = None) -> PannierError:
    detail = "" if error is None else f" ({error})"
    return PannierError(f"the cluster's scheduler does not answer any longer{detail}")


def _wait_for_one(client: Any | None, futures: Collection[Future[R]]) -> set[Future[R]]:
    """The futures that are done, at least one. Raises PannierError where a Dask client has lost its scheduler: its futures
    would stay as they are for ever."""
    while True:
        done = wait(futures, None if client is None else _LOOK_SECONDS, return_when=FIRST_COMPLETED).done
        if done:
            return done
        if client is not None and client.status in ("closing", "closed"):
            raise _scheduler_lost()


def _asked_of_all(client: Any, requirements: Requirements) -> dict[str, Any]:
    """What each worker of a Dask client lacks, or the error that asking it ended with, by the worker's address.

    Raises PannierError where the scheduler dies meanwhile: the client's own call would wait for ever.
    """
    answer: Future[dict[str, Any]] = Future()

    def ask() -> None:
        try:
            answer.set_result(client.run(requirements.lack, on_error="return"))
        except Exception as error:
            answer.set_exception(error)

    threading.Thread(target=ask, name="pannier-ask-workers", daemon=True).start()
    _wait_for_one(client, [answer])
    try:
        return answer.result()
    except Exception as error:
        if not _is_death(error) and not isinstance(error, OSError):
            raise
        raise _scheduler_lost(error) from error


def done_by(
    executor: Executor,
    work: Callable[[P], R],
    pieces: Iterable[tuple[P, B]],
    *,
    paths: Sequence[str | bytes] = (),
    in_order: bool = False,
) -> Iterator[tuple[P, B, R]]:
    """Has pieces of plain data done, and gives each as it comes, with what was kept here beside it and what came of it.

    paths: of stores and files that every worker must see; where one does not, or runs other versions, nothing is done.
    Pieces are made as they are given out, and no more of them are held, waiting for one before them either (`in_order`);
    where this ends too soon, those that wait are not begun. Raises PannierError where workers die again and again, where
    one lacks what this process has, and whatever stopped a piece.
    """
    requirements = Requirements.of_caller(paths)
    check_workers(executor, requirements)
    work, client = _Guarded(work, requirements), _client_of(executor)
    waiting, rest = dict[Future[R], tuple[int, P, B, int]](), enumerate(pieces)
    early, turn = dict[int, tuple[P, B, R]](), 0
    try:
        while True:
            while len(waiting) + len(early) < GIVEN_OUT and (given := next(rest, None)) is not None:
                number, (piece, beside) = given
                waiting[_submitted(executor, work, piece)] = (number, piece, beside, 1)
            if not waiting:
                return
            for future in _wait_for_one(client, waiting):
                number, piece, beside, tries = waiting.pop(future)
                try:
                    result = future.result()
                except Exception as error:
                    if not _is_death(error):
                        raise
                    if tries == TRIES or isinstance(error, BrokenExecutor):
                        raise PannierError(f"workers of the executor die: {error or type(error).__name__}") from error
                    waiting[_submitted(executor, work, piece)] = (number, piece, beside, tries + 1)
                    continue
                early[number if in_order else turn] = (piece, beside, result)
                while turn in early:
                    yield early.pop(turn)
                    turn += 1
    finally:
        for future in waiting:
            future.cancel()


def _submitted(executor: Executor, work: Callable[[P], R], piece: P) -> Future[R]:
    """A piece given out. Raises PannierError where the scheduler of a cluster does not answer any longer."""
    try:
        return executor.submit(work, piece)
    except Exception as error:
        if type(error).__module__.startswith("distributed."):
            raise _scheduler_lost(error) from error
        raise


def _is_death(error: Exception) -> bool:
    """Whether a piece failed because its worker did: Dask tells that by errors of its own."""
    return isinstance(error, (BrokenExecutor, CancelledError)) or type(error).__module__.startswith("distributed.")


def runs_of(count: int, most: int) -> Iterator[range]:
    """So many things in runs, one a piece: of at most so many, and all workers get some."""
    step = max(1, min(most, -(-count // LEAST_PIECES)))
    yield from (range(at, min(at + step, count)) for at in range(0, count, step))


def for_workers(address: str) -> str:
    """A store's address as any other process can open it: a path is made absolute.

    Raises UsageError for a store that no other process can open.
    """
    if address.startswith("memory:"):
        raise UsageError("a store in memory is in this process alone: workers of an executor cannot open it")
    return address if "://" in address else os.path.abspath(address)


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
        raise UsageError("a cluster needs the package distributed: pip install distributed") from None
    try:
        client = Client(address, timeout=_CONNECT_SECONDS, set_as_default=False)
    except (OSError, ValueError, TimeoutError) as error:
        what = "no scheduler answers there; dask scheduler starts one, dask worker its workers"
        raise PannierError(f"{address}: {what} ({error or type(error).__name__})") from error
    with _errors_alone("distributed", "tornado", "asyncio", "concurrent.futures"), client:
        yield client.get_executor(pure=False, retries=RETRIES)


@contextmanager
def _errors_alone(*loggers: str) -> Iterator[None]:
    """Keeps libraries from logging what is raised as an error, too: a scheduler that dies would be told of once a piece."""
    names = [name for name in logging.root.manager.loggerDict if name.split(".")[0] in loggers or name in loggers]
    levels = [(logging.getLogger(name), logging.getLogger(name).level) for name in {*loggers, *names}]
    for logger, _ in levels:
        logger.setLevel(logging.CRITICAL + 1)
    try:
        yield
    finally:
        for logger, level in levels:
            logger.setLevel(level)
