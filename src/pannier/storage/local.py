"""A directory as a storage: the only place that knows paths of a store.

A file appears under its final name only when it is whole and flushed; nothing is ever rewritten.
"""

from __future__ import annotations

import contextlib
import errno
import os
import secrets
import shutil
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

DRAFT_PREFIX = ".draft-"
_READ_ONLY = 0o444

_NO_LINKS = {errno.EPERM, errno.EOPNOTSUPP, errno.ENOTSUP, errno.ENOSYS, errno.EMLINK}


class LocalStorage:
    """See `Storage`. Needs a file system with hard links."""

    copies = False

    def __init__(self, root: str | Path) -> None:
        self.root = Path(root)
        self.address = str(root)

    def _path(self, name: str) -> Path:
        check_name(name)
        return self.root / name

    def read(self, name: str, offset: int = 0, length: int | None = None) -> bytes:
        with disk_errors_translated(name), open(self._path(name), "rb") as file:
            file.seek(offset)
            return file.read() if length is None else file.read(length)

    def view(self, name: str) -> Any:
        with disk_errors_translated(name):
            return mapped(self._path(name))

    def reader(self, open_files: int = 32) -> LocalReader:
        return LocalReader(self, open_files)

    def exists(self, name: str) -> bool:
        return self._path(name).is_file()

    def size(self, name: str) -> int:
        with disk_errors_translated(name):
            return self._path(name).stat().st_size

    def list(self, folder: str) -> Sequence[str]:
        try:
            with disk_errors_translated(folder):
                return sorted(name for name in os.listdir(self._path(folder)) if not name.startswith(DRAFT_PREFIX))
        except NotFoundError:
            return []

    def create(self, name: str, content: bytes, *, lasts: bool = True) -> bool:
        with LocalDraft(self.root, self._path(name.rpartition("/")[0]), lasts=lasts) as draft:
            with disk_errors_translated(name):
                draft.sink.write(content)
            return draft.publish(name)

    def draft(self, folder: str, *, lasts: bool = True) -> LocalDraft:
        return LocalDraft(self.root, self._path(folder), lasts=lasts)

    def drafts(self) -> Sequence[str]:
        return sorted(path.relative_to(self.root).as_posix() for path in self.root.rglob(f"{DRAFT_PREFIX}*"))

    def remove(self, name: str) -> None:
        with disk_errors_translated(name):
            os.unlink(self._path(name))

    def prune(self, folder: str) -> None:
        for path, _, _ in os.walk(self._path(folder), topdown=False):
            if Path(path) != self.root:
                with contextlib.suppress(OSError):  # something lies in it
                    os.rmdir(path)

    def changed(self, name: str) -> float:
        with disk_errors_translated(name):
            return self._path(name).stat().st_mtime

    def now(self) -> float:
        try:
            with self.draft("") as draft:
                return draft.path.stat().st_mtime
        except StoreError:  # it cannot be written to, so that nothing new comes whose age could matter
            return time.time()

    def drop_cached(self, name: str) -> float | None:
        with disk_errors_translated(name):
            return drop_cached(self._path(name))

    def free_bytes(self) -> int | None:
        return shutil.disk_usage(self.root).free

    def is_there(self) -> bool:
        return self.root.exists()

    def discard(self) -> None:
        with contextlib.suppress(OSError):
            self.root.rmdir()

    def below(self, folder: str) -> LocalStorage:
        return LocalStorage(self._path(folder))

    def link(self, name: str, path: Path) -> None:
        """As `Storage.link`; the file is made read-only first, since writing to the one would change the other."""
        source = self._path(name)
        try:
            os.chmod(source, _READ_ONLY)
            os.link(source, path)
        except OSError as error:
            if error.errno == errno.EXDEV:
                where = f"{path.parent} lies on another disk than the store"
                raise StoreError(f"{where}, which hard links cannot reach: leave `hard_links` out") from error
            raise StoreError(_explained(error, str(path))) from error

    def is_linked(self, name: str) -> bool:
        with disk_errors_translated(name):
            return self._path(name).stat().st_nlink > 1


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
        handle = self._handles[name] = os.open(self._storage._path(name), os.O_RDONLY)
        return handle

    def close(self) -> None:
        while self._handles:
            os.close(self._handles.popitem()[1])


class LocalDraft:
    """See `Draft`. `sink` is Arrow's own file, so that what Arrow writes is written without the interpreter lock."""

    def __init__(self, root: Path, folder: Path, *, lasts: bool = True) -> None:
        self._root, self._lasts = root, lasts
        self.path = folder / (DRAFT_PREFIX + secrets.token_hex(8))
        with disk_errors_translated(str(self.path)):
            _make_folder(folder, flushed=lasts)
            os.close(os.open(self.path, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o666))
            # appended to, not truncated: ext4 sends a file that was truncated to the disk when it is closed
            self.sink: Any = pa.OSFile(str(self.path), "ab")

    def content(self) -> Any:
        with disk_errors_translated(str(self.path)):
            self.sink.close()
            return mapped(self.path)

    def flush_early(self) -> None:
        with contextlib.suppress(OSError):  # whether it succeeds is seen when the file is published
            if self._lasts:
                flush(self.path)

    def publish(self, name: str) -> bool:
        check_name(name)
        final = self._root / name
        with disk_errors_translated(name):
            self.sink.close()
            if self._lasts:
                flush(self.path)
            try:
                os.link(self.path, final)
                created = True
            except FileExistsError:
                # a link that was made although its answer was lost (network file systems) counts as ours
                created = os.stat(self.path).st_nlink == 2
            os.unlink(self.path)
            if self._lasts:
                flush(final.parent)
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


def mapped(path: Path) -> Any:
    """A file's content as an Arrow buffer, mapped. Raises OSError."""
    if not os.path.getsize(path):
        return pa.py_buffer(b"")
    with pa.memory_map(str(path)) as file:
        return file.read_buffer(file.size())


def _make_folder(folder: Path, *, flushed: bool) -> None:
    if folder.is_dir():
        return
    _make_folder(folder.parent, flushed=flushed)
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
    if error.errno in (errno.ENOTDIR, errno.EISDIR):
        return f"{name} is not the kind of file that a store has there"
    return explain_os_error(error, name)
