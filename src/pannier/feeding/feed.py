"""The feed: batches of one split, in an order that depends on content, treatment, seed and epoch alone."""

from __future__ import annotations

import time
import weakref
from collections.abc import Iterator, Mapping
from dataclasses import asdict
from typing import Any, NoReturn, Self

from pannier.errors import PannierError, UsageError
from pannier.feeding.batch import Batch
from pannier.feeding.hand import Stages
from pannier.feeding.job import FeedJob, FeedWork, note_on_fetching, notes_on
from pannier.feeding.metering import Count, Meter
from pannier.feeding.plan import Plan
from pannier.feeding.position import position_of, read_position
from pannier.feeding.sharing import Hold, Shared
from pannier.feeding.side_columns import checked_columns
from pannier.memory import was_refused
from pannier.store.state import State

# more epochs than anybody waits for
ENDLESS = 1 << 62


class Feed:
    """Batches as a job says. Iterating gives one epoch, the next `for` the next.

    `notes` are lines worth telling: what is left out of the treatment, what is rendered, what has changed since it was
    measured. For one consuming thread. `close` ends all threads and processes and may be called twice; a `with` block does.
    Raises LimitError, UsageError, NotFoundError at once; DamageError, naming shard, row and key, while feeding.
    """

    _batch_type: type[Batch] = Batch

    def __init__(self, job: FeedJob, state: State, shared: Shared | None = None, of: int = 0) -> None:
        self._shared, self._of = shared or Shared([job], state), of
        self.split, self.treatment, self.batch_size, self.seed = job.split, job.treatment, job.batch_size, job.seed
        self.shuffle, self.augment, self.last, self.label_as = job.shuffle, job.augment, job.last, job.label_as
        self._columns = checked_columns(state, job.columns)
        self.rendered_records = self._work.rendered_records
        self._notes = [*notes_on(self._work), *filter(None, [note_on_fetching(self._work, self.plan)])]
        self._upcoming = (0, 0)  # epoch and batch that the maker gives next
        _ = self._work.order  # what cannot be balanced or weighted is said at once
        self._next_epoch = self._reached = read_position(self._work, job.position)
        self._is_closed = False
        self._count = Count(job.split or "all records", job.log_every)
        self._hold = Hold(self._shared, of)
        self._finalizer = weakref.finalize(self, self._hold.abandon)

    @property
    def _work(self) -> FeedWork:
        return self._shared.works[self._of]

    @property
    def plan(self) -> Plan:
        """How it works, and with how much memory; of feeds that share an engine, all of them together."""
        return self._shared.plan

    @property
    def library_bytes(self) -> int:
        """Bytes that the libraries which this feed loaded add to the process; the memory limit does not count them.

        Libraries that an earlier feed loaded are not included. Known after the first batch, or `load`.
        """
        return self._shared.library_bytes

    def load(self) -> int:
        """Load the libraries and kernels that the feed needs now, rather than at its first batch; return `library_bytes`."""
        self._shared.load()
        return self.library_bytes

    @property
    def notes(self) -> list[str]:
        """Lines worth telling."""
        return [*self._notes, *self._shared.notes]

    def rearrange(self, limit: int | None, position: Mapping[str, Any] | None) -> None:
        """Before its first batch: under a lower limit, and from another position on. Raises UsageError, LimitError."""
        if self._shared.is_begun or self._is_closed:
            raise UsageError("this feed has begun, or is closed: open another")
        if not self._shared.is_of_one:
            raise UsageError("feeds that share an engine have it by turns, and are not mixed: open each by itself")
        if limit is not None:
            self._shared.bound(limit)
        if position is not None:
            self._next_epoch = self._reached = read_position(self._work, position)

    @property
    def array_kind(self) -> tuple[tuple[int, ...] | None, str]:
        """Shape and dtype of a picture in a batch; no shape for encoded bytes."""
        return self._work.array_kind

    @property
    def state(self) -> State:
        """The snapshot that it feeds."""
        return self._work.state

    def __len__(self) -> int:
        """Batches an epoch."""
        return self._work.course.batches

    @property
    def processes(self) -> int:
        """Processes that make the batches; 0 where threads of this one do."""
        return int(self._work.job.processes)

    @property
    def engines(self) -> dict[int, int]:
        """Processes that work for this feed now: by id, the bytes that each held before it began."""
        return self._hold.levels

    @property
    def _stages(self) -> Stages:
        """Seconds that each stage of the work has taken so far, in all threads."""
        return self._hold.stages

    @property
    def records(self) -> int:
        """Records of the split, or of its subset."""
        return len(self._work.rows)

    @property
    def pictures_per_epoch(self) -> int:
        """Pictures that an epoch gives: all of the split, or as `last`, `steps` and `parts` say."""
        return self._work.course.pictures

    def to_dict(self) -> dict[str, Any]:
        """What it feeds, how, and how it has done so far: plain data for JSON."""
        return {
            "split": self.split,
            "records": self.records,
            "batches_per_epoch": len(self),
            "shuffled": self.shuffle,
            "augmented": self.augment and self.treatment is not None and bool(self.treatment.varies),
            "rendered": self.rendered_records,
            "library_bytes": self.library_bytes,
            "processes": self.processes,
            "notes": self.notes,
            **self.meter.to_dict(),
            "plan": asdict(self.plan),
        }

    def __iter__(self) -> Iterator[Batch]:
        """The next epoch."""
        yield from self._one_epoch(1)

    def epochs(self, count: int | None = None) -> Iterator[Iterator[Batch]]:
        """The next `count` epochs, or without end, one iterator of batches each; work goes on across their borders."""
        if count is not None and count < 0:
            raise UsageError(f"{count} epochs: must be 0 or more")
        for left in range(ENDLESS if count is None else count, 0, -1):
            yield self._one_epoch(left)

    @property
    def position(self) -> dict[str, Any]:
        """Where it stands, after the last batch that was given: plain data, as JSON can hold it.

        `Snapshot.feed(..., position=...)` goes on with exactly the next batch, in any process, with other workers too.
        """
        return position_of(self._work, *self._reached)

    def batch_at(self, epoch: int, number: int) -> Batch:
        """One batch of an epoch, exactly as feeding that epoch gives it; the feed itself stays where it is.

        Only that batch is prepared. Raises UsageError where there is no such batch.
        """
        if epoch < 0 or not 0 <= number < len(self):
            raise UsageError(f"an epoch has the batches 0 to {len(self) - 1}: there is no batch {number} of epoch {epoch}")
        self._check_open()
        if self._count.is_running:
            raise UsageError("a loop over this feed is under way: finish it, or open a feed for this batch")
        self._upcoming = (epoch, number)
        self._hold.begin(epoch, epoch + 1, number, number + 1)
        try:
            return self._next_batch(number, epoch)
        finally:
            self._hold.stop()

    def _one_epoch(self, left: int) -> Iterator[Batch]:
        (epoch, begin), self._next_epoch = self._next_epoch, (self._next_epoch[0] + 1, 0)
        return self._batches_of(epoch, begin, epoch + left)

    def _batches_of(self, epoch: int, begin: int, until: int) -> Iterator[Batch]:
        self._check_open()
        self._go_on_from(epoch, begin, until)
        is_whole = False
        self._count.begin()
        try:
            for number in range(begin, len(self)):
                batch = self._next_batch(number, epoch)
                self._reached = self._upcoming
                self._count.tick(self)
                yield batch
                del batch
            is_whole = True
        finally:
            self._count.end()
            if not is_whole or self._upcoming[0] >= until:
                self._hold.stop()

    def _next_batch(self, number: int, epoch: int) -> Batch:
        self._check_open()
        started = time.perf_counter()
        made = self._hold.next()
        waited = time.perf_counter() - started
        if isinstance(made, BaseException):
            self._fail(made)
        if made is None or made.number != (epoch, number):
            raise UsageError("two loops over one feed at the same time: finish one, or open a feed for each")
        self._upcoming = self._work.course.after(epoch, number)
        self._count.gave(len(made.rows), waited)
        of = (made.images, epoch, number, made.rows, made.labels)
        return self._batch_type(*of, self.state, self.label_as, self.treatment, self._columns)

    def _fail(self, error: BaseException) -> NoReturn:
        self.close()
        if was_refused(error):
            what = "memory ran out while feeding, below the planned limit"
            raise PannierError(f"{what}: give a lower memory_limit or fewer workers") from error
        raise error

    def _go_on_from(self, epoch: int, begin: int, until: int) -> None:
        if not self._hold.is_under_way or self._upcoming != (epoch, begin):
            self._count.take_level()
            self._upcoming = (epoch, begin)
            self._hold.begin(epoch, until, begin)

    def close(self) -> None:
        """Ends all threads and processes and gives back all memory but that of batches which are still seen."""
        if self._is_closed:
            return
        self._is_closed = True
        self._finalizer.detach()
        self._hold.close()

    def end_lease(self) -> None:
        """Gives the snapshot up for tidying, as when the process is about to end."""
        self._shared.end_lease()

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()

    def _check_open(self) -> None:
        if self._is_closed:
            raise UsageError("this feed is closed: open a new one")

    @property
    def meter(self) -> Meter:
        """Pictures, seconds, waiting and memory since the first batch was asked for."""
        slots, planned = self._hold.buffers, self._work.settings.slots * max(1, self.processes)
        working = self.plan.total_bytes + (slots - planned) * self.plan.batch_bytes if slots else 0
        return self._count.read(working, self._hold.lent, self.processes, self.engines, self._hold.stages)
