"""The block cache: what was read from afar, kept on a disk near by, bounded, for several processes.

A file from afar has a folder, whose name says its size, which is what it may come to take; in it lie blocks of 4 MiB, each
with the CRC-32 of its pages before them (docs/buckets.md). A block appears under its name whole, all pages missing; a page
is written before its CRC-32 is, and one that does not match is missing: so nothing is flushed, and all of it may be deleted
at any time.
"""

from __future__ import annotations

import contextlib
import hashlib
import logging
import os
import secrets
import shutil
import threading
import time
from collections import OrderedDict
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from pannier.errors import UsageError
from pannier.files import explain_os_error
from pannier.hashing import crc32_of
from pannier.storage.checksums import CrcJoiner
from pannier.storage.local import mapped_at
from pannier.units import read_bytes

PAGE_BYTES = 4096
BLOCK_PAGES = 1024
BLOCK_BYTES = BLOCK_PAGES * PAGE_BYTES
# a block's first page says what it is, the second has the CRC-32 of each page, 0 where it is missing
HEADER_BYTES, _TABLE_AT = 2 * PAGE_BYTES, PAGE_BYTES
MAGIC = b"pannier block 1\n"
DEFAULT_BYTES = 20 << 30
# environment variables that say the same
FOLDER_VARIABLE, SIZE_VARIABLE = "PANNIER_CACHE", "PANNIER_CACHE_SIZE"
# files that no process at work uses give way to others after so long
UNUSED_SECONDS = 600
_TOUCH_SECONDS = 60
_OPEN_BLOCKS = 256
_GOING = ".going-"

_log = logging.getLogger("pannier")


@dataclass(frozen=True)
class CacheOptions:
    """Where what comes from afar is kept, and how much of it, in bytes."""

    folder: str
    size_bytes: int = DEFAULT_BYTES

    @classmethod
    def read(cls, folder: str | Path | None, size: str | int | None = None) -> CacheOptions | None:
        """As a user says it, or the environment; None where nobody does. Raises UsageError."""
        said = folder or os.environ.get(FOLDER_VARIABLE)
        if not said:
            if size is not None:
                raise UsageError("a cache's size was given, and no folder for it: say where, with `cache`")
            return None
        size = size if size is not None else os.environ.get(SIZE_VARIABLE)
        size_bytes = DEFAULT_BYTES if size is None else read_bytes(size)
        if size_bytes < BLOCK_BYTES:
            raise UsageError(f"a cache of {size} is too small: it keeps blocks of 4 MiB; 20GiB is usual")
        return cls(str(Path(said).absolute()), size_bytes)


class Cache:
    """One folder of blocks. For any thread; others may be for other processes, on the same folder."""

    def __init__(self, options: CacheOptions) -> None:
        self.options, self._folder = options, Path(options.folder)
        self.joiner = CrcJoiner(PAGE_BYTES)
        self._files: dict[str, KeptFile] = {}
        self._refused: dict[str, float] = {}
        self._blocks: OrderedDict[str, Block] = OrderedDict()
        self._lock, self._touched = threading.Lock(), time.monotonic()
        self._is_failing = False

    def file(self, name: str, size: Callable[[], int]) -> KeptFile | None:
        """What is kept of a file from afar, `name` telling it from every other; None where there is no room for it."""
        self._touch()
        found = self._files.get(name)
        if found is not None or self._is_failing or self._refused.get(name, 0) > time.monotonic():
            return found
        digest = hashlib.sha256(name.encode()).hexdigest()[:32]
        with self._failures_told():
            path = next(self._folder.glob(f"{digest}-*"), None) or self._admitted(digest, size())
            if path is not None:
                os.utime(path)
                return self._files.setdefault(name, KeptFile(self, path, int(path.name.partition("-")[2])))
        self._refused[name] = time.monotonic() + _TOUCH_SECONDS
        return None

    def _admitted(self, digest: str, size: int) -> Path | None:
        """A folder for a file of that size, room made for it if need be; what is in use stays, however old."""
        needed, limit, path = _taken(size), self.options.size_bytes, self._folder / f"{digest}-{size}"
        if needed > limit:
            return None
        with self._lock:
            self._folder.mkdir(parents=True, exist_ok=True)
            there, now = self._kept(), time.time()
            used = sum(taken for _, taken, _ in there)
            for used_at, taken, old in there:
                if used + needed <= limit or now - used_at < UNUSED_SECONDS:
                    break
                self._remove(old)
                used -= taken
            if used + needed > limit:
                return None
            path.mkdir(exist_ok=True)
            if sum(taken for _, taken, _ in self._kept()) > limit:  # others came at the same moment
                self._remove(path)
                return None
            return path

    def _kept(self) -> list[tuple[float, int, Path]]:
        """When each file was used, what it may take, and where it is; those first that nobody has used for longest."""
        found = []
        for path in self._folder.glob("*-*"):
            if path.name.startswith(_GOING):
                self._remove(path)  # of a process that ended on the way
                continue
            with contextlib.suppress(OSError, ValueError):
                found.append((path.stat().st_mtime, _taken(int(path.name.partition("-")[2])), path))
        return sorted(found)

    def _remove(self, path: Path) -> None:
        going = path if path.name.startswith(_GOING) else self._folder / f"{_GOING}{secrets.token_hex(8)}"
        with contextlib.suppress(OSError):
            if going != path:
                path.rename(going)
            shutil.rmtree(going)

    def _touch(self) -> None:
        """Files that this process has used stay in use as long as it goes on."""
        if time.monotonic() - self._touched < _TOUCH_SECONDS:
            return
        self._touched = time.monotonic()
        for name, file in list(self._files.items()):
            try:
                os.utime(file.path)
            except OSError:  # somebody has deleted it
                self._files.pop(name, None)

    def block(self, path: str, *, make: bool) -> Block | None:
        """A block that is open already, or opened; made anew where it is not there and `make` says so."""
        with self._lock:
            found = self._blocks.get(path)
            if found is not None:
                self._blocks.move_to_end(path)
                return found
        try:
            opened = Block(path)
        except (FileNotFoundError, ValueError):
            if not make:
                return None
            _make_block(Path(path))
            opened = Block(path)
        with self._lock:
            while len(self._blocks) >= _OPEN_BLOCKS:
                self._blocks.popitem(last=False)  # closed when nobody reads it any more
            return self._blocks.setdefault(path, opened)

    @contextlib.contextmanager
    def _failures_told(self) -> Iterator[None]:
        """A cache that fails is gone without: nothing but speed is lost."""
        try:
            yield
        except OSError as error:
            self.give_up(error)

    def give_up(self, error: OSError) -> None:
        if not self._is_failing:
            self._is_failing = True
            what = explain_os_error(error, str(self._folder))
            _log.warning("the cache is not written any more: %s", what)

    @property
    def is_failing(self) -> bool:
        return self._is_failing


class KeptFile:
    """What is kept of one file from afar. For any thread."""

    def __init__(self, cache: Cache, path: Path, size: int) -> None:
        self._cache, self.path, self.size = cache, path, size
        self._named = f"{path}{os.sep}"  # a path put together by `Path` takes as long as reading a picture

    def has(self, offset: int, length: int) -> bool:
        """Whether all pages of a range are there."""
        try:
            return all(
                (block := self._block(number)) is not None and block.has(start, stop)
                for number, start, stop, _ in _parts(offset, length)
            )
        except OSError:
            return False

    def read_into(self, offset: int, buffer: memoryview) -> bool:
        """Fills the buffer from there on, each page checked; False where not all is there, or not as it was."""
        try:
            for number, start, stop, at in _parts(offset, len(buffer)):
                block = self._block(number)
                if block is None or not block.read_into(start, buffer[at : at + stop - start], self._cache.joiner):
                    return False
        except OSError:
            return False
        return True

    def keep(self, offset: int, content: memoryview) -> None:
        """Keeps a range that begins with a page, and ends with one or with the file."""
        if self._cache.is_failing:
            return
        try:
            for number, start, stop, at in _parts(offset, len(content)):
                block = self._block(number, make=True)
                assert block is not None
                block.keep(start, content[at : at + stop - start])
        except FileNotFoundError:  # deleted meanwhile
            return
        except OSError as error:
            self._cache.give_up(error)

    def _block(self, number: int, *, make: bool = False) -> Block | None:
        return self._cache.block(f"{self._named}{number:06}.block", make=make)

    def whole(self, fetch: Callable[[], Any]) -> Any:
        """The whole file as an Arrow buffer, mapped: kept as one, not by blocks, and fetched where it is not there."""
        for path in self.path.glob("whole-*"):
            with contextlib.suppress(OSError, ValueError):
                content = mapped_at(path)
                if content.size == self.size and crc32_of(memoryview(content)) == int(path.name.partition("-")[2], 16):
                    return content
                path.unlink()
        content = fetch()
        if self._cache.is_failing or len(memoryview(content)) != self.size:
            return content
        draft = self.path / f".draft-{secrets.token_hex(8)}"
        try:
            draft.write_bytes(content)
            path = self.path / f"whole-{crc32_of(memoryview(content)):08x}"
            draft.rename(path)
            return mapped_at(path)
        except FileNotFoundError:  # deleted meanwhile
            return content
        except OSError as error:
            draft.unlink(missing_ok=True)
            self._cache.give_up(error)
            return content

    def pages(self, offset: int, length: int) -> tuple[int, int]:
        """Where the pages begin and end that hold a range."""
        return offset // PAGE_BYTES * PAGE_BYTES, min(self.size, -(-(offset + length) // PAGE_BYTES) * PAGE_BYTES)


class Block:
    """An open block. Raises ValueError where the file is none."""

    def __init__(self, path: str) -> None:
        self._handle = os.open(path, os.O_RDWR)
        self._crcs = np.zeros(BLOCK_PAGES, np.uint32)
        if os.pread(self._handle, len(MAGIC), 0) != MAGIC or os.fstat(self._handle).st_size != HEADER_BYTES + BLOCK_BYTES:
            Path(path).unlink(missing_ok=True)
            raise ValueError(f"{path} is no block")
        self._read_table()

    def __del__(self) -> None:
        with contextlib.suppress(OSError, AttributeError):
            os.close(self._handle)

    def _read_table(self) -> None:
        os.preadv(self._handle, [self._crcs.data], _TABLE_AT)

    def has(self, start: int, stop: int) -> bool:
        pages = slice(start // PAGE_BYTES, -(-stop // PAGE_BYTES))
        if not self._crcs[pages].all():
            self._read_table()  # others may have written since
        return bool(self._crcs[pages].all())

    def read_into(self, start: int, buffer: memoryview, joiner: CrcJoiner) -> bool:
        if not self.has(start, start + len(buffer)):
            return False
        first, last = start // PAGE_BYTES, -(-(start + len(buffer)) // PAGE_BYTES)
        head = bytearray(start - first * PAGE_BYTES)
        tail = bytearray(last * PAGE_BYTES - start - len(buffer))
        got = os.preadv(self._handle, [head, buffer, tail], HEADER_BYTES + first * PAGE_BYTES)
        found = crc32_of(memoryview(tail), crc32_of(buffer, crc32_of(memoryview(head))))
        if got == (last - first) * PAGE_BYTES and found == joiner.join(self._crcs[first:last].astype(np.int64)):
            return True
        self._write_table(first, np.zeros(last - first, np.uint32))
        return False

    def keep(self, start: int, content: memoryview) -> None:
        first, rest = start // PAGE_BYTES, -len(content) % PAGE_BYTES
        os.pwritev(self._handle, [content, bytes(rest)], HEADER_BYTES + start)
        edges = range(0, len(content), PAGE_BYTES)
        crcs = [crc32_of(content[at : at + PAGE_BYTES]) for at in edges]
        if rest:
            crcs[-1] = crc32_of(bytes(rest), crcs[-1])
        self._write_table(first, np.array(crcs, np.uint32))

    def _write_table(self, first: int, crcs: Any) -> None:
        os.pwrite(self._handle, crcs.tobytes(), _TABLE_AT + 4 * first)
        self._crcs[first : first + len(crcs)] = crcs


def _make_block(path: Path) -> None:
    """An empty block, under its name if that is free."""
    path.parent.mkdir(exist_ok=True)
    draft = path.with_name(f".draft-{secrets.token_hex(8)}")
    try:
        with open(draft, "xb") as file:
            file.write(MAGIC)
            file.truncate(HEADER_BYTES + BLOCK_BYTES)
        with contextlib.suppress(FileExistsError):
            os.link(draft, path)
    finally:
        draft.unlink(missing_ok=True)


def _parts(offset: int, length: int) -> Iterator[tuple[int, int, int, int]]:
    """A range by blocks: the block's number, where in it the part begins and ends, and where the part is in the range."""
    at = 0
    while at < length:
        number, start = divmod(offset + at, BLOCK_BYTES)
        stop = min(BLOCK_BYTES, start + length - at)
        yield number, start, stop, at
        at += stop - start


def _taken(size: int) -> int:
    """What a file's blocks come to on the disk."""
    return size + (-(-size // BLOCK_BYTES) + 1) * HEADER_BYTES


_caches: dict[tuple[int, CacheOptions], Cache] = {}


def cache_of(options: CacheOptions | None) -> Cache | None:
    """This process's own of a folder: handles do not serve a forked child."""
    return None if options is None else _caches.setdefault((os.getpid(), options), Cache(options))
