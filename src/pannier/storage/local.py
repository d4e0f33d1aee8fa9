"""A directory as a storage: the only place that knows paths of a store.

A file appears under its final name only when it is whole and flushed; nothing is ever rewritten.
"""

from __future__ import annotations

import contextlib
import errno
import mmap
import os
import secrets
import shutil
import stat
import time
from collections import OrderedDict
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa

from pannier.array_types import Array, Numbers
from pannier.errors import DamageError, NotFoundError, StoreError
from pannier.files import drop_cached, explain_os_error, flush
from pannier.storage.protocol import MOST_DOCUMENT_BYTES

DRAFT_PREFIX = ".draft-"
_READ_ONLY = 0o444
# the ending of documents
DOCUMENT = ".json"
# of the files that are viewed so many bytes in all are read, by each storage; the rest is mapped
MOST_READ_BYTES = 32 << 20

_NO_LINKS = {errno.EPERM, errno.EOPNOTSUPP, errno.ENOTSUP, errno.ENOSYS, errno.EMLINK}


class LocalStorage:
    """See `Storage`. Needs a file system with hard links.

    Every file and folder below the root is opened relative to the folder that it lies in, and no link is followed: a store
    from a stranger leads nowhere else. Nothing but regular files is read.
    """

    copies = False

    def __init__(self, root: str | Path, within: str = "") -> None:
        """within: the folder below the root that names begin in."""
        self.root, self._top, self._within = Path(root) / within, Path(root), within
        self.address = str(self.root)
        self._read_bytes = 0

    def _path(self, name: str) -> Path:
        check_name(name)
        return self.root / name

    def _full(self, name: str) -> str:
        check_name(name)
        return f"{self._within}/{name}" if self._within and name else self._within or name

    @contextmanager
    def folder(self, name: str) -> Iterator[int]:
        """A folder of the store, opened. Raises OSError, where a link is on the way."""
        handle = os.open(self._top, os.O_RDONLY | os.O_DIRECTORY)
        try:
            for part in filter(None, self._full(name).split("/")):
                inner = os.open(part, os.O_RDONLY | os.O_DIRECTORY | os.O_NOFOLLOW, dir_fd=handle)
                handle, outer = inner, handle
                os.close(outer)
            yield handle
        finally:
            os.close(handle)

    def open_file(self, name: str) -> int:
        """A regular file of the store, opened to be read. Raises OSError, DamageError for what is none."""
        check_name(name)
        folder, _, last = name.rpartition("/")
        with self.folder(folder) as within:
            handle = os.open(last, os.O_RDONLY | os.O_NOFOLLOW | os.O_NONBLOCK, dir_fd=within)
        if not stat.S_ISREG(os.fstat(handle).st_mode):
            os.close(handle)
            raise DamageError(f"{name} is damaged: it is not a regular file", file=name)
        return handle

    def _about(self, name: str) -> os.stat_result:
        check_name(name)
        folder, _, last = name.rpartition("/")
        with self.folder(folder) as within:
            return os.stat(last or ".", dir_fd=within, follow_symlinks=False)

    def read(self, name: str, offset: int = 0, length: int | None = None) -> bytes:
        with disk_errors_translated(name), open(self.open_file(name), "rb") as file:
            if length is None and name.endswith(DOCUMENT) and os.fstat(file.fileno()).st_size > MOST_DOCUMENT_BYTES:
                raise DamageError(f"{name} is damaged: it is larger than a document may be", file=name)
            file.seek(offset)
            return file.read() if length is None else file.read(length)

    def view(self, name: str) -> Any:
        with disk_errors_translated(name):
            handle = self.open_file(name)
            size = os.fstat(handle).st_size
            if self._read_bytes + size > MOST_READ_BYTES:
                return mapped(handle)
            # a file that is cut short under its reader would end the process where it is mapped
            self._read_bytes += size
            with open(handle, "rb") as file:
                return pa.py_buffer(file.read(size))

    def reader(self, open_files: int = 32) -> LocalReader:
        return LocalReader(self, open_files)

    def exists(self, name: str) -> bool:
        try:
            return stat.S_ISREG(self._about(name).st_mode)
        except OSError:
            return False

    def size(self, name: str) -> int:
        with disk_errors_translated(name):
            return self._about(name).st_size

    def list(self, folder: str) -> Sequence[str]:
        try:
            with disk_errors_translated(folder), self.folder(folder) as handle:
                return sorted(name for name in os.listdir(handle) if not name.startswith(DRAFT_PREFIX))
        except NotFoundError:
            return []

    def create(self, name: str, content: bytes, *, lasts: bool = True) -> bool:
        with self.draft(name.rpartition("/")[0], lasts=lasts) as draft:
            with disk_errors_translated(name):
                draft.sink.write(content)
            return draft.publish(name)

    def draft(self, folder: str, *, lasts: bool = True) -> LocalDraft:
        return LocalDraft(self, folder, lasts=lasts)

    def make_folder(self, name: str, *, flushed: bool) -> None:
        """Makes a folder, and those that it lies in, where they are missing. Raises OSError, where a link is on the way."""
        with contextlib.suppress(FileNotFoundError), self.folder(name):
            return
        if not name and not self._within:
            _make_root(self._top, flushed=flushed)
            return
        above, _, last = name.rpartition("/") if name else self._within.rpartition("/")
        outer = self if name else LocalStorage(self._top)
        outer.make_folder(above, flushed=flushed)
        with outer.folder(above) as within:
            try:
                os.mkdir(last, dir_fd=within)
            except FileExistsError:
                return
            if flushed:
                os.fsync(within)

    def drafts(self) -> Sequence[str]:
        return sorted(path.relative_to(self.root).as_posix() for path in self.root.rglob(f"{DRAFT_PREFIX}*"))

    def remove(self, name: str) -> None:
        check_name(name)
        folder, _, last = name.rpartition("/")
        with disk_errors_translated(name), self.folder(folder) as within:
            os.unlink(last, dir_fd=within)

    def prune(self, folder: str) -> None:
        try:
            with self.folder(folder):
                pass
        except OSError:  # it is not there, or leads elsewhere
            return
        for path, _, _ in os.walk(self._path(folder), topdown=False):
            if Path(path) != self.root:
                with contextlib.suppress(OSError):  # something lies in it
                    os.rmdir(path)

    def changed(self, name: str) -> float:
        with disk_errors_translated(name):
            return self._about(name).st_mtime

    def now(self) -> float:
        try:
            with self.draft("") as draft:
                return draft.path.stat().st_mtime
        except StoreError:  # it cannot be written to, so that nothing new comes whose age could matter
            return time.time()

    def drop_cached(self, name: str) -> float | None:
        with disk_errors_translated(name):
            os.close(self.open_file(name))  # no pipe is waited for
            return drop_cached(self._path(name))

    def free_bytes(self) -> int | None:
        return shutil.disk_usage(self.root).free

    def is_there(self) -> bool:
        return self.root.exists()

    def discard(self) -> None:
        with contextlib.suppress(OSError):
            self.root.rmdir()

    def below(self, folder: str) -> LocalStorage:
        return LocalStorage(self._top, self._full(folder))

    def link(self, name: str, path: Path) -> None:
        """As `Storage.link`; the file is made read-only first, since writing to the one would change the other."""
        folder, _, last = name.rpartition("/")
        try:
            handle = self.open_file(name)
            try:
                os.fchmod(handle, _READ_ONLY)
            finally:
                os.close(handle)
            with self.folder(folder) as within:
                os.link(last, path, src_dir_fd=within, follow_symlinks=False)
        except OSError as error:
            if error.errno == errno.EXDEV:
                where = f"{path.parent} lies on another disk than the store"
                raise StoreError(f"{where}, which hard links cannot reach: leave `hard_links` out") from error
            raise StoreError(_explained(error, str(path))) from error

    def is_linked(self, name: str) -> bool:
        with disk_errors_translated(name):
            return self._about(name).st_nlink > 1


class LocalReader:
    """Keeps at most `open_files` files open; after `close` the next read opens what it needs again."""

    def __init__(self, storage: LocalStorage, open_files: int) -> None:
        self._storage, self._open_files = storage, open_files
        self._handles: OrderedDict[str, int] = OrderedDict()

    def read_into(self, name: str, offset: int, buffer: memoryview) -> int:
        try:
            handle = self._handle(name)
            got = os.preadv(handle, [buffer], offset)
            while 0 < got < len(buffer) and (more := os.preadv(handle, [buffer[got:]], offset + got)):
                got += more
            return got
        except FileNotFoundError as error:
            raise NotFoundError(f"{name} is not in the store") from error
        except OSError as error:
            raise StoreError(_explained(error, name)) from error

    def read_each_into(self, names: Sequence[str], offsets: Numbers, parts: Array) -> bool:
        from pannier.storage.kernels import read_each

        files = set(names)
        if len(files) > self._open_files:
            return False
        try:
            handles = {name: self._handle(name) for name in files}
        except OSError:
            return False
        return bool(read_each(np.array([handles[name] for name in names], np.int32), offsets, parts))

    def _handle(self, name: str) -> int:
        handle = self._handles.get(name)
        if handle is not None:
            if len(self._handles) > 1:
                self._handles.move_to_end(name)
            return handle
        if len(self._handles) >= self._open_files:
            os.close(self._handles.popitem(last=False)[1])
        handle = self._handles[name] = self._storage.open_file(name)
        return handle

    def close(self) -> None:
        while self._handles:
            os.close(self._handles.popitem()[1])


class LocalDraft:
    """See `Draft`. `sink` is Arrow's own file, so that what Arrow writes is written without the interpreter lock."""

    def __init__(self, storage: LocalStorage, folder: str, *, lasts: bool = True) -> None:
        self._storage, self._folder, self._lasts = storage, folder, lasts
        self._name = DRAFT_PREFIX + secrets.token_hex(8)
        self.path = storage._path(folder) / self._name
        with disk_errors_translated(str(self.path)):
            storage.make_folder(folder, flushed=lasts)
            with storage.folder(folder) as within:
                os.close(os.open(self._name, os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW, 0o666, dir_fd=within))
            # appended to, not truncated: ext4 sends a file that was truncated to the disk when it is closed
            self.sink: Any = pa.OSFile(str(self.path), "ab")

    def content(self) -> Any:
        with disk_errors_translated(str(self.path)):
            self.sink.close()
            return mapped_at(self.path)

    def flush_early(self) -> None:
        with contextlib.suppress(OSError):  # whether it succeeds is seen when the file is published
            if self._lasts:
                flush(self.path)

    def publish(self, name: str) -> bool:
        folder, _, last = name.rpartition("/")
        check_name(name)
        with disk_errors_translated(name):
            self.sink.close()
            if self._lasts:
                flush(self.path)
            with self._storage.folder(self._folder) as source, self._storage.folder(folder) as target:
                try:
                    os.link(self._name, last, src_dir_fd=source, dst_dir_fd=target, follow_symlinks=False)
                    created = True
                except FileExistsError:
                    # a link that was made although its answer was lost (network file systems) counts as ours
                    created = os.stat(self._name, dir_fd=source).st_nlink == 2
                os.unlink(self._name, dir_fd=source)
                if self._lasts:
                    os.fsync(target)
        return created

    def discard(self) -> None:
        """Removes the file, as far as the disk lets us: what stays is a draft, which `verify` tells of."""
        for step in (self.sink.close, self.path.unlink):
            with contextlib.suppress(OSError):  # gone already, or a full disk refuses the last flush, or it is read-only
                step()

    def __enter__(self) -> LocalDraft:
        return self

    def __exit__(self, *_: object) -> None:
        self.discard()


def check_name(name: str) -> None:
    """Raises DamageError for the name of a file, out of a stranger's store, that leads elsewhere."""
    if name.startswith("/") or "\0" in name or ".." in name.split("/"):
        raise DamageError(f"{name!r} is no name of a file in a store: it leads elsewhere")


def mapped_at(path: Path) -> Any:
    """The content of a file of this process' own, as `mapped` gives it. Raises OSError."""
    return mapped(os.open(path, os.O_RDONLY | os.O_NOFOLLOW))


def mapped(handle: int) -> Any:
    """The content of an opened file, which is closed, as an Arrow buffer. Raises OSError."""
    with open(handle, "rb") as file:
        size = os.fstat(handle).st_size
        if not size:
            return pa.py_buffer(b"")
        return pa.py_buffer(mmap.mmap(file.fileno(), size, access=mmap.ACCESS_READ))


def _make_root(folder: Path, *, flushed: bool) -> None:
    if folder.is_dir():
        return
    _make_root(folder.parent, flushed=flushed)
    try:
        folder.mkdir()
    except FileExistsError:
        return
    if flushed:
        flush(folder.parent)


@contextmanager
def disk_errors_translated(name: str) -> Iterator[None]:
    """Turns what the operating system says into an error that says what to do."""
    try:
        yield
    except FileNotFoundError as error:
        raise NotFoundError(f"{name} is not in the store") from error
    except OSError as error:
        raise StoreError(_explained(error, name)) from error


def _explained(error: OSError, name: str) -> str:
    if error.errno in _NO_LINKS:
        return f"the file system under {name} has no hard links, which a store needs; put the store on another one"
    if error.errno == errno.ELOOP:
        return f"{name} is a link, and no file or folder of a store is one: it is not followed"
    if error.errno in (errno.ENOTDIR, errno.EISDIR):
        return f"{name} is not the kind of file that a store has there"
    return explain_os_error(error, name)
