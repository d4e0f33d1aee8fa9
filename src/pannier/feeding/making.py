"""What makes batches for a feed: threads of this process, or processes of their own. The same batches, in the same order."""

from __future__ import annotations

from typing import Any, NamedTuple, Protocol

from pannier.array_types import Array
from pannier.feeding.hand import Stages


class Made(NamedTuple):
    """One batch: its number (epoch, batch), its records' rows in the manifest and class numbers, its pictures."""

    number: tuple[int, int]
    rows: Array
    labels: Array
    images: Any


class Maker(Protocol):
    """Makes batches ahead of one consumer, of one work at a time. `close` ends everything and may be called twice."""

    def begin(self, epoch: int, until: int, begin: int = 0, end: int | None = None, of: int = 0) -> None:
        """Starts on batches of one of its works, see `Course.numbers`; what was under way ends before."""

    def next(self) -> Made | BaseException | None:
        """The next of those batches, or what stopped them; waits for it. None where nothing is under way."""

    def stop(self) -> None:
        """Ends what is under way; when this returns, its buffers are free."""

    def close(self) -> None: ...

    def abandon(self) -> None:
        """As `close`, from a finalizer, which may run in any thread: waits for no thread."""

    @property
    def is_under_way(self) -> bool: ...

    @property
    def levels(self) -> dict[int, int]:
        """By process that works for this one, the bytes that it held before it began."""

    @property
    def stages(self) -> Stages:
        """What each stage of the work has taken so far."""

    @property
    def buffers(self) -> int:
        """Batch buffers that there are: more than planned where the consumer keeps batches."""

    @property
    def lent(self) -> int:
        """Those of them that the consumer still sees."""
