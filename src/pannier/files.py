"""Files outside of stores, written whole or not at all: the one way in which this project writes them."""

from __future__ import annotations

import contextlib
import ctypes
import errno
import mmap
import os
import re
import secrets
import stat
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from pannier.errors import StoreError, UsageError

_DRAFT = re.compile(r"\..+\.[0-9a-f]{8}\.new")


# the endings of figures, pages and tables that users ask for
FIGURES = (".png", ".pdf", ".svg", ".jpg", ".jpeg", ".webp", ".tif", ".tiff", ".eps", ".ps")
PAGES = (".html", ".htm")
TABLES = (".csv", ".parquet")


def check_result(path: str | Path, endings: tuple[str, ...] = ()) -> None:
    """Raises UsageError if the path cannot be written or has another ending. Call it before long work."""
    file = Path(path)
    if endings and file.suffix.lower() not in endings:
        raise UsageError(f"{path}: give a name that ends in {', '.join(endings[:3])}")
    if not file.parent.is_dir():
        raise UsageError(f"there is no folder {file.parent} for {file.name}")
    if file.is_dir():
        raise UsageError(f"{path} is a folder: name a file")
    if not os.access(file.parent, os.W_OK):
        raise UsageError(f"{file.parent}: no file can be written there")


@contextmanager
def whole_file(path: str | Path, *, flushed: bool = True) -> Iterator[str]:
    """A path to write to, beside `path`; when the block ends what lies there is flushed and takes its place.

    After any exception, Ctrl-C included, `path` is as it was and nothing is left. Its folder must be there. What can be
    made again at any time need not be `flushed`. Raises StoreError where the disk refuses.
    """
    folder, name = os.path.split(os.fspath(path))
    draft = os.path.join(folder, f".{name}.{secrets.token_hex(4)}.new")
    try:
        with disk_refusals_said(path):
            yield draft
            if flushed:
                flush(draft)
            os.replace(draft, path)
    except BaseException:
        with contextlib.suppress(OSError):
            os.unlink(draft)
        raise
    if flushed:
        flush(folder or ".")


@contextmanager
def disk_refusals_said(path: str | Path) -> Iterator[None]:
    """Turns what the operating system says into an error that names a path and says what to do."""
    try:
        yield
    except OSError as error:
        raise StoreError(explain_os_error(error, os.fspath(path))) from error


def explain_os_error(error: OSError, name: str) -> str:
    if error.errno == errno.ENOSPC:
        return f"the disk is full while writing {name}; nothing was lost: make room and run the same command again"
    if error.errno in (errno.EFBIG, errno.EDQUOT):
        return f"a limit on file size or disk space stopped the writing of {name}; nothing was lost: raise it and try again"
    if error.errno in (errno.EROFS, errno.EACCES):
        return f"{name} cannot be written or read: the disk is read-only or access is denied"
    return f"{name}: {error.strerror or error}"


def write_whole(path: str | Path, content: bytes | str, *, flushed: bool = True) -> None:
    """A small file; text is written as UTF-8."""
    with whole_file(path, flushed=flushed) as draft:
        handle = os.open(draft, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o666)
        try:
            rest = memoryview(content.encode() if isinstance(content, str) else content)
            while rest:
                rest = rest[os.write(handle, rest) :]
        finally:
            os.close(handle)


def read_regular(path: str | Path, most: int) -> bytes:
    """A regular file's content, no link, pipe or device, of at most so many bytes. Raises OSError."""
    handle = os.open(path, os.O_RDONLY | os.O_NOFOLLOW | os.O_NONBLOCK)
    with open(handle, "rb") as file:
        about = os.fstat(handle)
        if not stat.S_ISREG(about.st_mode) or about.st_size > most:
            raise OSError(errno.EINVAL, "it is not a regular file, or too large")
        return file.read()


def is_draft(name: str) -> bool:
    """Whether a name is that of a file in the making, or left by a writer that was ended."""
    return bool(_DRAFT.fullmatch(name))


def flush(path: str | Path) -> None:
    """What was written to a file, or a folder's list of names, reaches the disk."""
    handle = os.open(path, os.O_RDONLY)
    try:
        os.fsync(handle)
    finally:
        os.close(handle)


def drop_cached(path: str | Path) -> float | None:
    """Lets the system forget what it holds of a file's content: the part that it holds no more, None where unknown."""
    if not hasattr(os, "posix_fadvise"):
        return None
    with open(path, "rb") as file:
        os.posix_fadvise(file.fileno(), 0, 0, os.POSIX_FADV_DONTNEED)
        return _share_not_held(file.fileno())


def _share_not_held(file: int) -> float | None:
    """The part of a file's pages that are not in memory (mincore); None where the system does not tell."""
    size = os.fstat(file).st_size
    if not size:
        return 1.0
    pages = -(-size // mmap.PAGESIZE)
    held = (ctypes.c_ubyte * pages)()
    with mmap.mmap(file, size, access=mmap.ACCESS_COPY) as content:
        first = ctypes.c_char.from_buffer(content)
        failed = ctypes.CDLL(None).mincore(ctypes.byref(first), ctypes.c_size_t(size), held)
        del first  # it holds the mapping
    return None if failed else 1.0 - sum(flags & 1 for flags in bytes(held)) / pages
