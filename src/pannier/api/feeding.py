"""What of a snapshot is fed: feeds, views, arrays, and what is made or measured through a treatment."""

from __future__ import annotations

from collections.abc import Sequence
from concurrent.futures import Executor
from dataclasses import dataclass, field, fields
from pathlib import Path
from typing import Any, Literal

from pannier.api.treatments import Treatment, as_treatment
from pannier.array_types import Array
from pannier.choices import Progress
from pannier.errors import SourceError, UsageError
from pannier.feeding import batch, feed
from pannier.feeding.arrays import Arrays, arrays
from pannier.feeding.describing import Description, describe
from pannier.feeding.job import AUGMENTED_SPLIT, FeedOptions, job_of
from pannier.feeding.render_plan import DEFAULT_DISK_LIMIT, RenderPlan
from pannier.feeding.rendering import plan_rendering, render
from pannier.feeding.several import Feeds, jobs_of_splits
from pannier.feeding.sharing import Shared
from pannier.feeding.side_columns import class_weights
from pannier.feeding.statistics import Statistics, measure_values
from pannier.feeding.view import View
from pannier.measuring.measurement import Measurement
from pannier.measuring.settings import MeasureOptions
from pannier.measuring.sweep import measure
from pannier.pages.notebook import of_batch, of_feed
from pannier.spelling import spelled_method
from pannier.store.snapshots import SHOWN_DIGITS
from pannier.store.state import State


class Batch(batch.Batch):
    __doc__ = batch.Batch.__doc__

    def _repr_html_(self) -> str:
        return of_batch(self)


class Feed(feed.Feed):
    """Batches of a snapshot, as `Snapshot.feed` tells. Iterating gives one epoch, the next `for` the next.

    `notes` are lines worth telling: what is left out of the treatment, what is rendered, what has changed since it was
    measured. For one consuming thread. `close` ends all threads and may be called twice; a `with` block does it.
    """

    _batch_type = Batch

    @property
    def snapshot(self) -> Any:
        """The `Snapshot` that it feeds."""
        return self.state

    def describe(self) -> Description:
        """The next batch in numbers, and what looks wrong. Raises UsageError without a treatment, SourceError for none."""
        batch = next(iter(self), None)
        if batch is None:
            raise SourceError("there is no batch to describe: no record is left to feed")
        return describe(self, batch)

    def _repr_html_(self) -> str:
        return of_feed(self)

    def __repr__(self) -> str:
        of = f"{self.split or 'all splits'} of snapshot {self.state.id[:SHOWN_DIGITS]}: {self.records} records"
        return f"<Feed of {of}, {len(self)} batches of {self.batch_size}>"


@dataclass(frozen=True, kw_only=True)
class FeedingOptions(FeedOptions):
    """What is said of a feed beside what it feeds and through what, see `Snapshot.feed`."""

    size: int | tuple[int, int] | str | None = None
    values: str | None = None
    processes: int | Literal["auto"] = "auto"

    @property
    def how(self) -> dict[str, Any]:
        """The options, as a job takes them."""
        return {each.name: getattr(self, each.name) for each in fields(FeedOptions)}


@dataclass(frozen=True, kw_only=True)
class _Feeding(FeedingOptions):
    split: str | None = field(default="train", kw_only=False)
    treatment: Treatment | str | Path | None = field(default=None, kw_only=False)


@dataclass(frozen=True, kw_only=True)
class _FeedingSplits(FeedingOptions):
    treatment: Treatment | str | Path | None = field(default=None, kw_only=False)
    splits: str | Sequence[str] | None = None


@dataclass(frozen=True, kw_only=True)
class _Measuring(MeasureOptions):
    split: str | None = field(default="train", kw_only=False)
    treatment: Treatment | str | Path | None = field(default=None, kw_only=False)


def _needed(said: Any, size: Any, values: str | None = None) -> Treatment:
    treatment = as_treatment(said, size, values)
    if treatment is None:
        raise UsageError("say through which treatment: a Treatment, a TOML file's path, or size=96")
    return treatment


@dataclass(frozen=True, eq=False, repr=False)
class FedState(State):
    """What a snapshot feeds, see `Snapshot`."""

    @spelled_method(_Feeding)
    def feed(self, said: _Feeding) -> Feed:
        """Batches of a split, of several ("fold-1,fold-2"), or of all records for None or "all".

        treatment: a `Treatment`, a TOML file's path, or fields as text, "size=96,color=gray"; `size` and `values` ("unit",
        "signed" ...) go before its own. Without any, batches are lists of encoded pictures.
        batch_size: records a batch. last: what becomes of a last, smaller one: "keep", "drop", or "wrap", which fills it
        from the epoch's beginning. steps: batches an epoch, which then goes on where the one before ended; by default an
        epoch gives every record once. part, parts: one part of so many, 0 the first; together they give every record once,
        whatever feeds the others, and equally many batches where `last` is "drop" or "wrap", or `steps` are said.
        window: shuffle windows of so many neighbors, by hash of key, and the records in each, as a slow disk would have it.
        variations: times that every record comes in an epoch, each with random steps of its own, but for one if `plain`.
        balance: "class" or a side column, whose values come equally often, the records of each in turn. weights: a side
        column of numbers, as often as which records come. Both give as many pictures an epoch as there are records.
        columns: side columns that come with every batch, `batch.columns["loom"]`.
        position: of a feed of before, `feed.position`, which this one goes on from.
        seed: of the order and of every random step. subset: a part, as "10%" or 0.1, fair in every class, fixed by the seed;
        a smaller one lies in a larger. where: SQL over the records' columns, for a feed of some of them.
        shuffle, augment: by default for the split "train" alone. rendered: take rendered canvases where there are any
        (None), never (False), or raise where any is missing (True); "fill": keep what the first epoch makes, for the next
        ones, within `disk_limit` (bytes, "20GiB", or None) for all renderings of the store; raises StoreError beyond it.
        label_as: "number" int64 (N,), "one_hot" float32 (N, classes), "name" a list.
        processes: that make the batches, in memory shared with this one, whatever its own Python code does meanwhile; 0 for
        threads of this one; "auto" takes processes where an epoch is long and the limit large (see docs/feeding.md).
        workers: threads in all, by default the usable cores; for tiny pictures one in each process. ahead: batches kept
        ready, by default as the limit allows.
        memory_limit: bytes, "256MiB", "auto" (half of what is free) or None (unlimited): bounds what the feed adds to the
        resident memory of this process and of its worker processes, apart from the libraries that it loads; see `plan`.
        Libraries are loaded before the first batch, once in a process; `library_bytes` is their size. Batches that the
        consumer keeps beyond the current one are not counted.
        log_every: seconds after which a line of the meter goes to the log "pannier", level INFO.

        Equal content, split, treatment, seed and epoch give equal batches, whatever the workers, `ahead` and limit.
        Raises LimitError, UsageError, NotFoundError at once; DamageError, naming shard, row and key, while feeding.
        """
        return Feed(job_of(self, said.split, as_treatment(said.treatment, said.size, said.values), **said.how), self)

    @spelled_method(_FeedingSplits)
    def feeds(self, said: _FeedingSplits) -> Feeds[Feed]:
        """A feed for each split, by name, or for some: one engine and one memory limit for all, which they have by turns.

        Options as of `feed`. "train" is fed as they say; of the others each gives every record once an epoch, in order of
        keys, without random steps. position: of `feeds.position`.
        Raises LimitError, UsageError, NotFoundError.
        """
        job = job_of(
            self, AUGMENTED_SPLIT, as_treatment(said.treatment, said.size, said.values), **said.how | {"position": None}
        )
        jobs = jobs_of_splits(job, self, said.splits, said.position)
        shared = Shared([*jobs.values()], self)
        return Feeds({name: Feed(job, self, shared, at) for at, (name, job) in enumerate(jobs.items())})

    def view(
        self,
        split: str | None = "train",
        treatment: Treatment | str | Path | None = None,
        *,
        size: int | tuple[int, int] | str | None = None,
        values: str | None = None,
        seed: int = 0,
        subset: str | float | None = None,
        where: str | None = None,
        augment: bool | None = None,
        epoch: int = 0,
    ) -> View:
        """Records by index, for a loop with a sampler of its own: `view[i]` gives (array, class number). See `View`.

        augment: by default for the split "train" alone, as `epoch` draws it. Raises UsageError, NotFoundError.
        """
        how: dict[str, Any] = {"seed": seed, "subset": subset, "where": where, "augment": augment}
        return View(job_of(self, split, as_treatment(treatment, size, values), **how), self, epoch)

    def class_weights(self, split: str | None = "train") -> Array:
        """What a loss is weighted with so that classes count alike: float32 (classes,), by class number.

        Records / (classes that have any * records of the class), 0 for a class that has none. Raises NotFoundError, and
        UsageError where no record has a label.
        """
        return class_weights(self, split)

    @spelled_method(_Feeding)
    def arrays(self, said: _Feeding) -> Arrays:
        """A whole small split in memory: (images, labels, keys), in order of keys, without the random steps unless told.

        Options as of `feed`; memory_limit bounds the arrays too. Raises LimitError.
        """
        return arrays(self, said.split, _needed(said.treatment, said.size, said.values), FeedOptions(**said.how))

    def stats(
        self,
        split: str | None = "train",
        treatment: Treatment | str | Path | None = None,
        *,
        size: int | tuple[int, int] | str | None = None,
        workers: int | None = None,
        memory_limit: str | int | None = "auto",
        progress: Progress | None = None,
        executor: Executor | None = None,
    ) -> Statistics:
        """Mean, deviation, extremes and histogram of a split by channel, through a treatment's very size, fit and color.

        executor: of `concurrent.futures`, or a cluster's own, whose workers do it, with `workers` threads each.
        Raises SourceError where the split is empty, LimitError.
        """
        bounds: dict[str, Any] = {
            "workers": workers,
            "memory_limit": memory_limit,
            "progress": progress,
            "executor": executor,
        }
        return measure_values(self, split, _needed(treatment, size), **bounds)

    def render(
        self,
        split: str | None = "train",
        treatment: Treatment | str | Path | None = None,
        *,
        size: int | tuple[int, int] | str | None = None,
        disk_limit: str | int | None = DEFAULT_DISK_LIMIT,
        workers: int | None = None,
        memory_limit: str | int | None = "auto",
        check: bool = False,
        preview: bool = False,
        progress: Progress | None = None,
        executor: Executor | None = None,
    ) -> RenderPlan:
        """Runs the fixed part of a treatment once for a split and keeps it: feeds through an equal one need no decoding.

        disk_limit: the most bytes that all renderings of the store may take, or None. check: read what is there first, and
        make again what is damaged. preview: say what it would cost. executor: whose workers do it, as in `stats`.
        Raises StoreError where it would not fit.
        """
        through = _needed(treatment, size)
        if preview:
            return plan_rendering(self, through, split=split, disk_limit=disk_limit)
        bounds: dict[str, Any] = {
            "workers": workers,
            "memory_limit": memory_limit,
            "progress": progress,
            "executor": executor,
        }
        return render(self, through, split=split, disk_limit=disk_limit, check=check, **bounds)

    @spelled_method(_Measuring)
    def measure(self, said: _Measuring) -> Measurement:
        """Throughput of feeds, each in a process of its own whose memory the system limits, against the machine's ceiling.

        Of size (a list for several), batch_size, workers, processes, ahead, memory_limit (bytes, "256MiB", None) and source
        one or several are tried, each with each. By default two sources are, "shards" and "rendered" (of a sample where not
        all is rendered), 1 and 2 workers, and no memory limit; then the smallest limit that is as fast. source: also
        "folder:PATH". step: a consumer that takes so long for each batch, "20ms", or "python:20ms", in which it holds the
        interpreter lock. cold: the files' pages are dropped from the system's cache before each turn.
        search: a third of the settings at most are tried, to find the fastest under each limit.
        Trials and ceilings take turns, `rounds` times (12, or fewer where that would take over a minute), for
        `slice_seconds` each. progress: called with (rounds done, rounds in all). Raises UsageError, NotFoundError.
        """
        size = said.size[0] if isinstance(said.size, list) and said.size else said.size
        return measure(self, _needed(said.treatment, size), said.split, said)
