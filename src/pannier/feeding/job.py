"""A feed as plain data, and what it comes to: from the same job this process, a child or a trial builds the same engine."""

from __future__ import annotations

import hashlib
import logging
import sys
from collections.abc import Callable, Mapping, Sequence
from dataclasses import asdict, dataclass, field, replace
from functools import cached_property
from typing import Any, Literal

import numpy as np

from pannier.array_types import Flags
from pannier.budget import limit_bytes
from pannier.choices import LabelAs, Last, checked_choice
from pannier.columns import Rows
from pannier.errors import NotFoundError, UsageError
from pannier.feeding.chosen import Bits, ChosenRows
from pannier.feeding.course import Course
from pannier.feeding.needs import Needs, needs_of
from pannier.feeding.order import Balanced, Fixed, Order, Shuffled, Weighted, Windowed
from pannier.feeding.plan import Plan, make_plan, processes_for
from pannier.feeding.render_plan import DEFAULT_DISK_LIMIT
from pannier.feeding.side_columns import group_numbers, weights_of
from pannier.hashing import checked_seed
from pannier.images.cost import after_fit_bytes
from pannier.images.own_steps import registered
from pannier.images.prepare import compile_kernels
from pannier.images.treatment import Treatment
from pannier.machine import usable_cores
from pannier.storage.cache import CacheOptions
from pannier.storage.opening import cache_options
from pannier.storage.protocol import Far
from pannier.store.boxes import check_boxes, identities_of
from pannier.store.canvases import Rendering, rendering_of
from pannier.store.choosing import chosen_rows
from pannier.store.state import ALL, State, flags_of_split, open_store
from pannier.units import read_limit, show_bytes

AUGMENTED_SPLIT = "train"
# canvases are kept as they are made
FILL: Literal["fill"] = "fill"
# what is held for that beside a flag a record: a shard in the making
_FILLING_BYTES = 1 << 20
MOST_PROCESSES = 64
# what comes from afar ahead, the best first: a megabyte still keeps some requests in flight
FETCHED_BYTES = (64 << 20, 32 << 20, 8 << 20, 2 << 20, 0)
# with less of that ahead workers wait for the bucket
HIDING_BYTES = 8 << 20
# what an order that is no shuffle holds of each record
BYTES_PER_ORDERED_RECORD = 28

_log = logging.getLogger("pannier")


@dataclass(frozen=True, kw_only=True)
class FeedOptions:
    """How records are fed, as `Snapshot.feed` tells; what is None is chosen."""

    batch_size: int = 32
    seed: int = 0
    subset: str | float | None = None
    where: str | None = None
    shuffle: bool | None = None
    augment: bool | None = None
    rendered: bool | Literal["fill"] | None = None
    disk_limit: str | int | None = DEFAULT_DISK_LIMIT
    last: Last = "keep"
    steps: int | None = None
    part: int = 0
    parts: int = 1
    position: Mapping[str, Any] | None = None
    window: int | None = None
    variations: int = 1
    plain: bool = False
    balance: str | None = None
    weights: str | None = None
    columns: str | Sequence[str] = ()
    label_as: LabelAs = "number"
    workers: int | None = None
    processes: int | Literal["auto"] = 0
    ahead: int | None = None
    memory_limit: str | int | None = "auto"
    log_every: float | None = None

    def __post_init__(self) -> None:
        counts = ("batch_size", "workers", "ahead", "steps", "parts", "variations", "window")
        _check_counts(**{name: getattr(self, name) for name in counts})
        if sum((self.balance is not None, self.weights is not None, self.variations > 1)) > 1:
            raise UsageError("`balance`, `weights` and `variations` each say how often records come: give one of them")
        if self.window is not None and not (self.balance is self.weights is None and self.variations == 1):
            raise UsageError("`window` shuffles records of which each comes once: leave balance, weights and variations out")
        if self.plain and self.variations == 1:
            raise UsageError("`plain` is of `variations`: one of them without random steps; say how many")
        if self.processes != "auto" and (type(self.processes) is not int or not 0 <= self.processes <= MOST_PROCESSES):
            what = f"must be 0 for threads of this process, a number up to {MOST_PROCESSES}, or 'auto'"
            raise UsageError(f"processes = {self.processes!r}: {what}")
        if isinstance(self.part, bool) or not isinstance(self.part, int) or not 0 <= self.part < self.parts:
            raise UsageError(f"part = {self.part!r}: of {self.parts} parts there are 0 to {self.parts - 1}")
        if self.rendered not in (None, False, True, FILL):
            raise UsageError(f"rendered = {self.rendered!r}: True, False, {FILL!r}, or None for what is there")
        read_limit(self.disk_limit)
        if self.log_every is not None and not (isinstance(self.log_every, (int, float)) and self.log_every > 0):
            raise UsageError(f"log_every = {self.log_every!r}: so many seconds, more than 0, or None")
        checked_choice("last", self.last, Last)
        checked_choice("label_as", self.label_as, LabelAs)
        checked_seed(self.seed)


@dataclass(frozen=True, kw_only=True)
class FeedJob(FeedOptions):
    """All that a feed is, picklable: which records of which snapshot, through what, in which order, within what bounds.

    `rows` are chosen records in place of split, `subset` and `where`; `to_canvas`: batches are canvases to be kept.
    `by_digest`: see `Manifest`. turn: which of its processes this is, None where the feed itself is. cache: where what comes
    from afar is kept.
    """

    address: str
    snapshot: str
    split: str | None
    treatment: Treatment | None
    rows: Rows | None = field(default=None, compare=False)
    to_canvas: bool = False
    by_digest: bool = False
    turn: int | None = None
    cache: CacheOptions | None = None

    @property
    def fills(self) -> bool:
        """Whether canvases are kept as they are made."""
        return self.rendered == FILL and self.treatment is not None and not self.to_canvas

    @property
    def limit_bytes(self) -> int | None:
        """The memory limit; None for none."""
        return limit_bytes(self.memory_limit)

    def to_plain(self) -> dict[str, Any]:
        """As JSON takes it; own steps, which are functions of this process, do not travel."""
        treatment = self.treatment.model_dump(mode="json", exclude={"measured_on"}) if self.treatment else None
        return asdict(self) | {"treatment": treatment, "subset": None if self.subset is None else str(self.subset)}

    @staticmethod
    def from_plain(plain: Mapping[str, Any]) -> FeedJob:
        made = {"treatment": Treatment, "cache": CacheOptions}
        given = {name: None if plain[name] is None else kind(**plain[name]) for name, kind in made.items()}
        return FeedJob(**{**plain, **given})

    def open(self) -> State:
        """The snapshot, opened where the job runs. Raises NotFoundError."""
        return open_store(self.address, self.cache).state_of(self.snapshot, by_digest=self.by_digest)


class CannotTravel(Exception):
    """What a job is made of does not come to another process; the text says what."""


def modules_of(job: FeedJob) -> list[str]:
    """The modules that another process has to import for a job. Raises CannotTravel where that cannot do it at all."""
    if sys.platform != "linux":
        raise CannotTravel("engines in processes of their own are for Linux")
    if not sys.executable:
        raise CannotTravel("the program that runs here has no Python to start another with")
    if job.treatment is None:
        raise CannotTravel("without a treatment there is nothing but to read")
    if job.rows is not None or job.address.startswith("memory:"):
        raise CannotTravel("what is fed is in the memory of this process")
    return own_modules(job.treatment)


def own_modules(treatment: Treatment) -> list[str]:
    """The modules of a treatment's own steps. Raises CannotTravel where another process could not import one."""
    names = []
    for step in treatment.own:
        name = registered(step).function.__module__
        module = sys.modules.get(name)
        if name == "__main__" or module is None or module.__spec__ is None:
            raise CannotTravel(f"own step {step.name!r} is in {name}, which another process cannot import")
        names.append(name)
    return names


def job_of(state: State, split: str | None, treatment: Treatment | None = None, **options: Any) -> FeedJob:
    """The job that options as a user says them come to. Raises UsageError, TreatmentError, NotFoundError."""
    where: dict[str, Any] = {"address": state.storage.address, "snapshot": state.id, "by_digest": state.manifest.by_digest}
    where["cache"] = cache_options(state.storage)
    split = None if split == ALL and ALL not in state.splits else split
    job = FeedJob(**where, split=split, treatment=treatment, **options)
    if treatment is not None:
        treatment.check_ready()
        check_boxes(state.manifest, treatment)
    is_training = split == AUGMENTED_SPLIT
    chosen: dict[str, Any] = {name: is_training for name in ("shuffle", "augment") if getattr(job, name) is None}
    return replace(job, memory_limit=job.limit_bytes, **chosen)


def _check_counts(**counts: Any) -> None:
    for name, value in counts.items():
        is_optional = name != "batch_size"
        if not (is_optional and value is None) and (type(value) is not int or value < 1):
            raise UsageError(f"{name} = {value!r}: must be a whole number of 1 or more")


@dataclass(frozen=True)
class Settings:
    """What the engine's threads need to know."""

    permits: int
    workers: int
    heavy_lanes: int
    slots: int
    batch_size: int
    light_read_bytes: int
    light_decode_bytes: int
    light_scratch_bytes: int
    fetched_bytes: int
    is_tiny: bool


@dataclass(frozen=True)
class FeedWork:
    """What a job comes to on this machine: its records, which of them are heavy or rendered, and the plan.

    samples: of each format and mode that is decoded one small record, a row of the manifest.
    """

    job: FeedJob
    state: State
    rows: ChosenRows
    heavy: Bits | None
    rendering: Rendering | None
    rendered_records: int
    plan: Plan
    settings: Settings
    samples: Rows
    hindrance: str | None = None

    @cached_property
    def course(self) -> Course:
        """Which places of which pass come in a batch."""
        job = self.job
        turns = (0, 1) if job.turn is None else (job.turn, int(job.processes))
        return Course(self.order.length, job.batch_size, job.last, job.steps, job.part, job.parts, *turns)

    @cached_property
    def order(self) -> Order:
        """Which records stand at the places of a pass."""
        return order_of(self.job, self.state, len(self.rows), self.rows.rows)

    @property
    def array_kind(self) -> tuple[tuple[int, ...] | None, str]:
        """Shape and dtype of a picture in a batch; no shape for encoded bytes."""
        treatment = self.job.treatment
        if treatment is None:
            return None, "uint8"
        if self.job.to_canvas:
            return (treatment.channels, *treatment.frame.canvas), "uint8"
        return treatment.shape, treatment.dtype

    @property
    def is_copied(self) -> bool:
        """Whether a rendered canvas is the prepared array already, byte for byte."""
        treatment = self.job.treatment
        is_canvas = treatment is not None and treatment.is_canvas and (treatment.dtype, treatment.layout) == ("uint8", "chw")
        return is_canvas and treatment is not None and not treatment.own_at("values")

    def compile_kernels(self) -> None:
        """Compiles what the pictures of this feed need, and says so where that takes a while."""
        job, is_whole = self.job, self.rendered_records == len(self.rows)
        if job.treatment is None or (is_whole and self.is_copied and not job.augment):
            return
        how = {"augment": bool(job.augment), "has_canvases": self.rendering is not None, "to_canvas": job.to_canvas}
        compile_kernels(job.treatment, decodes=not is_whole, **how)
        if job.fills:
            compile_kernels(job.treatment, decodes=True, **how | {"to_canvas": True})


def work_of(job: FeedJob, state: State) -> FeedWork:
    """Chooses, looks for canvases, plans. Raises LimitError, UsageError, NotFoundError."""
    return works_of([job], state)[0]


def works_of(jobs: Sequence[FeedJob], state: State) -> list[FeedWork]:
    """The same of jobs that one engine does: they differ in what they feed and in which order, and have one plan."""
    first, chosen = jobs[0], [_chosen(job, state) for job in jobs]
    renderings = [_rendered(job, state, rows) for job, rows in zip(jobs, chosen, strict=True)]
    parts = [(rows, is_rendered) for rows, (_, is_rendered) in zip(chosen, renderings, strict=True)]
    beside = sum(_order_bytes(job, state, rows) for job, rows in zip(jobs, chosen, strict=True))
    made: dict[str, bool] = {"to_canvas": first.to_canvas, "keeps": first.fills}
    needs = needs_of(state.manifest, parts, first.treatment, first.batch_size, beside, **made)
    if state.storage.copies:
        needs = replace(needs, allocated=needs.allocated + needs.encoded)
    if isinstance(state.storage, Far):
        needs = replace(needs, fetched=FETCHED_BYTES)

    def key_at(kind: int) -> str:
        """Of the largest record of a kind."""
        wanted = np.arange(len(needs.counts)) == kind
        found = zip(chosen, needs.kinds.among(wanted), strict=True)
        of_kind = np.concatenate([rows.at(np.flatnonzero(flags)) for rows, flags in found])
        return state.record(int(of_kind[state.manifest.gather(of_kind, "byte_count").argmax()])).key

    count, hindrance = _processes(first, needs)
    how: dict[str, Any] = {"workers": first.workers, "ahead": first.ahead, "keys": key_at, "processes": count}
    plan = make_plan(needs, first.limit_bytes, usable_cores(), **how)
    heavy = needs.heavy(plan.light_bytes)
    settings = _settings(plan, needs, heavy, first)
    of_records = needs.kinds.among(heavy) if heavy.any() else [None] * len(parts)
    works, samples = list[FeedWork](), _samples(state, needs) if first.treatment is not None else np.empty(0, np.int64)
    for job, (rows, is_rendered), (rendering, _), flags in zip(jobs, parts, renderings, of_records, strict=True):
        job, bits = replace(job, processes=count), None if flags is None else Bits(flags)
        from_canvas = 0 if is_rendered is None else int(is_rendered.sum())
        works.append(FeedWork(job, state, rows, bits, rendering, from_canvas, plan, settings, samples, hindrance))
    return works


def _samples(state: State, needs: Needs) -> Rows:
    """Of each format and mode among the records that are decoded the one with the fewest pixels, by its kind's first row."""
    rows = needs.kinds.firsts[~needs.kinds.rendered]
    if not len(rows):
        return rows
    forms, modes, heights, widths = (state.manifest.gather(rows, name) for name in ("format", "mode", "height", "width"))
    order = np.argsort(heights.astype(np.int64) * widths, kind="stable")
    names = forms.astype(np.int64) * (1 << 32) + modes
    return rows[order[np.unique(names[order], return_index=True)[1]]]


def _chosen(job: FeedJob, state: State) -> ChosenRows:
    if job.rows is not None:
        return ChosenRows(job.rows, len(state))
    if job.subset is None and job.where is None:
        return ChosenRows(None if job.split is None else flags_of_split(state, job.split), len(state))
    return ChosenRows(chosen_rows(state, job.split, job.subset, job.seed, where=job.where), len(state))


def _order_bytes(job: FeedJob, state: State, rows: ChosenRows) -> int:
    """What a feed holds of its records: which they are, which of them are heavy; and what some orders and labels hold."""
    held = rows.byte_count + len(rows) // 8 + 8 + len(state) * job.by_digest
    if job.balance is not None or job.weights is not None or not job.shuffle:
        held += BYTES_PER_ORDERED_RECORD * len(rows) * max(1, job.variations)
    held += (len(state) + _FILLING_BYTES) * job.fills
    return held + 4 * len(state) * state.manifest.lacks("label")


def _processes(job: FeedJob, needs: Needs) -> tuple[int, str | None]:
    """How many processes make the batches, 0 for threads of this one, and what hinders those that were asked for."""
    wanted = job.processes
    if wanted == 0 or job.turn is not None:
        return int(wanted), None
    try:
        modules_of(job)
    except CannotTravel as cannot:
        return 0, None if wanted == "auto" else str(cannot)
    if wanted != "auto":
        return wanted, None
    pixels = None if needs.kinds.rendered.all() else needs.pixels
    return processes_for(needs.encoded_bytes, pixels, job.limit_bytes, usable_cores()), None


def order_of(job: FeedJob, state: State, count: int, all_rows: Callable[[], Rows]) -> Order:
    """The order of so many records that a job's options come to. Raises UsageError, NotFoundError."""
    if not job.shuffle:
        for name in ("balance", "weights", "window"):
            if getattr(job, name) is not None:
                raise UsageError(f"`{name}` orders records by chance: it needs `shuffle`")
        keys = [key.encode() for key in state.manifest.take(all_rows(), ["key"]).column(0).to_pylist()]
        in_order = np.array(sorted(range(len(keys)), key=keys.__getitem__), np.int64)
        return Fixed(in_order, job.variations)
    if job.balance is not None:
        return Balanced(group_numbers(state, job.balance, all_rows()), count, job.seed)
    if job.weights is not None:
        return Weighted(weights_of(state, job.weights, all_rows()), count, job.seed)
    return Shuffled(count, job.seed, job.variations) if job.window is None else Windowed(count, job.seed, job.window)


def _rendered(job: FeedJob, state: State, rows: ChosenRows) -> tuple[Rendering | None, Flags | None]:
    """The rendering of the treatment's fixed part, and which rows are in it; nothing vouches for what is in a canvas."""
    is_unwanted = job.rendered is False or (job.by_digest and not job.rendered)
    if job.treatment is None or is_unwanted or job.to_canvas:
        return None, None
    rendering = rendering_of(state.storage, job.treatment)
    if job.fills:
        there = None if rendering is None else rendering.has(identities_of(state.manifest, rows.rows(), job.treatment))
        return rendering or Rendering(state.storage, job.treatment.fixed_part), there
    is_rendered = None if rendering is None else rendering.has(identities_of(state.manifest, rows.rows(), job.treatment))
    missing = len(rows) if is_rendered is None else len(rows) - int(is_rendered.sum())
    if job.rendered and missing:
        raise NotFoundError(
            f"{missing:,} of {len(rows):,} pictures are not rendered through this fixed part: "
            "render them first, or leave `rendered` out"
        )
    return (None, None) if missing == len(rows) else (rendering, is_rendered)


def _settings(plan: Plan, needs: Needs, heavy: np.ndarray[Any, Any], job: FeedJob) -> Settings:
    """Buffers as large as the largest light record needs them."""
    light = ~heavy  # by kind
    has_light = bool(light.any()) or not len(light)
    after_fit = 0 if job.treatment is None else after_fit_bytes(job.treatment)  # that has its own buffers
    decoded = np.maximum(0, needs.own - after_fit) if needs.decoded is None else needs.decoded
    read, decode, scratch = (int(column[light].max(initial=0)) for column in (needs.encoded, decoded, needs.scratch))
    workers = plan.workers if has_light else 0
    bounds = (read, decode, scratch, plan.fetched_bytes)
    return Settings(plan.workers, workers, plan.heavy_lanes, plan.ahead + 1, job.batch_size, *bounds, needs.is_tiny)


def pictures_digest(state: State, split: str | None) -> str | None:
    """SHA-256 over the sorted SHA-256 of a split's pictures; None where the snapshot has no such split."""
    if split is not None and any(name.strip() not in state.splits for name in split.split(",")):
        return None
    sha256 = state.manifest.gather(state.rows_of(split), "sha256")
    return hashlib.sha256(np.sort(np.ascontiguousarray(sha256).view("S32").ravel()).tobytes()).hexdigest()


def note_on_fetching(work: FeedWork, plan: Plan) -> str | None:
    """That a limit is too small for a feed from afar to ask ahead; None for any other."""
    if not isinstance(work.state.storage, Far) or plan.limit_bytes is None or plan.fetched_bytes >= HIDING_BYTES:
        return None
    enough = show_bytes(-(-(plan.limit_bytes + 2 * HIDING_BYTES) >> 20) << 20)
    held = f"{show_bytes(plan.fetched_bytes)} of requests" if plan.fetched_bytes else "no request"
    return f"from afar: the limit leaves room for {held} ahead, so workers wait for the bucket; {enough} would do"


def notes_on(work: FeedWork) -> list[str]:
    """What is worth telling about how a feed uses its treatment."""
    job, treatment, notes = work.job, work.job.treatment, list[str]()
    if work.hindrance is not None:
        notes.append(f"threads of this process serve: {work.hindrance}")
    if treatment is None:
        return notes
    steps = ", ".join(treatment.varies)
    if treatment.varies and not job.augment and job.split is not None:
        notes.append(f"{job.split} is fed without the random steps ({steps}): those are for training")
    elif treatment.varies and job.augment and job.split != AUGMENTED_SPLIT:
        notes.append(f"{job.split or 'all records'}: fed with the random steps ({steps}), as told")
    if work.rendered_records:
        assert work.rendering is not None
        count, total = work.rendered_records, len(work.rows)
        notes.append(f"{count:,} of {total:,} pictures come from rendered canvases ({work.rendering.digest[:12]})")
    elif job.by_digest and job.rendered is None and rendering_of(work.state.storage, treatment) is not None:
        notes.append("a docket vouches for pictures alone: rendered canvases are used only if `rendered` says so")
    measured = treatment.measured_on
    if measured is not None and measured.content_id != work.state.content_id and measured.pictures is not None:
        now = pictures_digest(work.state, measured.split)
        if now != measured.pictures:
            changed = f"mean and std were measured on {measured.split or 'all records'} when it held other pictures"
            notes.append(f"{changed}: measure again, with pannier stats or treatment.measured")
            _log.warning("%s", notes[-1])
    return notes
