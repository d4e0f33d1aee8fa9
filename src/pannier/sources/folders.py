"""A folder of pictures as a source: class folders, or split folders of class folders."""

from __future__ import annotations

import os
import stat
from collections.abc import Iterator
from pathlib import Path

from pannier.errors import NotFoundError, PictureError, SourceError, UsageError
from pannier.images.facts import format_of
from pannier.sources.paths import (
    PathSource,
    Patterns,
    key_of,
    looks_like_picture,
    name_note,
    refuse_one_key,
    shown_path,
)
from pannier.sources.rows import LeftOut, Row

HEAD_BYTES = 16


class FolderSource(PathSource):
    """All pictures below a folder, told by content. One pass over the names at once: 200 bytes of memory a picture."""

    def __init__(self, folder: str | Path, *, keep_splits: bool = True, patterns: Patterns | None = None) -> None:
        self.root = Path(folder)
        if not self.root.exists():
            raise NotFoundError(f"there is no folder {folder}")
        if not self.root.is_dir():
            raise UsageError(f"{folder} is a file; a folder of pictures is wanted")
        self.name = self.root.resolve().name
        self.passed: list[LeftOut] = []
        self._otherwise: dict[str, bytes] = {}
        self._take(self._listed(patterns or Patterns()), keep_splits=keep_splits)

    def read(self, row: Row, most: int | None = None) -> bytes:
        """The picture's bytes, or the first of them. Raises PictureError where the file cannot be read (any more)."""
        return read_file(self.path_of(self._keys[row.number]), row.byte_count, most)

    def stamps(self, rows: list[Row]) -> list[int]:
        """When each file was last changed, in nanoseconds; 0 where that cannot be told."""
        return [stamp_of(self.path_of(self._keys[row.number])) for row in rows]

    def path_of(self, key: str) -> bytes:
        return self._otherwise.get(key) or os.path.join(os.fsencode(self.root), key.encode())

    def _listed(self, patterns: Patterns) -> dict[str, int]:
        """How many bytes each picture has, by key."""
        found: dict[str, int] = {}
        root = os.fsencode(self.root)
        for path, relative, byte_count in _walk(root, self.passed, patterns):
            key = key_of(relative)
            note = name_note(relative, key)
            if note:
                self.passed.append(note)
            if key in found:
                refuse_one_key(key, os.path.relpath(self.path_of(key), root), relative)
            if key.encode() != relative:
                self._otherwise[key] = path
            found[key] = byte_count
        return found


def read_file(path: bytes, expected: int, most: int | None = None) -> bytes:
    """A file's bytes, or at most the first `most`, in as few system calls as its expected size allows.

    Raises PictureError.
    """
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
    except FileNotFoundError:
        raise PictureError("there is no such file", "missing") from None
    except OSError as error:
        raise PictureError(f"cannot be read: {error.strerror or error}", "unreadable") from error


def stamp_of(path: bytes) -> int:
    try:
        return os.stat(path).st_mtime_ns
    except OSError:
        return 0


def _walk(root: bytes, passed: list[LeftOut], patterns: Patterns) -> Iterator[tuple[bytes, bytes, int]]:
    """(path, path relative to root, bytes) of every file that is a picture or empty; the rest is passed over."""
    real_root = os.path.realpath(root)
    seen: set[tuple[int, int]] = set()
    waiting = [root]
    while waiting:
        folder = waiting.pop()
        try:
            state = os.stat(folder)
            if (state.st_dev, state.st_ino) in seen:
                passed.append(_passed(folder, root, "link", "a link to a folder that was read already"))
                continue
            seen.add((state.st_dev, state.st_ino))
            with os.scandir(folder) as entries:
                listed = sorted(entries, key=lambda entry: entry.name)
        except OSError as error:
            if folder == root:
                raise SourceError(f"{os.fsdecode(root)} cannot be read: {error.strerror}") from error
            passed.append(_passed(folder, root, "unreadable", f"a folder that cannot be read: {error.strerror}"))
            continue
        folders = []
        for entry in listed:
            if entry.is_symlink() and not _is_below(os.path.realpath(entry.path), real_root):
                passed.append(_passed(entry.path, root, "link", "a link that leads outside"))
            elif entry.is_dir():
                folders.append(entry.path)
            else:
                relative = entry.path[len(root.rstrip(b"/")) + 1 :]
                size = _picture_bytes(entry, root, passed, patterns.refusal(key_of(relative)))
                if size is not None:
                    yield entry.path, relative, size
        waiting += reversed(folders)


def _picture_bytes(entry: os.DirEntry[bytes], root: bytes, passed: list[LeftOut], refusal: str | None) -> int | None:
    try:
        if refusal:
            passed.append(_passed(entry.path, root, "excluded", refusal))
            return None
        state = entry.stat()
        if not stat.S_ISREG(state.st_mode):
            passed.append(_passed(entry.path, root, "skipped", "not a file"))
            return None
        head = read_file(entry.path, HEAD_BYTES, HEAD_BYTES)
    except PictureError as error:
        passed.append(_passed(entry.path, root, error.kind, error.reason))
        return None
    except OSError as error:
        passed.append(_passed(entry.path, root, "unreadable", f"cannot be read: {error.strerror}"))
        return None
    if format_of(head) or (not head and looks_like_picture(entry.name)):
        return state.st_size
    passed.append(_passed(entry.path, root, "skipped", "not a picture"))
    return None


def _passed(path: bytes, root: bytes, kind: str, reason: str) -> LeftOut:
    return LeftOut(shown_path(path, root), kind, reason)


def _is_below(path: bytes, root: bytes) -> bool:
    return path == root or path.startswith(root.rstrip(b"/") + b"/")
