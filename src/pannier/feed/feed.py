"""The feed: batches of one split, in an order that depends on content, treatment, seed and epoch alone."""

from __future__ import annotations

import hashlib
import logging
import time
import weakref
from collections.abc import Iterator
from dataclasses import dataclass, replace
from functools import cached_property
from typing import Any, Literal, NoReturn

import numpy as np

from pannier.errors import NotFoundError, PannierError, UsageError
from pannier.feed.buffers import Slot
from pannier.feed.engine import Engine, Settings, Stream
from pannier.feed.lookup import Issued, Lookup
from pannier.feed.order import ORDER_BYTES_PER_RECORD
from pannier.feed.plan import Needs, Plan, is_heavy, make_plan
from pannier.hashing import checked_seed
from pannier.images.cost import Kinds, after_fit_bytes, decoding_costs, kind_of
from pannier.images.treatment import Treatment
from pannier.machine import free_memory_bytes, usable_cores
from pannier.sizes import read_limit
from pannier.store.canvases import Rendering, check_boxes, identities_of, rendering_of
from pannier.store.leases import Held, reading
from pannier.store.manifest import Manifest
from pannier.store.snapshot import Snapshot

LabelAs = Literal["number", "one_hot", "binary", "name"]
Array = np.ndarray[Any, Any]

AUGMENTED_SPLIT = "train"

_log = logging.getLogger("pannier")


@dataclass(frozen=True)
class Batch:
    """One batch. `images` is an array (N, ...) of the treatment's shape and dtype, or a list of encoded bytes without one.

    It stays valid as long as anything sees it. `labels`: int64 (N,), float32 (N, classes), float32 (N, 1) or a list of
    names, as the feed's `label_as` says; a record without a label has -1, zeros, NaN or None.
    """

    images: Any
    epoch: int
    number: int
    _rows: Array
    _snapshot: Snapshot
    _label_as: LabelAs
    _treatment: Treatment | None = None

    def __len__(self) -> int:
        return len(self._rows)

    def picture(self, at: int) -> Array:
        """One of them as one sees it: uint8 (h, w, channels), values undone. Raises UsageError for encoded pictures."""
        if self._treatment is None:
            raise UsageError("without a treatment pictures come as encoded bytes: there are no values to undo")
        return self._treatment.undo(self.images[at])

    def _repr_html_(self) -> str:
        from pannier.figures.notebook import of_batch

        return of_batch(self)

    @cached_property
    def keys(self) -> list[str]:
        """Which records these are."""
        keys: list[str] = self._snapshot.manifest.take(self._rows, ["key"]).column(0).to_pylist()
        return keys

    @cached_property
    def names(self) -> list[str | None]:
        """Their labels, as names."""
        (names,) = self._snapshot.manifest.lists(self._rows, ["label"])
        return names

    @cached_property
    def labels(self) -> Any:
        if self._label_as == "name":
            return self.names
        number_of = self._snapshot.class_numbers
        numbers = np.array([-1 if name is None else number_of[name] for name in self.names], np.int64)
        if self._label_as == "number":
            return numbers
        if self._label_as == "binary":
            return np.where(numbers < 0, np.nan, numbers).astype(np.float32)[:, None]
        hot = np.zeros((len(numbers), len(number_of)), np.float32)
        labelled = np.flatnonzero(numbers >= 0)
        hot[labelled, numbers[labelled]] = 1
        return hot


@dataclass(frozen=True)
class Meter:
    """How a feed has done so far. `waiting_share` is the part of the time that the consumer waited for batches."""

    pictures: int
    seconds: float
    waiting_share: float
    working_memory_bytes: int

    @property
    def pictures_per_second(self) -> float:
        return self.pictures / self.seconds if self.seconds else 0.0


class Feed:
    """Batches of a split of a snapshot, of several ("fold-1,fold-2"), or of all records for None.

    Iterating gives one epoch, the next `for` the next.
    batch_size: records a batch; the last one of an epoch may be smaller (last="keep") or is left out (last="drop").
    seed: of the order and of every random step. subset: a part, as "10%" or 0.1, fair in every class, fixed by the seed;
    a smaller one lies in a larger. where: SQL over the records' columns, for a feed of some of them.
    shuffle, augment: by default for the split "train" alone. rendered: take rendered canvases where there are any (None),
    never (False), or raise where any is missing (True).
    label_as: "number" int64 (N,), "one_hot" float32 (N, classes), "binary" float32 (N, 1) of two classes, "name".
    workers: threads, by default the usable cores. ahead: batches kept ready, by default as the limit allows.
    memory_limit: bytes, "256MiB", "auto" (half of what is free) or None (unlimited): bounds what the feed and its workers
    hold, see `plan`. Batches that the consumer keeps beyond the one in hand are the consumer's.

    Equal content, split, treatment, seed and epoch give equal batches, whatever the workers, `ahead` and limit.
    `notes` are lines worth telling: what is left out of the treatment, what is rendered, what has changed since it was
    measured.
    For one consuming thread. `close` ends all threads and may be called twice; a `with` block does it.
    Raises LimitError, UsageError, NotFoundError at once; DamageError, naming shard, row and key, while feeding.
    """

    _to_canvas = False  # of a feed that renders, whose batches are canvases

    def __init__(
        self,
        snapshot: Snapshot,
        split: str | None,
        treatment: Treatment | None = None,
        *,
        batch_size: int = 32,
        seed: int = 0,
        subset: str | float | None = None,
        where: str | None = None,
        shuffle: bool | None = None,
        augment: bool | None = None,
        rendered: bool | None = None,
        last: Literal["keep", "drop"] = "keep",
        label_as: LabelAs = "number",
        workers: int | None = None,
        ahead: int | None = None,
        memory_limit: str | int | None = "auto",
    ) -> None:
        _check(batch_size, last, label_as, workers, ahead)
        if treatment is not None:
            treatment.check_ready()
            check_boxes(snapshot, treatment)
        if label_as == "binary" and len(snapshot.classes) != 2:
            raise UsageError(f'label_as = "binary" needs two classes; this snapshot has {len(snapshot.classes)}')
        self.snapshot, self.split, self.treatment = snapshot, split, treatment
        self.batch_size, self.seed, self.last, self.label_as = batch_size, checked_seed(seed), last, label_as
        self.shuffle = split == AUGMENTED_SPLIT if shuffle is None else shuffle
        self.augment = split == AUGMENTED_SPLIT if augment is None else augment
        self._rows = self._chosen_rows(subset, where)
        self.rendering = None
        is_rendered: Array = np.zeros(len(self._rows), bool)
        if treatment is not None and rendered is not False and not self._to_canvas:
            self.rendering, is_rendered = _rendered(snapshot, self._rows, treatment, must=rendered is True)
        self.rendered_records = int(is_rendered.sum())
        self.notes = _notes(self)
        needs = _needs(snapshot, self._rows, treatment, batch_size, is_rendered, to_canvas=self._to_canvas)
        self.plan: Plan = make_plan(
            needs, limit_bytes(memory_limit), usable_cores(), workers=workers, ahead=ahead, keys=self._key_of_position
        )
        self._heavy = is_heavy(needs, self.plan.light_bytes)
        after_fit = 0 if treatment is None else after_fit_bytes(treatment)
        self._settings = replace(
            _settings(self.plan, needs, self._heavy, batch_size, after_fit),
            to_canvas=self._to_canvas,
            rendering=self.rendering,
        )
        self._engine: Engine | None = None
        self._lease: Held | None = None
        self._stream: Stream | None = None
        self._upcoming = (0, 0)  # epoch and batch that the stream gives next
        self._ready: dict[tuple[int, int], Issued] = {}
        self._epoch = 0
        self._is_closed = False
        self._delivered = 0
        self._pictures = 0
        self._seconds = self._waited = 0.0
        self._since: float | None = None

    def _chosen_rows(self, subset: str | float | None, where: str | None) -> Array:
        return self.snapshot.subset_of(self.split, subset, self.seed, where=where)

    def __len__(self) -> int:
        """Batches an epoch."""
        count = len(self._rows)
        return count // self.batch_size if self.last == "drop" else -(-count // self.batch_size)

    @property
    def records(self) -> int:
        """Records of the split, or of its subset."""
        return len(self._rows)

    @property
    def pictures_per_epoch(self) -> int:
        """Records that an epoch gives: all of the split, but for those that last="drop" leaves out."""
        return min(self.records, len(self) * self.batch_size)

    def __iter__(self) -> Iterator[Batch]:
        """The next epoch."""
        yield from self._one_epoch(1)

    def epochs(self, count: int) -> Iterator[Iterator[Batch]]:
        """The next `count` epochs, one iterator of batches each; work goes on across their borders."""
        if count < 0:
            raise UsageError(f"{count} epochs: must be 0 or more")
        for left in range(count, 0, -1):
            yield self._one_epoch(left)

    def batch_at(self, epoch: int, number: int) -> Batch:
        """One batch of an epoch, exactly as feeding that epoch gives it; the feed itself stays where it is.

        Only that batch is prepared. Raises UsageError where there is no such batch.
        """
        if epoch < 0 or not 0 <= number < len(self):
            raise UsageError(f"an epoch has the batches 0 to {len(self) - 1}: there is no batch {number} of epoch {epoch}")
        self._check_open()
        if self._since is not None:
            raise UsageError("a loop over this feed is under way: finish it, or open a feed for this batch")
        self._stop_stream()
        self._start_engine()
        assert self._engine is not None
        lookup = self._lookup()
        self._ready, self._upcoming = {}, (epoch, number)
        self._stream = self._engine.start(lookup.batches(epoch, epoch + 1, number, number + 1), lookup.key_of, lookup.found)
        try:
            return self._next_batch(number, epoch)
        finally:
            self._stop_stream()

    def _one_epoch(self, left: int) -> Iterator[Batch]:
        epoch, self._epoch = self._epoch, self._epoch + 1
        return self._batches_of(epoch, epoch + left)

    def _batches_of(self, epoch: int, until: int) -> Iterator[Batch]:
        self._check_open()
        self._stream_from(epoch, until)
        is_whole = False
        self._since = time.perf_counter()
        try:
            for number in range(len(self)):
                batch = self._next_batch(number, epoch)
                self._tick()
                yield batch
                del batch
            is_whole = True
        finally:
            self._tick()
            self._since = None
            if not is_whole or self._upcoming[0] >= until:
                self._stop_stream()

    def _next_batch(self, number: int, epoch: int) -> Batch:
        self._check_open()
        started = time.perf_counter()
        issued, slot = self._collect()
        self._waited += time.perf_counter() - started
        if self._lease is not None:
            self._lease.renew()
        if issued.number != (epoch, number):
            raise UsageError("two loops over one feed at the same time: finish one, or open a feed for each")
        self._upcoming = (epoch, number + 1) if number + 1 < len(self) else (epoch + 1, 0)
        self._delivered += 1
        self._pictures += len(issued.rows)
        return Batch(
            self._images(slot, len(issued.rows)), epoch, number, issued.rows, self.snapshot, self.label_as, self.treatment
        )

    def _images(self, slot: Slot, count: int) -> Any:
        assert self._engine is not None
        if slot.shape is not None:
            return self._engine.free.lend(slot, count)
        images = slot.items[:count]
        slot.items[:] = [b""] * len(slot.items)
        self._engine.free.put(slot)
        return images

    def _collect(self) -> tuple[Issued, Slot]:
        """Waits until the next batch in order is whole."""
        stream, engine = self._stream, self._engine
        if stream is None or engine is None:
            raise UsageError("two loops over one feed at the same time: finish one, or open a feed for each")
        while True:
            whole = self._ready.pop(self._upcoming, None)
            if whole is not None:
                assert whole.slot is not None
                slot, whole.slot = whole.slot, None
                return whole, slot
            self._spare_slot_if_all_are_kept(stream, engine)
            try:
                batch, error = engine.next_done(stream)
            except PannierError as died:
                self._fail(died)
            if error is not None:
                self._fail(error)
            if batch is not None:
                stream.collected += 1
                self._ready[batch.number] = batch

    def _spare_slot_if_all_are_kept(self, stream: Stream, engine: Engine) -> None:
        """A consumer that keeps every batch would wait for ever: then it gets one more buffer, which it keeps too."""
        for _ in range(3):
            if not (
                stream.collected == stream.issued
                and engine.is_waiting_for_slot
                and engine.free.empty()
                and stream.done.empty()
            ):
                return
            time.sleep(0.001)
        engine.add_slot()

    def _fail(self, error: BaseException) -> NoReturn:
        self.close()
        if isinstance(error, MemoryError):
            raise PannierError(
                "memory ran out while feeding, below the planned limit: give a lower --memory-limit or fewer workers"
            ) from error
        raise error

    def _stream_from(self, epoch: int, until: int) -> None:
        if self._stream is not None and self._upcoming == (epoch, 0) and not self._stream.is_cancelled:
            return
        self._stop_stream()
        self._start_engine()
        assert self._engine is not None
        self._ready, self._upcoming = {}, (epoch, 0)
        lookup = self._lookup()
        self._stream = self._engine.start(lookup.batches(epoch, until), lookup.key_of, lookup.found)

    def _start_engine(self) -> None:
        if self._engine is None:
            self._lease = reading(self.snapshot.store.directory, [self.snapshot.id])
            self._engine = Engine(self.snapshot.store.directory, self.treatment, self._settings)
            self._finalizer = weakref.finalize(self, _abandon, self._engine, self._lease)

    def _lookup(self) -> Lookup:
        return Lookup(
            self.snapshot,
            self._rows,
            self._heavy,
            batch_size=self.batch_size,
            steps=len(self),
            seed=self.seed,
            shuffle=self.shuffle,
            treatment=self.treatment,
            augment=self.augment and not self._to_canvas,
            rendering=self.rendering,
        )

    def _stop_stream(self) -> None:
        stream, self._stream = self._stream, None
        if stream is not None and self._engine is not None:
            for batch in self._ready.values():
                if batch.slot is not None:
                    self._engine.free.put(batch.slot)
                    batch.slot = None
            self._ready = {}
            self._engine.cancel(stream)

    def close(self) -> None:
        """Ends every thread and gives back all memory but that of batches which are still seen."""
        if self._is_closed:
            return
        self._is_closed = True
        stream, self._stream = self._stream, None
        if stream is not None:
            stream.is_cancelled = True
        if self._engine is not None:
            self._finalizer.detach()
            self._engine.close()
            if self._lease is not None:
                self._lease.end()
        self._ready = {}

    def __enter__(self) -> Feed:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()

    def _check_open(self) -> None:
        if self._is_closed:
            raise UsageError("this feed is closed: open a new one")

    def _tick(self) -> None:
        if self._since is not None:
            now = time.perf_counter()
            self._seconds += now - self._since
            self._since = now

    @property
    def meter(self) -> Meter:
        """Pictures, seconds, waiting and memory since the first batch was asked for."""
        self._tick()
        slots = self._engine.slot_count if self._engine else 0
        memory = self.plan.total_bytes + (slots - self._settings.slots) * self.plan.batch_bytes if slots else 0
        return Meter(self._pictures, self._seconds, self._waited / self._seconds if self._seconds else 0.0, memory)

    def _key_of_position(self, position: int) -> str:
        key: str = self.snapshot.manifest.take([self._rows[position]], ["key"]).column(0)[0].as_py()
        return key


def _abandon(engine: Engine, lease: Held | None) -> None:
    """What becomes of a feed that nobody closed."""
    engine.abandon()
    if lease is not None:
        lease.end()


def _check(batch_size: Any, last: Any, label_as: Any, workers: Any, ahead: Any) -> None:
    for name, value, optional in (
        ("batch_size", batch_size, False),
        ("workers", workers, True),
        ("ahead", ahead, True),
    ):
        if not (optional and value is None) and (type(value) is not int or value < 1):
            raise UsageError(f"{name} = {value!r}: must be a whole number of 1 or more")
    if last not in ("keep", "drop"):
        raise UsageError(f"last = {last!r}: must be 'keep' or 'drop'")
    if label_as not in ("number", "one_hot", "binary", "name"):
        raise UsageError(f"label_as = {label_as!r}: must be 'number', 'one_hot', 'binary' or 'name'")


def limit_bytes(memory_limit: str | int | None) -> int | None:
    """A memory limit in bytes: "auto" is half of what is free, None unlimited."""
    limit = read_limit(memory_limit)
    return free_memory_bytes() // 2 if isinstance(limit, str) else limit


def _rendered(snapshot: Snapshot, rows: Array, treatment: Treatment, *, must: bool) -> tuple[Rendering | None, Array]:
    """The rendering of the treatment's fixed part, and which rows are in it."""
    rendering = rendering_of(snapshot.store.directory, treatment)
    found = np.zeros(len(rows), bool)
    if rendering is not None:
        found = rendering.has(identities_of(snapshot, rows, treatment))
    if must and not found.all():
        raise NotFoundError(
            f"{len(rows) - int(found.sum()):,} of {len(rows):,} pictures are not rendered through this fixed part: "
            "run pannier render first, or leave rendered=True out"
        )
    return (rendering if found.any() else None), found


def _notes(feed: Feed) -> list[str]:
    """What is worth telling about how a feed uses its treatment."""
    treatment, found = feed.treatment, list[str]()
    if treatment is None:
        return found
    if treatment.varies and not feed.augment and feed.split is not None:
        found.append(f"{feed.split} is fed without the random steps ({', '.join(treatment.varies)}): those are for training")
    elif treatment.varies and feed.augment and feed.split != AUGMENTED_SPLIT:
        found.append(f"{feed.split or 'all records'}: fed with the random steps ({', '.join(treatment.varies)}), as told")
    if feed.rendering is not None:
        count, total = feed.rendered_records, len(feed._rows)
        found.append(f"{count:,} of {total:,} pictures come from rendered canvases ({feed.rendering.digest[:12]})")
    measured = treatment.measured_on
    if measured is not None and measured.content_id != feed.snapshot.content_id and measured.pictures is not None:
        now = pictures_digest(feed.snapshot, measured.split)
        if now != measured.pictures:
            changed = f"mean and std were measured on {measured.split or 'all records'} when it held other pictures"
            found.append(f"{changed}: measure again with pannier stats --save")
            _log.warning("%s", found[-1])
    return found


def pictures_digest(snapshot: Snapshot, split: str | None) -> str | None:
    """SHA-256 over the sorted SHA-256 of a split's pictures; None where the snapshot has no such split."""
    if split is not None and any(name.strip() not in snapshot.splits for name in split.split(",")):
        return None
    sha256 = snapshot.manifest.gather(snapshot.rows_of(split), "sha256")
    return hashlib.sha256(np.sort(np.ascontiguousarray(sha256).view("S32").ravel()).tobytes()).hexdigest()


def _needs(
    snapshot: Snapshot,
    rows: Array,
    treatment: Treatment | None,
    batch_size: int,
    is_rendered: Array,
    *,
    to_canvas: bool = False,
) -> Needs:
    """What the records of a split cost, from the manifest alone."""
    manifest = snapshot.manifest
    encoded = manifest.column("byte_count")[rows].astype(np.int64)
    none = np.zeros(len(rows), np.int64)
    order_bytes = len(rows) * ORDER_BYTES_PER_RECORD
    if treatment is None:
        return Needs(encoded, encoded, none, none, None, batch_size, order_bytes)  # read, then copied out
    heights, widths, turns, progressive = (
        manifest.column(name)[rows] for name in ("height", "width", "turn", "progressive")
    )
    costs = decoding_costs(_kinds(manifest, rows), heights, widths, turns, progressive, encoded, treatment)
    tall, wide = treatment.frame.canvas
    canvas = treatment.channels * tall * wide
    parts = encoded, costs.own, costs.allocated, costs.scratch
    if is_rendered.any():
        after = (canvas, after_fit_bytes(treatment), 0, 0)  # a canvas is read in place of the picture
        rendered = [np.where(is_rendered, each, column) for each, column in zip(after, parts, strict=True)]
        parts = rendered[0], rendered[1], rendered[2], rendered[3]
    return Needs(*parts, canvas if to_canvas else treatment.byte_count, batch_size, order_bytes)


def _kinds(manifest: Manifest, rows: Array) -> Kinds:
    """What formats and modes mean for decoding: looked up once for each pair of names, then by number."""
    (formats, format_names), (modes, mode_names) = manifest.codes("format"), manifest.codes("mode")
    table = np.array([[kind_of(form, mode) for mode in mode_names] for form in format_names], bool)
    if not table.size:
        return Kinds(*(np.zeros(0, bool) for _ in range(3)))
    pairs = formats[rows] * len(mode_names) + modes[rows]
    return Kinds(*(table.reshape(-1, 3)[:, i][pairs] for i in range(3)))


def _settings(plan: Plan, needs: Needs, heavy: Array, batch_size: int, after_fit: int) -> Settings:
    """Buffers as large as the largest light record needs them."""
    light = ~heavy
    has_light = bool(light.any()) or not len(light)
    read, decode, scratch = (int(column[light].max(initial=0)) for column in (needs.encoded, needs.own, needs.scratch))
    decode = max(0, decode - after_fit)  # what follows the fit has its own buffers
    light_threads = plan.workers if has_light else 0
    return Settings(plan.workers, light_threads, plan.heavy_lanes, plan.ahead + 1, batch_size, read, decode, scratch)
