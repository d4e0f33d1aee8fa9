"""Zip and tar archives as sources: pictures are read out of them; nothing is unpacked under a name of its own."""

from __future__ import annotations

import bz2
import contextlib
import gzip
import lzma
import os
import posixpath
import tarfile
import tempfile
import weakref
import zipfile
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import IO, Any

from pannier.errors import PannierError, PictureError, SourceError
from pannier.images.facts import looks_like_picture, refuse_other_kinds
from pannier.kinds import Refusal
from pannier.sources import paths
from pannier.sources.bounds import Unpacking, is_bomb, refuse_beyond, refuse_bomb
from pannier.sources.files import file_stamp
from pannier.sources.folders import HEAD_BYTES
from pannier.sources.rows import FileStamp, LeftOut, Row
from pannier.units import show_bytes

ENDINGS = (".zip", ".tar", ".tgz", ".tar.gz", ".tar.bz2", ".tar.xz")

# one picture's file; beyond it is no picture that anybody trains on
MAX_FILE_BYTES = 1 << 30
_COPIED_AT_ONCE = 1 << 20
# what a file in an archive takes here and while it is packed, whatever is in it; and the longest part of a tar's headers
_BYTES_A_MEMBER = 4000
_LONGEST_HEADER = 1 << 20

_OPENERS: dict[bytes, Callable[..., Any]] = {b"\x1f\x8b": gzip.open, b"BZh": bz2.open, b"\xfd7zXZ": lzma.open}
# all else that reading raises is what the bytes of a stranger happen to provoke
_OURS = (PannierError, MemoryError)


@dataclass(frozen=True)
class Member:
    """A file in an archive: its path there, how many bytes it says to have, packed and not, how to read them.

    Or why it is not read.
    """

    path: bytes
    byte_count: int
    packed: int
    place: Any
    refusal: Refusal | None = None


class ArchiveSource(paths.PathSource):
    """All pictures in a zip or tar archive, told by content. A sole folder around everything counts as the root.

    A compressed tar cannot be read at random: its content goes to one temporary file without a name, as large as the
    disk allows. most_bytes: of memory, for all that is known of its files; None for no limit. stamp: of the file that it is
    a copy of. Safe between threads.
    Raises SourceError where the archive cannot be read, or has far less than it unpacks to.
    """

    def __init__(
        self,
        path: str | Path,
        *,
        keep_splits: bool = True,
        patterns: paths.Patterns | None = None,
        most_bytes: int | None = None,
        stamp: FileStamp | None = None,
    ) -> None:
        self.name = Path(path).name
        for ending in sorted(ENDINGS, key=len, reverse=True):
            self.name = self.name.removesuffix(ending)
        self.passed: list[LeftOut] = []
        self._stamp = stamp or file_stamp(path)
        with _archive_errors(path):
            self._opened: _Zip | _Tar = _Zip(path) if zipfile.is_zipfile(path) else _Tar(path)
            members = list(self._pictures(path, patterns or paths.Patterns(), most_bytes))
        root = _sole_folder([member.path for member in members])
        self._places: dict[str, Any] = {}
        found: dict[str, int] = {}
        twice: set[str] = set()
        for member in members:
            relative = member.path[len(root) :]
            key = paths.key_of(relative)
            note = paths.name_note(relative, key)
            if note:
                self.passed.append(note)
            if key in found:
                twice.add(key)
            found[key], self._places[key] = member.byte_count, member.place
        for key in sorted(twice):  # nobody can say which of them is meant
            del found[key], self._places[key]
            self.passed.append(LeftOut(key, "unreadable", "several files in the archive have this name"))
        self._take(found, keep_splits=keep_splits)

    def read(self, row: Row, most: int | None = None) -> bytes:
        """The picture's bytes, or the first of them. Raises PictureError where they cannot be read."""
        try:
            return self._opened.read(self._places[self._keys[row.number]], row.byte_count, most)
        except _OURS:
            raise
        except Exception as error:
            raise PictureError(f"cannot be read out of the archive: {error}", "unreadable") from error

    def file(self, row: Row) -> FileStamp | None:
        """The archive as it was opened, and the member's path in it."""
        if self._stamp is None:
            return None
        path = self._stamp.path + b"\0" + self._keys[row.number].encode()
        return self._stamp._replace(path=path, byte_count=row.byte_count)

    def _pictures(self, path: str | Path, patterns: paths.Patterns, most_bytes: int | None) -> Iterator[Member]:
        """The members that are pictures, or empty files that are named as one."""
        unpacked, packed = 0, os.stat(path).st_size
        for count, member in enumerate(self._opened.members(), 1):
            refuse_beyond(most_bytes, count * _BYTES_A_MEMBER, path, f"knowing its {count:,} files or more")
            key = paths.key_of(member.path)
            refusal = self._refusal(member, key, patterns)
            if refusal is None:
                unpacked += member.byte_count
                refuse_bomb(path, unpacked, packed)
                yield member
            else:
                self.passed.append(LeftOut(key, *refusal))

    def _refusal(self, member: Member, key: str, patterns: paths.Patterns) -> Refusal | None:
        """Why a member is not brought in, if it is not."""
        excluded = patterns.refusal(key)
        if excluded:
            return ("excluded", excluded)
        refusal = member.refusal or _refusal(member)
        if refusal is not None:
            return refusal
        if any(patterns.passes_over(name) for name in member.path.split(b"/")):
            return paths.hidden(member.path, is_folder=False)
        try:
            head = self._opened.read(member.place, member.byte_count, HEAD_BYTES)
        except _OURS:
            raise
        except Exception as error:
            return ("unreadable", f"cannot be read out of the archive: {error}")
        try:
            if head or not looks_like_picture(key):
                refuse_other_kinds(head, key)
        except PictureError as error:
            return (error.kind, error.reason)
        return None


class _Zip:
    def __init__(self, path: str | Path) -> None:
        self._file = zipfile.ZipFile(path)

    def members(self) -> Iterator[Member]:
        for info in self._file.infolist():
            if not info.is_dir():
                refusal: Refusal | None = ("unreadable", "it is encrypted") if info.flag_bits & 1 else None
                name = _name(info.filename.replace("\\", "/"))
                yield Member(name, info.file_size, info.compress_size, info, refusal)

    def read(self, place: zipfile.ZipInfo, byte_count: int, most: int | None) -> bytes:
        with self._file.open(place) as file:
            return file.read(byte_count if most is None else most)


# where a member's bytes begin in the archive, and which pieces (start in the member, size) lie there
_Pieces = tuple[int, tuple[tuple[int, int], ...]]


class _Tar:
    def __init__(self, path: str | Path) -> None:
        with open(path, "rb") as file:
            head = file.read(8)
        opener = next((opener for magic, opener in _OPENERS.items() if head.startswith(magic)), None)
        # kept open as long as the source lives: its content has no name to be opened by again
        self._file: IO[bytes] = _unpacked(path, opener) if opener else open(path, "rb")  # noqa: SIM115
        weakref.finalize(self, self._file.close)

    def members(self) -> Iterator[Member]:
        headers: Any = _Headers(self._file)
        with tarfile.open(fileobj=headers, mode="r:", errors="surrogateescape", encoding="utf-8") as archive:
            following: Any = archive.next
            while (info := following()) is not None:
                archive.members = []  # type: ignore[attr-defined]  # it would keep them all
                if not info.isdir():
                    is_link = info.issym() or info.islnk()
                    kind: Refusal = ("link", "a link in an archive") if is_link else ("skipped", "not a file")
                    place = (info.offset_data, tuple(info.sparse or ((0, info.size),)))
                    kept = sum(size for _, size in place[1])
                    yield Member(_name(info.name), info.size, kept, place, None if info.isreg() else kind)

    def read(self, place: _Pieces, byte_count: int, most: int | None) -> bytes:
        """A member's bytes; between the pieces that a sparse one keeps, one after another, there are zeros."""
        at, pieces = place
        wanted = byte_count if most is None else min(most, byte_count)
        if pieces == ((0, byte_count),):
            return os.pread(self._file.fileno(), wanted, at)
        content = bytearray(wanted)
        for start, size in pieces:
            kept = max(0, min(size, wanted - start))
            content[start : start + kept] = os.pread(self._file.fileno(), kept, at)
            at += size
        return bytes(content)


class _Headers:
    """A tar's file for what reads its headers, which may announce names of any length: parts of theirs are bounded."""

    def __init__(self, file: IO[bytes]) -> None:
        self._file = file
        self.seek, self.tell = file.seek, file.tell

    def read(self, size: int) -> bytes:
        if size > _LONGEST_HEADER:
            raise tarfile.ReadError(f"a name or a header of {show_bytes(size)}")
        return self._file.read(size)


def _unpacked(path: str | Path, opener: Callable[..., Any]) -> IO[bytes]:
    """A compressed file's content in a temporary file, bounded by what the disk has. Raises SourceError."""
    unpacking = Unpacking(path, os.stat(path).st_size)
    target = tempfile.TemporaryFile()  # noqa: SIM115
    try:
        with opener(path, "rb") as packed:
            while content := packed.read(_COPIED_AT_ONCE):
                unpacking.count(len(content))
                target.write(content)
        target.seek(0)
    except BaseException:
        target.close()
        raise
    return target


def _name(name: str) -> bytes:
    return posixpath.normpath(name).encode("utf-8", "surrogateescape")


def _refusal(member: Member) -> Refusal | None:
    """Paths that lead outside are not made harmless but refused, as are files beyond all measure."""
    if member.path.startswith((b"/", b"../")) or member.path == b".." or b"\0" in member.path:
        return ("unsafe", "its path leads outside the archive")
    if member.byte_count > MAX_FILE_BYTES:
        return ("oversized", f"it says to have {show_bytes(member.byte_count)}")
    if is_bomb(member.byte_count, member.packed):
        packed, unpacked = show_bytes(member.packed), show_bytes(member.byte_count)
        return ("oversized", f"it says to have {unpacked} in {packed}, as no picture does")
    return None


def _sole_folder(members: list[bytes]) -> bytes:
    """The folder, with its slash, that holds everything and holds it in folders; else nothing."""
    tops = {path.split(b"/", 1)[0] for path in members}
    return tops.pop() + b"/" if len(tops) == 1 and all(path.count(b"/") >= 2 for path in members) else b""


@contextlib.contextmanager
def _archive_errors(path: str | Path) -> Iterator[None]:
    try:
        yield
    except _OURS:
        raise
    except Exception as error:
        raise SourceError(f"{path} cannot be read as an archive: {error}") from error
