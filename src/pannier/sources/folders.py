"""A folder of pictures as a source: class folders, or split folders of class folders."""

from __future__ import annotations

import os
import stat
import unicodedata
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa

from pannier.columns import NAMES
from pannier.errors import NotFoundError, PictureError, SourceError, UsageError
from pannier.images.facts import format_of
from pannier.sources.rows import ROWS_AT_ONCE, LeftOut, Row, Source

HEAD_BYTES = 16

SCHEMA = pa.schema(
    [
        ("path", pa.large_string()),
        ("name", pa.large_string()),
        ("stem", pa.large_string()),
        ("parent", NAMES),
        ("top", NAMES),
        ("split", NAMES),
        ("bytes", pa.int64()),
    ]
)

_SPLIT_NAMES = {
    "train": "train",
    "training": "train",
    "val": "val",
    "valid": "val",
    "validation": "val",
    "test": "test",
    "testing": "test",
}


def split_of_folder(name: str) -> str | None:
    """The split that a folder's name stands for, in any case, or None."""
    return _SPLIT_NAMES.get(name.lower())


class FolderSource:
    """All pictures below a folder, told by content. One pass over the names at once: 200 bytes of memory a picture.

    Columns: path, name, stem, parent, top, split, bytes. `parent` is the nearest folder and `top` the first, both below the
    split folder where there is one; NULL for a picture that lies in no folder.
    """

    def __init__(self, folder: str | Path, *, keep_splits: bool = True) -> None:
        self.root = Path(folder)
        if not self.root.exists():
            raise NotFoundError(f"there is no folder {folder}")
        if not self.root.is_dir():
            raise UsageError(f"{folder} is a file; a folder of pictures is wanted")
        self.name = self.root.resolve().name
        self.passed: list[LeftOut] = []
        self._otherwise: dict[str, bytes] = {}
        self._keys, self._byte_counts = self._listed()
        self.has_split_folders = _has_split_folders(self._keys)
        self.fixed_splits = self.has_split_folders and keep_splits

    def __len__(self) -> int:
        return len(self._keys)

    default_label = "parent"

    def keys(self) -> Any:
        return pa.array(self._keys, pa.large_string())

    def byte_counts(self, numbers: Any) -> Any:
        return self._byte_counts[numbers]

    def table(self) -> Any:
        """A row a picture, in order of keys."""
        batches = [self._batch(at) for at in range(0, len(self), ROWS_AT_ONCE)]
        return pa.Table.from_batches(batches, SCHEMA).unify_dictionaries()

    def read(self, row: Row) -> bytes:
        """The picture's bytes. Raises PictureError where the file cannot be read (any more)."""
        return read_whole(self._path(self._keys[row.number]), row.byte_count)

    def _path(self, key: str) -> bytes:
        return self._otherwise.get(key) or os.path.join(os.fsencode(self.root), key.encode())

    def _batch(self, at: int) -> Any:
        keys = self._keys[at : at + ROWS_AT_ONCE]
        splits, tops, parents, names = zip(*(self._parts(key) for key in keys), strict=True)
        columns = {
            "path": keys,
            "name": names,
            "stem": [name.rpartition(".")[0] or name for name in names],
            "parent": parents,
            "top": tops,
            "split": splits if self.fixed_splits else [None] * len(keys),
            "bytes": self._byte_counts[at : at + ROWS_AT_ONCE],
        }
        return pa.record_batch([pa.array(columns[field.name], field.type) for field in SCHEMA], SCHEMA)

    def _parts(self, key: str) -> tuple[str | None, str | None, str | None, str]:
        """Split, top folder, nearest folder and name that a key tells of."""
        *folders, name = key.split("/")
        split = split_of_folder(folders[0]) if self.has_split_folders and folders else None
        below = folders[1:] if split else folders
        return (split, below[0], below[-1], name) if below else (split, None, None, name)

    def _listed(self) -> tuple[list[str], Any]:
        """Keys in order of their UTF-8 bytes, and how many bytes each picture has."""
        found: dict[str, int] = {}
        root = os.fsencode(self.root)
        for path, relative, byte_count in _walk(root, self.passed):
            key = _key(relative)
            if not _is_utf8(relative):
                self.passed.append(LeftOut(key, "name", "its name is not UTF-8: those bytes are percent-encoded in the key"))
            if key in found:
                first = os.path.relpath(self._path(key), root)
                raise SourceError(
                    f"two pictures have one key {key!r}: {_shown(first)} and {_shown(relative)}; rename one of them"
                )
            if key.encode() != relative:
                self._otherwise[key] = path
            found[key] = byte_count
        keys = sorted(found, key=str.encode)
        return keys, np.fromiter(map(found.__getitem__, keys), np.int64, len(keys))


def is_flat(source: Source) -> bool:
    """Whether every picture lies in the folder itself, so that no folder can give its label."""
    if not isinstance(source, FolderSource) or not len(source):
        return False
    parents = source.table().column("parent")
    return bool(parents.null_count == len(parents))


def read_whole(path: bytes, expected: int) -> bytes:
    """A file's bytes in as few system calls as its expected size allows. Raises PictureError."""
    try:
        handle = os.open(path, os.O_RDONLY)
        try:
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


def _key(relative: bytes) -> str:
    text = relative.decode("utf-8", "surrogateescape")
    text = "".join(f"%{ord(c) - 0xDC00:02X}" if "\udc80" <= c <= "\udcff" else c for c in text)
    return unicodedata.normalize("NFC", text)


def _is_utf8(name: bytes) -> bool:
    try:
        name.decode("utf-8")
    except UnicodeDecodeError:
        return False
    return True


def _shown(path: bytes) -> str:
    return repr(path.decode("utf-8", "backslashreplace"))


def _walk(root: bytes, passed: list[LeftOut]) -> Iterator[tuple[bytes, bytes, int]]:
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
                size = _picture_bytes(entry, root, passed)
                if size is not None:
                    yield entry.path, entry.path[len(root.rstrip(b"/")) + 1 :], size
        waiting += reversed(folders)


def _picture_bytes(entry: os.DirEntry[bytes], root: bytes, passed: list[LeftOut]) -> int | None:
    try:
        state = entry.stat()
        if not stat.S_ISREG(state.st_mode):
            passed.append(_passed(entry.path, root, "skipped", "not a file"))
            return None
        with open(entry.path, "rb") as file:
            head = file.read(HEAD_BYTES)
    except OSError as error:
        passed.append(_passed(entry.path, root, "unreadable", f"cannot be read: {error.strerror}"))
        return None
    if format_of(head) or (not head and looks_like_picture(entry.name)):
        return state.st_size
    passed.append(_passed(entry.path, root, "skipped", "not a picture"))
    return None


def looks_like_picture(name: bytes) -> bool:
    """An empty file is known by its ending alone."""
    return name.lower().endswith(
        (b".jpg", b".jpeg", b".png", b".webp", b".bmp", b".gif", b".tif", b".tiff", b".ppm", b".pgm")
    )


def _passed(path: bytes, root: bytes, kind: str, reason: str) -> LeftOut:
    return LeftOut(_key(os.path.relpath(path, root)), kind, reason)


def _is_below(path: bytes, root: bytes) -> bool:
    return path == root or path.startswith(root.rstrip(b"/") + b"/")


def _has_split_folders(keys: list[str]) -> bool:
    """Whether every top folder that holds pictures bears a split's name. Raises SourceError where only some do."""
    tops = {key.split("/", 1)[0] for key in keys if "/" in key}
    splits = {top for top in tops if split_of_folder(top)}
    if splits and splits != tops:
        others = sorted(tops - splits)
        raise SourceError(
            f"some folders bear a split's name ({', '.join(sorted(splits))}) and some do not ({', '.join(others[:5])}"
            f"{', ...' if len(others) > 5 else ''}); put them into folders of one kind"
        )
    return bool(splits)
