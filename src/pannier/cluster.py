"""Workers elsewhere: a cluster as an executor of `concurrent.futures`, by its scheduler's address."""

from __future__ import annotations

from collections.abc import Iterator
from concurrent.futures import Executor
from contextlib import contextmanager

from pannier.errors import PannierError, UsageError

# a task whose worker died is done by another, so often
RETRIES = 3
_CONNECT_SECONDS = 15


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
