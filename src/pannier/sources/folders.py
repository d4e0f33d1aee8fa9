"""A folder of pictures as a source: class folders, or split folders of class folders."""

from __future__ import annotations

import os
import stat
from collections import Counter
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa

from pannier.errors import NotFoundError, PictureError, SourceError, UsageError
from pannier.images.facts import looks_like_picture, refuse_other_kinds
from pannier.kinds import LeftOutKind
from pannier.sources import paths
from pannier.sources.files import read_file
from pannier.sources.laid_out import LaidOut, is_about_layout
from pannier.sources.rows import FileStamp, LeftOut, Row

HEAD_BYTES = 16


class FolderSource(paths.PathSource):
    """All pictures below a folder, told by content. One pass over the names at once: 200 bytes of memory a picture.

    `is_known` says of a file that it is a picture and need not be looked into. `laid_out` tells how a snapshot was laid out
    here, where one was.
    """

    def __init__(
        self,
        folder: str | Path,
        *,
        keep_splits: bool = True,
        patterns: paths.Patterns | None = None,
        is_known: Callable[[FileStamp], bool] | None = None,
    ) -> None:
        self.root = Path(folder)
        if not self.root.exists():
            raise NotFoundError(f"there is no folder {folder}")
        if not self.root.is_dir():
            raise UsageError(f"{folder} is a file; a folder of pictures is wanted")
        self.name = self.root.resolve().name
        self.passed: list[LeftOut] = []
        self._otherwise: dict[str, bytes] = {}
        self._root = os.fsencode(self.root.absolute())
        walk = _Walk(self._root, self.passed, patterns or paths.Patterns(), is_known or (lambda _: False))
        self.laid_out = LaidOut.read(self.root)
        found = self._listed(walk)
        if self.laid_out is not None:
            self.passed = [item for item in self.passed if not is_about_layout(item.key.split("/"))]
        self._take({key: size for key, (size, _) in found.items()}, keep_splits=keep_splits)
        self._stamps = np.fromiter((found[key][1] for key in self._keys), np.int64, len(self._keys))

    def keys(self) -> Any:
        """The pictures' keys: their paths, or what those were when the folder was laid out of a store."""
        if self.laid_out is None:
            return super().keys()
        keys = [self.laid_out.key_of(path) for path in self._keys]
        if len(set(keys)) < len(keys):
            raise SourceError(
                f"two pictures in {self.root} have one key, {_twice(keys)!r}: the folder was laid out of a store, and one "
                "of them came there since; give it another name"
            )
        return pa.array(keys, pa.large_string())

    def read(self, row: Row, most: int | None = None) -> bytes:
        """The picture's bytes, or the first of them. Raises PictureError where the file cannot be read (any more)."""
        return read_file(self._path_of(self._keys[row.number]), row.byte_count, most)

    def file(self, row: Row) -> FileStamp:
        """The picture's file as it was when the folder was listed."""
        path = self._path_of(self._keys[row.number])
        return FileStamp(path, int(self._byte_counts[row.number]), int(self._stamps[row.number]))

    def _path_of(self, key: str) -> bytes:
        return self._otherwise.get(key) or os.path.join(self._root, key.encode())

    def _listed(self, walk: _Walk) -> dict[str, tuple[int, int]]:
        """How many bytes each picture has and when it was last changed, by key."""
        files: dict[str, tuple[int, int]] = {}
        start = len(self._root.rstrip(b"/")) + 1
        for file in walk:
            relative = file.path[start:]
            key = paths.key_of(relative)
            if self.laid_out is not None and is_about_layout(key.split("/")):
                continue
            note = paths.name_note(relative, key)
            if note:
                self.passed.append(note)
            if key in files:
                paths.refuse_one_key(key, self._path_of(key)[start:], relative)
            if key.encode() != relative:
                self._otherwise[key] = file.path
            files[key] = (file.byte_count, file.stamp)
        return files


def _twice(keys: list[str]) -> str:
    return next(key for key, count in Counter(keys).items() if count > 1)


class _Walk:
    """The files below a folder that are pictures, or empty and named like one; what else is there is passed over."""

    def __init__(
        self, root: bytes, passed: list[LeftOut], patterns: paths.Patterns, is_known: Callable[[FileStamp], bool]
    ) -> None:
        self._root, self._passed, self._patterns, self._is_known = root, passed, patterns, is_known
        self._folders: list[bytes] = []
        self._with_pictures: set[bytes] = set()

    def __iter__(self) -> Iterator[FileStamp]:
        real_root = os.path.realpath(self._root)
        seen: set[tuple[int, int]] = set()
        waiting = [self._root]
        while waiting:
            folder = waiting.pop()
            try:
                state = os.stat(folder)
                if (state.st_dev, state.st_ino) in seen:
                    self._pass(folder, "link", "a link to a folder that was read already")
                    continue
                seen.add((state.st_dev, state.st_ino))
                with os.scandir(folder) as entries:
                    listed = sorted(entries, key=lambda entry: entry.name)
            except OSError as error:
                if folder == self._root:
                    raise SourceError(f"{os.fsdecode(self._root)} cannot be read: {error.strerror}") from error
                self._pass(folder, "unreadable", f"a folder that cannot be read: {error.strerror}")
                continue
            folders = []
            for entry in listed:
                if entry.is_symlink() and not _is_below(os.path.realpath(entry.path), real_root):
                    self._pass(entry.path, "link", "a link that leads outside")
                elif self._patterns.passes_over(entry.name):
                    self._pass(entry.path, *paths.hidden(entry.name, is_folder=entry.is_dir()))
                elif entry.is_dir():
                    folders.append(entry.path)
                else:
                    file = self._picture(entry)
                    if file is not None:
                        self._with_pictures.add(folder)
                        yield file
            self._folders.append(folder)
            waiting += reversed(folders)
        self._tell_empty_folders()

    def _tell_empty_folders(self) -> None:
        """Notes the folders with no picture below them, of nested ones the outermost: a class that nobody has filled."""
        filled = {self._root}
        for folder in self._with_pictures:
            while folder not in filled:
                filled.add(folder)
                folder = os.path.dirname(folder)
        for folder in self._folders:
            if folder not in filled and os.path.dirname(folder) in filled:
                self._pass(folder, "empty folder", "no picture in it")

    def _picture(self, entry: os.DirEntry[bytes]) -> FileStamp | None:
        """The file of an entry that is a picture; of any other it is noted why it is passed over."""
        refusal = self._patterns.refusal(paths.shown_path(entry.path, self._root)) if self._patterns.are_any else None
        try:
            if refusal:
                raise PictureError(refusal, "excluded")
            state = entry.stat()
            if not stat.S_ISREG(state.st_mode):
                raise PictureError("not a file", "skipped")
            file = FileStamp(entry.path, state.st_size, state.st_mtime_ns)
            if not self._is_known(file):
                head = read_file(entry.path, HEAD_BYTES, HEAD_BYTES)
                if head or not looks_like_picture(os.fsdecode(entry.name)):
                    refuse_other_kinds(head, os.fsdecode(entry.name))
            return file
        except PictureError as error:
            if error.kind == "excluded":
                self._with_pictures.add(os.path.dirname(entry.path))
            self._pass(entry.path, error.kind, error.reason)
        except OSError as error:
            self._pass(entry.path, "unreadable", f"cannot be read: {error.strerror}")
        return None

    def _pass(self, path: bytes, kind: LeftOutKind, reason: str) -> None:
        self._passed.append(LeftOut(paths.shown_path(path, self._root), kind, reason))


def _is_below(path: bytes, root: bytes) -> bool:
    return path == root or path.startswith(root.rstrip(b"/") + b"/")
