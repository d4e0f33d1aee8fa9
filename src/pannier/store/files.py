"""The one narrow way to a store's files: read a range, create if absent, list, delete.

A file appears under its final name only when it is whole and flushed; nothing is ever rewritten.
"""

from __future__ import annotations

import errno
import os
import secrets
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from types import TracebackType
from typing import BinaryIO

from pannier.errors import DamageError, NotFoundError, StoreError

DRAFT_PREFIX = ".draft-"

_NO_LINKS = {errno.EPERM, errno.EOPNOTSUPP, errno.ENOTSUP, errno.ENOSYS, errno.EMLINK}


class Directory:
    """A store's directory. Names are relative, with `/`. Safe between threads and processes; holds nothing open."""

    def __init__(self, root: str | Path) -> None:
        self.root = Path(root)

    def path(self, name: str) -> Path:
        """Where a file lies. Raises DamageError for a name, out of a stranger's store, that leads elsewhere."""
        if name.startswith("/") or "\0" in name or ".." in name.split("/"):
            raise DamageError(f"{name!r} is no name of a file in a store: it leads elsewhere")
        return self.root / name

    def read(self, name: str, offset: int = 0, length: int | None = None) -> bytes:
        """The bytes of a range, or of all from `offset`. Raises NotFoundError, StoreError."""
        with disk_errors_translated(name), open(self.path(name), "rb") as file:
            file.seek(offset)
            return file.read() if length is None else file.read(length)

    def exists(self, name: str) -> bool:
        return self.path(name).is_file()

    def byte_count(self, name: str) -> int:
        with disk_errors_translated(name):
            return self.path(name).stat().st_size

    def list(self, folder: str) -> list[str]:
        """The sorted names (without the folder) of what lies directly in a folder; none where there is no folder."""
        try:
            with disk_errors_translated(folder):
                return sorted(os.listdir(self.path(folder)))
        except NotFoundError:
            return []

    def remove(self, name: str) -> None:
        """Takes a file away. Raises NotFoundError where it is not there."""
        with disk_errors_translated(name):
            os.unlink(self.path(name))

    def changed(self, name: str) -> float:
        """When a file was made or touched last, in seconds, as the store's own clock tells it."""
        with disk_errors_translated(name):
            return self.path(name).stat().st_mtime

    def touch(self, name: str) -> None:
        """Sets that time to now, as the store's own clock tells it."""
        with disk_errors_translated(name):
            os.utime(self.path(name))

    def draft(self, folder: str) -> Draft:
        """A new file in the making that will be published into `folder`."""
        return Draft(self, folder)

    def create(self, name: str, content: bytes) -> bool:
        """Publishes a small file whole; False where that name is taken already (nothing is changed then)."""
        with self.draft(name.rpartition("/")[0]) as draft:
            with disk_errors_translated(name):
                draft.file.write(content)
            return draft.publish(name)


class Draft:
    """A file in the making under a temporary name; a context manager that removes it unless it was published.

    `file` is open for writing. After any exception, Ctrl-C included, nothing is left; after a kill a draft may be.
    """

    def __init__(self, directory: Directory, folder: str) -> None:
        self._directory = directory
        self.path = directory.path(folder) / (DRAFT_PREFIX + secrets.token_hex(8))
        with disk_errors_translated(str(self.path)):
            _make_folder(self.path.parent)
            self.file: BinaryIO = open(self.path, "xb")  # noqa: SIM115 - closed by publish or discard

    def flush(self) -> None:
        """All that was written reaches the disk."""
        with disk_errors_translated(str(self.path)):
            self.file.flush()
            os.fsync(self.file.fileno())

    def publish(self, name: str) -> bool:
        """Gives the file its final name, if that name is free; False where it is taken."""
        self.flush()
        final = self._directory.path(name)
        with disk_errors_translated(name):
            self.file.close()
            try:
                os.link(self.path, final)
                created = True
            except FileExistsError:
                # a link that was made although its answer was lost (network file systems) counts as ours
                created = os.stat(self.path).st_nlink == 2
            os.unlink(self.path)
            _flush_folder(final.parent)
        return created

    def discard(self) -> None:
        """Removes the file, as far as the disk lets us: what stays is a draft, which `verify` tells of."""
        for step in (self.file.close, self.path.unlink):
            try:
                step()
            except OSError:
                pass  # it is gone already, or a full disk refuses the last flush, or it is read-only by now

    def __enter__(self) -> Draft:
        return self

    def __exit__(self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None) -> None:
        self.discard()


def _make_folder(folder: Path) -> None:
    if folder.is_dir():
        return
    _make_folder(folder.parent)
    try:
        folder.mkdir()
    except FileExistsError:
        return
    _flush_folder(folder.parent)


def _flush_folder(folder: Path) -> None:
    handle = os.open(folder, os.O_RDONLY)
    try:
        os.fsync(handle)
    finally:
        os.close(handle)


@contextmanager
def disk_errors_translated(name: str) -> Iterator[None]:
    """Turns what the operating system says into an error that says what to do."""
    try:
        yield
    except FileNotFoundError as error:
        raise NotFoundError(f"{name} is not in the store") from error
    except OSError as error:
        raise StoreError(explain_os_error(error, name)) from error


def explain_os_error(error: OSError, name: str) -> str:
    if error.errno == errno.ENOSPC:
        return f"the disk is full while writing {name}; nothing was lost: make room and run the same command again"
    if error.errno in (errno.EFBIG, errno.EDQUOT):
        return f"a limit on file size or disk space stopped the writing of {name}; nothing was lost: raise it and try again"
    if error.errno in (errno.EROFS, errno.EACCES):
        return f"{name} cannot be written or read: the disk is read-only or access is denied"
    if error.errno in _NO_LINKS:
        return f"the file system under {name} has no hard links, which a store needs; put the store on another one"
    if error.errno in (errno.ENOTDIR, errno.EISDIR):
        return f"{name} is not the kind of file that a store has there"
    return f"{name}: {error.strerror or error}"
