"""Files of pictures, wherever they lie: on this machine's disks, or in a bucket under an address as their path."""

from __future__ import annotations

import os
from collections.abc import Iterable, Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager
from pathlib import Path

from pannier.errors import NotFoundError, PictureError
from pannier.sources.rows import FileStamp
from pannier.storage.objects import is_in_bucket, objects_of, parted
from pannier.storage.remote import IN_FLIGHT, REMOTE

_FAR = tuple(f"{scheme}://".encode() for scheme in REMOTE)


def is_far(path: bytes) -> bool:
    return path.startswith(_FAR)


def read_file(path: bytes, expected: int, most: int | None = None) -> bytes:
    """A file's bytes, or at most the first `most`, in as few system calls as its expected size allows.

    Raises PictureError; StoreError where a bucket's server does not answer, which is no fault of the picture's.
    """
    if is_far(path):
        address, within = parted(path.decode())
        try:
            return objects_of(address).read(within, most)
        except NotFoundError:
            raise PictureError("there is no such file", "missing") from None
    try:
        handle = os.open(path, os.O_RDONLY)
        try:
            if most is not None:
                return os.read(handle, most)
            data = os.read(handle, expected + 1)
            while more := os.read(handle, 1 << 20) if len(data) != expected else b"":
                data += more
            return data
        finally:
            os.close(handle)
    except (FileNotFoundError, ValueError):  # a path with a zero byte names no file
        raise PictureError("there is no such file", "missing") from None
    except OSError as error:
        raise PictureError(f"cannot be read: {error.strerror or error}", "unreadable") from error


def file_stamp(path: str | bytes | Path) -> FileStamp | None:
    """A file as it is now; None where there is none."""
    if is_far(where := os.fsencode(path)):
        address, within = parted(where.decode())
        try:
            found = objects_of(address).about(within)
        except NotFoundError:
            return None
        return FileStamp(where, found.byte_count, found.stamp)
    try:
        state = os.stat(path)
    except (OSError, ValueError):
        return None
    return FileStamp(os.path.abspath(where), state.st_size, state.st_mtime_ns)


def stamps_of(paths: Iterable[bytes]) -> Iterator[FileStamp | None]:
    """Some files as they are now, in order; from afar many are asked for at once."""
    listed = list(paths)
    if not any(map(is_far, listed)):
        yield from map(file_stamp, listed)
        return
    with ThreadPoolExecutor(IN_FLIGHT, thread_name_prefix="pannier-stamps") as pool:
        yield from pool.map(file_stamp, listed)


class FarFolder:
    """A folder in a bucket, as much of a path as tables need of the folder that their pictures lie below."""

    def __init__(self, address: str) -> None:
        self.address = address.rstrip("/")

    def __fspath__(self) -> str:
        return self.address

    def __str__(self) -> str:
        return self.address

    def resolve(self) -> FarFolder:
        return self

    def __truediv__(self, name: str) -> FarFolder:
        return FarFolder(name if is_in_bucket(name) else f"{self.address}/{name}")

    def is_file(self) -> bool:
        return file_stamp(self.address) is not None


def folder_at(named: str | Path | FarFolder) -> Path | FarFolder:
    """A folder on a disk, or in a bucket."""
    if isinstance(named, FarFolder):
        return named
    return FarFolder(str(named)) if is_in_bucket(named) else Path(named)


@contextmanager
def here(address: str) -> Iterator[Path]:
    """A file of a bucket under its own name on this disk; the folder goes at the end, and what was opened stays open.

    Raises NotFoundError, StoreError.
    """
    bucket, within = parted(address)
    with objects_of(bucket).here(within) as path:
        yield path
