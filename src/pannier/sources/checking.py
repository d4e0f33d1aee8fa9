"""Reading and checking pictures of a source, in parallel, in order, a few at a time in memory."""

from __future__ import annotations

import hashlib
import threading
from collections import deque
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import Future, ThreadPoolExecutor
from contextlib import AbstractContextManager
from dataclasses import dataclass

import numpy as np

from pannier.budget import Budget
from pannier.errors import LimitError, PictureError
from pannier.hashing import crc32_of
from pannier.images.cost import checking_cost, recoding_cost
from pannier.images.decode import buffer_bytes, decode, upright
from pannier.images.facts import Facts, check_pixels, is_animated, read_facts
from pannier.images.miniature import miniature
from pannier.images.perceptual import PerceptualHasher
from pannier.images.recode import Recoding
from pannier.sources.ahead import ReadAhead
from pannier.sources.rows import LeftOut, Reads, Row
from pannier.units import show_bytes

# up to so many bytes a thread keeps its buffer for the next picture
KEPT_BYTES = 8 << 20
# pictures are handed to workers in runs, and no more are in flight than this many bytes
RUN_RECORDS = 16
IN_FLIGHT_BYTES = 48 << 20
# what decoding takes at a time, for each thread, but for a picture that alone takes more
DECODING_BYTES = 128 << 20
# blocks on their way into a shard, rows, what libraries hold; and the limit with which a small picture can be decoded
BESIDE_BYTES = 32 << 20
SMALLEST_LIMIT = 64 << 20


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
    """How pictures are checked: threads, the most pixels and bytes, what is made of them before anything is computed.

    most_bytes: what all of it may take; None for no limit. Raises LimitError.
    """

    workers: int
    max_pixels: int
    most_bytes: int | None
    recoding: Recoding | None = None
    miniatures: bool = False

    def __post_init__(self) -> None:
        if self.most_bytes is not None and self.most_bytes < SMALLEST_LIMIT:
            least = show_bytes(SMALLEST_LIMIT)
            what = f"a memory limit of {show_bytes(self.most_bytes)} is too small to check pictures: give {least} or more"
            raise LimitError(what, smallest_limit=SMALLEST_LIMIT)

    @property
    def in_flight_bytes(self) -> int:
        """How much of encoded pictures is under way at once."""
        return IN_FLIGHT_BYTES if self.most_bytes is None else min(IN_FLIGHT_BYTES, self.most_bytes // 8)

    @property
    def most_decoding_bytes(self) -> int | None:
        """How much decoding one picture may take; None for no limit."""
        return None if self.most_bytes is None else self.most_bytes - BESIDE_BYTES - self.in_flight_bytes


class Checker:
    """Reads and checks pictures in parallel, in order. A context manager that ends its threads.

    Every picture that `is_known` does not have is decoded once, to its end: how else to know that it is whole.
    """

    def __init__(self, source: Reads, how: Checking, is_known: Callable[[bytes], bool] = lambda _: False) -> None:
        self._source, self._how, self._is_known = ReadAhead(source, how.in_flight_bytes), how, is_known
        self._recoding, self._miniatures = how.recoding, how.miniatures
        self._pool = ThreadPoolExecutor(how.workers, thread_name_prefix="pannier-check")
        most = how.most_decoding_bytes
        usual = DECODING_BYTES * how.workers
        self._budget = Budget(usual if most is None else min(usual, most))
        self._local = threading.local()

    def __enter__(self) -> Checker:
        return self

    def __exit__(self, *_: object) -> None:
        self._pool.shutdown(wait=True, cancel_futures=True)
        self._source.__exit__()

    def check_all(self, rows: Iterable[Row]) -> Iterator[Checked | LeftOut]:
        """What became of every row, in their order; a bounded number of them is under way at once."""
        waiting: deque[tuple[Future[list[Checked | LeftOut]], int]] = deque()
        in_flight = 0
        most, how = self._how.in_flight_bytes, self._how
        for run, byte_count in _runs(self._source.rows(rows), most // 8):
            while waiting and (in_flight + byte_count > most or len(waiting) > 3 * how.workers):
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
            refuse_file(row, self._how.most_decoding_bytes)
            data = self._source.read(row)
            facts = read_facts(data)
            check_pixels(facts, self._how.max_pixels)
            if self._recoding is not None:
                with self._room(recoding_cost(facts, len(data))):
                    data = self._recoding(data, facts)
                facts = read_facts(data)
            sha256 = hashlib.sha256(data).digest()
            known = self._is_known(sha256)
            told: tuple[int, bool, bytes | None] = (0, False, None)
            if not known:
                with self._room(checking_cost(facts, len(data))):
                    told = self._hash(data, facts)
        except PictureError as error:
            return LeftOut(row.key, error.kind, error.reason)
        except MemoryError:
            return LeftOut(row.key, "oversized", "not enough memory to decode it")
        kept, animated = None if known else data, is_animated(data, facts.format)
        perceptual_hash, is_constant, small = told
        of_file = (sha256, crc32_of(data), len(data), facts)
        return Checked(row, *of_file, perceptual_hash, kept, is_constant, animated, small)

    def _room(self, byte_count: int) -> AbstractContextManager[None]:
        """Memory for one picture. Raises PictureError where it is more than the limit leaves."""
        most = self._how.most_decoding_bytes
        if most is not None and byte_count > most:
            raise PictureError(f"decoding it takes up to {show_bytes(byte_count)}, over the memory limit", "oversized")
        return self._budget.taken(byte_count)

    def _hash(self, data: bytes, facts: Facts) -> tuple[int, bool, bytes | None]:
        """The perceptual hash, whether all pixels are alike, and the miniature."""
        hasher: PerceptualHasher | None = getattr(self._local, "hasher", None)
        if hasher is None:
            hasher = self._local.hasher = PerceptualHasher()
            self._local.buffer = np.empty(0, np.uint8)
        buffer, size = None, buffer_bytes(facts, "gray", facts.height * facts.width)
        if 0 < size <= KEPT_BYTES:
            if self._local.buffer.size < size:
                self._local.buffer = np.empty(size, np.uint8)
            buffer = self._local.buffer[:size].data
        # to gray: a JPEG's coded data are read to their end all the same, and less is computed from them
        pixels = upright(decode(data, facts, "gray", buffer=buffer), facts.turn)
        small = miniature(pixels) if self._miniatures else None
        return hasher(pixels), hasher.was_even and bool(pixels.min() == pixels.max()), small


def refuse_file(row: Row, most_bytes: int | None) -> None:
    """Raises PictureError for a file that is too large to be read into so much memory: twice, by what unpacks it."""
    if most_bytes is not None and 2 * row.byte_count > most_bytes:
        raise PictureError(f"a file of {show_bytes(row.byte_count)}, over the memory limit", "oversized")


def _runs(rows: Iterable[Row], most_bytes: int) -> Iterator[tuple[list[Row], int]]:
    run: list[Row] = []
    total = 0
    for row in rows:
        size = row.byte_count
        if run and (len(run) >= RUN_RECORDS or total + size > most_bytes):
            yield run, total
            run, total = [], 0
        run.append(row)
        total += size
    if run:
        yield run, total
