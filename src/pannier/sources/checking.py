"""Reading and checking pictures of a source, in parallel, in order, a few at a time in memory."""

from __future__ import annotations

import hashlib
import threading
from collections import deque
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import dataclass

import numpy as np

from pannier.errors import PictureError
from pannier.hashing import crc32_of
from pannier.images.decode import decode, decodes_into_own_buffer, upright
from pannier.images.facts import Facts, check_pixels, is_animated, read_facts
from pannier.images.miniature import miniature
from pannier.images.perceptual import PerceptualHasher
from pannier.images.recode import Recoding
from pannier.sources.rows import LeftOut, Row, Source

# pictures beyond this many pixels are decoded one at a time, whatever the number of workers
LARGE_PIXELS = 4_000_000
# pictures are handed to workers in runs, and no more are in flight than this many bytes
RUN_RECORDS = 16
IN_FLIGHT_BYTES = 48 << 20


@dataclass(frozen=True, slots=True)
class Checked:
    """A picture that was found whole. `data` is None where the store has it already.

    `is_constant` says that all of its pixels are alike; `is_animated` that there are more pictures in the file; `miniature`
    is there where it was asked for.
    """

    row: Row
    sha256: bytes
    crc32: int
    byte_count: int
    facts: Facts
    perceptual_hash: int
    data: bytes | None
    is_constant: bool = False
    is_animated: bool = False
    miniature: bytes | None = None


@dataclass(frozen=True)
class Checking:
    """How pictures are checked: threads, the most pixels, what is made of them before anything is computed of it."""

    workers: int
    max_pixels: int
    recoding: Recoding | None = None
    miniatures: bool = False


class Checker:
    """Reads and checks pictures in parallel, in order. A context manager that ends its threads.

    Every picture that `is_known` does not have is decoded once, to its end: how else to know that it is whole.
    """

    def __init__(self, source: Source, how: Checking, is_known: Callable[[bytes], bool] = lambda _: False) -> None:
        self._source, self._max_pixels, self._is_known = source, how.max_pixels, is_known
        self._recoding, self._miniatures = how.recoding, how.miniatures
        self._pool = ThreadPoolExecutor(how.workers, thread_name_prefix="pannier-check")
        self._workers = how.workers
        self._large = threading.Lock()
        self._local = threading.local()

    def __enter__(self) -> Checker:
        return self

    def __exit__(self, *_: object) -> None:
        self._pool.shutdown(wait=True, cancel_futures=True)

    def check_all(self, rows: Iterable[Row]) -> Iterator[Checked | LeftOut]:
        """What became of every row, in their order; a bounded number of them is under way at once."""
        waiting: deque[tuple[Future[list[Checked | LeftOut]], int]] = deque()
        in_flight = 0
        for run, byte_count in _runs(rows):
            while waiting and (in_flight + byte_count > IN_FLIGHT_BYTES or len(waiting) > 3 * self._workers):
                future, done = waiting.popleft()
                yield from future.result()
                in_flight -= done
            waiting.append((self._pool.submit(self._check_run, run), byte_count))
            in_flight += byte_count
        while waiting:
            yield from waiting.popleft()[0].result()

    def _check_run(self, rows: list[Row]) -> list[Checked | LeftOut]:
        return [self._check(row) for row in rows]

    def _check(self, row: Row) -> Checked | LeftOut:
        try:
            data = self._source.read(row)
            facts = read_facts(data)
            check_pixels(facts, self._max_pixels)
            if self._recoding is not None:
                data = self._recoded(data, facts, self._recoding)
                facts = read_facts(data)
            sha256 = hashlib.sha256(data).digest()
            known = self._is_known(sha256)
            perceptual_hash, is_constant, small = (0, False, None) if known else self._decode(data, facts)
        except PictureError as error:
            return LeftOut(row.key, error.kind, error.reason)
        except MemoryError:
            return LeftOut(row.key, "oversized", "not enough memory to decode it")
        kept = None if known else data
        animated = is_animated(data, facts.format)
        told = (crc32_of(data), len(data), facts, perceptual_hash, kept, is_constant, animated, small)
        return Checked(row, sha256, *told)

    def _recoded(self, data: bytes, facts: Facts, recoding: Recoding) -> bytes:
        if facts.height * facts.width > LARGE_PIXELS:
            with self._large:
                return recoding(data, facts)
        return recoding(data, facts)

    def _decode(self, data: bytes, facts: Facts) -> tuple[int, bool, bytes | None]:
        if facts.height * facts.width > LARGE_PIXELS:
            with self._large:
                return self._hash(data, facts)
        return self._hash(data, facts)

    def _hash(self, data: bytes, facts: Facts) -> tuple[int, bool, bytes | None]:
        """The perceptual hash, whether all pixels are alike, and the miniature."""
        hasher: PerceptualHasher | None = getattr(self._local, "hasher", None)
        if hasher is None:
            hasher = self._local.hasher = PerceptualHasher()
            self._local.buffer = np.empty(0, np.uint8)
        buffer, size = None, facts.height * facts.width
        if decodes_into_own_buffer(facts) and size <= LARGE_PIXELS:
            if self._local.buffer.size < size:
                self._local.buffer = np.empty(size, np.uint8)
            buffer = self._local.buffer[:size].data
        # to gray: a JPEG's coded data are read to their end all the same, and less is computed from them
        pixels = upright(decode(data, facts, "gray", buffer=buffer), facts.turn)
        small = miniature(pixels) if self._miniatures else None
        return hasher(pixels), hasher.was_even and bool(pixels.min() == pixels.max()), small


def _runs(rows: Iterable[Row]) -> Iterator[tuple[list[Row], int]]:
    run: list[Row] = []
    total = 0
    for row in rows:
        size = row.byte_count
        if run and (len(run) >= RUN_RECORDS or total + size > IN_FLIGHT_BYTES // 8):
            yield run, total
            run, total = [], 0
        run.append(row)
        total += size
    if run:
        yield run, total
