"""A folder of pictures as a source: class folders, or split folders of class folders."""

from __future__ import annotations

import os
import stat
import unicodedata
from collections.abc import Iterator
from pathlib import Path

from pannier.errors import NotFoundError, SourceError, UsageError
from pannier.images.facts import format_of
from pannier.sources.rows import LeftOut, Row, Source

HEAD_BYTES = 16

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

    columns = ("path", "name", "stem", "parent", "top", "split", "bytes")

    def __init__(self, folder: str | Path, *, keep_splits: bool = True) -> None:
        self.root = Path(folder)
        if not self.root.exists():
            raise NotFoundError(f"there is no folder {folder}")
        if not self.root.is_dir():
            raise UsageError(f"{folder} is a file; a folder of pictures is wanted")
        self.name = self.root.resolve().name
        self.passed: list[LeftOut] = []
        self._files = self._listed()
        self.has_split_folders = _has_split_folders(self._files)
        self.fixed_splits = self.has_split_folders and keep_splits

    def __len__(self) -> int:
        return len(self._files)

    def rows(self) -> Iterator[Row]:
        """One row a picture, in order of keys."""
        for key, (_, byte_count) in self._files.items():
            yield Row(key, byte_count, self._columns(key, byte_count))

    def read(self, row: Row) -> bytes:
        """The picture's bytes. Raises SourceError where the file cannot be read (any more)."""
        path, byte_count = self._files[row.key]
        try:
            return _read_whole(path, byte_count)
        except OSError as error:
            raise SourceError(f"{row.key} cannot be read: {error.strerror or error}") from error

    def _columns(self, key: str, byte_count: int) -> dict[str, str | int | None]:
        *folders, name = key.split("/")
        split = split_of_folder(folders[0]) if self.has_split_folders and folders else None
        below = folders[1:] if split else folders
        return {
            "path": key,
            "name": name,
            "stem": name.rpartition(".")[0] or name,
            "parent": below[-1] if below else None,
            "top": below[0] if below else None,
            "split": split if self.fixed_splits else None,
            "bytes": byte_count,
        }

    def _listed(self) -> dict[str, tuple[bytes, int]]:
        """Key -> (path as the system has it, bytes) of every picture, in order of the keys' UTF-8 bytes."""
        found: dict[str, tuple[bytes, int]] = {}
        for path, relative, byte_count in _walk(os.fsencode(self.root), self.passed):
            key = _key(relative)
            if b"%" in key.encode() and not _is_utf8(relative):
                self.passed.append(LeftOut(key, "name", "its name is not UTF-8: those bytes are percent-encoded in the key"))
            if key in found:
                first = os.path.relpath(found[key][0], os.fsencode(self.root))
                raise SourceError(
                    f"two pictures have one key {key!r}: {_shown(first)} and {_shown(relative)}; rename one of them"
                )
            found[key] = (path, byte_count)
        return dict(sorted(found.items(), key=lambda item: item[0].encode()))


def as_source(source: str | Path | Source, *, keep_splits: bool = True) -> Source:
    """A path as the source it is; a source as it is."""
    return FolderSource(source, keep_splits=keep_splits) if isinstance(source, (str, Path)) else source


def is_flat(source: FolderSource) -> bool:
    """Whether every picture lies in the folder itself, so that no folder can give its label."""
    return len(source) > 0 and all(row.columns["parent"] is None for row in source.rows())


def _read_whole(path: bytes, expected: int) -> bytes:
    """A file's bytes in as few system calls as its expected size allows."""
    handle = os.open(path, os.O_RDONLY)
    try:
        data = os.read(handle, expected + 1)
        while more := os.read(handle, 1 << 20) if len(data) != expected else b"":
            data += more
        return data
    finally:
        os.close(handle)


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
    if format_of(head) or (not head and _looks_like_picture(entry.name)):
        return state.st_size
    passed.append(_passed(entry.path, root, "skipped", "not a picture"))
    return None


def _looks_like_picture(name: bytes) -> bool:
    """An empty file is known by its ending alone."""
    return name.lower().endswith(
        (b".jpg", b".jpeg", b".png", b".webp", b".bmp", b".gif", b".tif", b".tiff", b".ppm", b".pgm")
    )


def _passed(path: bytes, root: bytes, kind: str, reason: str) -> LeftOut:
    return LeftOut(_key(os.path.relpath(path, root)), kind, reason)


def _is_below(path: bytes, root: bytes) -> bool:
    return path == root or path.startswith(root.rstrip(b"/") + b"/")


def _has_split_folders(files: dict[str, tuple[bytes, int]]) -> bool:
    """Whether every top folder that holds pictures bears a split's name. Raises SourceError where only some do."""
    tops = {key.split("/", 1)[0] for key in files if "/" in key}
    splits = {top for top in tops if split_of_folder(top)}
    if splits and splits != tops:
        others = sorted(tops - splits)
        raise SourceError(
            f"some folders bear a split's name ({', '.join(sorted(splits))}) and some do not ({', '.join(others[:5])}"
            f"{', ...' if len(others) > 5 else ''}); put them into folders of one kind"
        )
    return bool(splits)
