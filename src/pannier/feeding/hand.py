"""The hand: what one thread of the engine reads, checks, decodes and prepares with."""

from __future__ import annotations

import logging
from collections.abc import Sequence
from time import perf_counter, thread_time
from typing import Any, NamedTuple

import numpy as np

from pannier.errors import PictureError, TreatmentError
from pannier.feeding.buffers import Slot
from pannier.feeding.fetching import Fetcher
from pannier.feeding.filling import Filling
from pannier.feeding.job import FeedWork
from pannier.feeding.lookup import Issued, Item, Lookup
from pannier.feeding.needs import KEPT_AT_ONCE
from pannier.feeding.runs import Run
from pannier.images.chance import Variation
from pannier.images.prepare import Preparation
from pannier.storage.checksums import CrcJoiner
from pannier.store.boxes import canvas_identity
from pannier.store.places import PictureReader, Place, ReadError, check, damage

_log = logging.getLogger("pannier")


class Stages(NamedTuple):
    """Seconds of all threads together: reading and checking, decoding, and what follows, geometry, light and values.

    whole: all of their time at work; stalled: the part of it in which they did not compute.
    """

    read: float = 0.0
    decode: float = 0.0
    prepare: float = 0.0
    whole: float = 0.0
    stalled: float = 0.0

    def of_work(self) -> dict[str, float]:
        """The parts that make up the whole, by name."""
        between = max(0.0, self.whole - self.read - self.decode - self.prepare)
        return {"read": self.read, "decode": self.decode, "prepare": self.prepare, "hand_over": between}

    def __add__(self, other: Any) -> Stages:
        return Stages(*map(float.__add__, self, map(float, other)))


class Hand:
    """What one thread works with: a reader, a read buffer, a preparation; and what was asked for ahead, from afar."""

    def __init__(
        self, works: Sequence[FeedWork], heavy: bool, filling: Filling | None = None, fetcher: Fetcher | None = None
    ) -> None:
        work = next((work for work in works if work.rendering is not None), works[0])
        settings, treatment = work.settings, work.job.treatment
        open_files = max(4, min(32, 512 // max(1, settings.workers + settings.heavy_lanes)))
        self._reader = PictureReader(work.state.storage, open_files)
        self._room = memoryview(bytearray(0 if heavy or treatment is None else settings.light_read_bytes))
        self._preparation = None
        if treatment is not None:
            decode = 0 if heavy else settings.light_decode_bytes
            scratch = 0 if heavy else settings.light_scratch_bytes
            self._preparation = Preparation(treatment, decode_bytes=decode, scratch_bytes=scratch)
        self._read_seconds = self._prepare_seconds = self._whole_seconds = self._computed_seconds = 0.0
        self._to_canvas = work.job.to_canvas
        self._canvases: PictureReader | None = None
        if work.rendering is not None:
            self._canvases = PictureReader(work.rendering.storage, open_files)
            self._canvas = np.empty(work.rendering.shape, np.uint8)
            self._canvas_bytes = memoryview(self._canvas.data).cast("B")
            self._is_copied = work.is_copied
            if self._is_copied:  # what reads them is compiled before the first batch is asked for
                self._joiner = CrcJoiner(self._canvas.nbytes)
                none = np.empty(0, np.int64)
                self._canvases.read_each_into(self._canvas.reshape(1, -1)[:0], [], [], none, none, self._joiner)
        self._fetcher, self._filling, self._identities = fetcher, filling, list[bytes]()
        if filling is not None and work.rendering is not None:
            self._kept = np.empty((KEPT_AT_ONCE, *work.rendering.shape), np.uint8)

    def work(self, run: Run) -> BaseException | None:
        """Prepares a run's pictures into their batch's slot; the error that stopped it, if one did."""
        started, computed = perf_counter(), thread_time()
        try:
            return self._prepared(run)
        finally:
            self._whole_seconds += perf_counter() - started
            self._computed_seconds += thread_time() - computed

    def _prepared(self, run: Run) -> BaseException | None:
        slot = run.batch.slot
        assert slot is not None
        item, place, lookup, items = None, None, run.stream.lookup, run.items
        try:
            if isinstance(items, range):
                if self._copied_at_once(run.batch, items, slot):
                    return None
                items = lookup.items_of(run.batch, items)
            for item in items:
                at, record, place, facts, variation, box, canvas, _ = item
                if canvas is not None and self._from_canvas(canvas, run.batch, slot, at, variation):
                    continue
                if place is None or facts is None:
                    place, facts, box = lookup.found(record)
                if self._preparation is None:
                    data = memoryview(bytearray(place.length))
                    self._read(self._reader, run.batch, at, data, place)
                    slot.items[at] = bytes(data)
                    lookup.proved(record)
                    continue
                started = perf_counter()
                data = self._room_for(place.length)
                self._read(self._reader, run.batch, at, data, place)
                lookup.proved(record)
                read = perf_counter()
                if self._to_canvas:
                    self._preparation.canvas_into(data, facts, slot.array[at], box)
                elif self._filling is not None and self._filling.wants(record, run.batch.number[0], place.sha256, box):
                    if len(self._identities) == len(self._kept):
                        self._hand_on(run.batch.number[0])
                    canvas = self._kept[len(self._identities)]
                    self._preparation.into_both(data, facts, slot.array[at], canvas, variation, box)
                    self._identities.append(canvas_identity(place.sha256, box))
                else:
                    self._preparation.into(data, facts, slot.array[at], variation, box)
                self._read_seconds += read - started
                self._prepare_seconds += perf_counter() - read
            self._hand_on(run.batch.number[0])
        except (ReadError, PictureError) as error:
            assert item is not None
            assert place is not None
            return damage(place, lookup.key_of(item.record), _what(error))
        except TreatmentError as error:
            return _named(error, lookup, item)
        except BaseException as error:
            return error
        return None

    def _hand_on(self, epoch: int) -> None:
        """Canvases to those who keep them."""
        if self._filling is not None and self._identities:
            identities, self._identities = self._identities, []
            self._filling.add(identities, self._kept[: len(identities)], epoch)

    @property
    def stages(self) -> Stages:
        """The seconds that each stage has taken."""
        decoded = 0.0 if self._preparation is None else self._preparation.decode_seconds
        prepared = max(0.0, self._prepare_seconds - decoded)
        stalled = max(0.0, self._whole_seconds - self._computed_seconds)
        return Stages(self._read_seconds, decoded, prepared, self._whole_seconds, stalled)

    def _copied_at_once(self, batch: Issued, some: range, slot: Slot) -> bool:
        """Canvases are read and checked in one call each; False where one of them is not right."""
        assert self._canvases is not None
        assert batch.canvases is not None
        started, canvases, part = perf_counter(), batch.canvases, slice(some.start, some.stop)
        where = (canvases.shards, canvases.shard[part].tolist(), canvases.offset[part], canvases.crc32[part])
        parts = slot.array[part].reshape(len(some), -1)
        is_whole = self._canvases.read_each_into(parts, *where, self._joiner)
        self._read_seconds += perf_counter() - started
        return is_whole

    def _read(self, reader: PictureReader, batch: Issued, at: int, buffer: memoryview, place: Place) -> None:
        """Fills the buffer with a record's bytes, which may have come already. Raises ReadError."""
        came = None if self._fetcher is None else self._fetcher.content(batch, at, place)
        if came is None:
            reader.read_into(buffer, place)
            return
        buffer[:] = came
        check(buffer, place)

    def _from_canvas(self, place: Place, batch: Issued, slot: Slot, at: int, variation: Variation | None) -> bool:
        """Prepares a picture from its rendered canvas; False where that is damaged and the picture has to be decoded."""
        assert self._canvases is not None
        assert self._preparation is not None
        started = perf_counter()
        try:
            if self._is_copied and (variation is None or not (variation.flips or variation.program)):
                self._read(self._canvases, batch, at, slot.bytes[at * place.length : (at + 1) * place.length], place)
                self._read_seconds += perf_counter() - started
                return True
            self._read(self._canvases, batch, at, self._canvas_bytes, place)
        except ReadError as error:
            _log.warning("a rendered canvas in shard %s %s; its picture is decoded instead", place.shard, error)
            return False
        read = perf_counter()
        self._preparation.from_canvas(self._canvas, slot.array[at], variation)
        self._read_seconds += read - started
        self._prepare_seconds += perf_counter() - read
        return True

    def _room_for(self, byte_count: int) -> memoryview:
        if len(self._room) < byte_count:
            for size in (0, byte_count):  # the smaller one goes before the larger one comes: the plan has one alone
                self._room = memoryview(bytearray(size))
        return self._room[:byte_count]

    def close(self) -> None:
        self._reader.close()
        if self._canvases is not None:
            self._canvases.close()


def _named(error: TreatmentError, lookup: Lookup, item: Item | None) -> TreatmentError:
    """What an own step did, with the record at which it did."""
    if item is None:
        return error
    named = TreatmentError(f"record {lookup.key_of(item.record)!r}: {error}")
    named.__cause__ = error.__cause__
    return named


def _what(error: ReadError | PictureError) -> str:
    if isinstance(error, PictureError):
        return f"cannot be decoded: {error.reason}; it was whole when it was packed, so the decoding library differs"
    return str(error)
