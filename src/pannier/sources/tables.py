"""A table as a source: a row a picture, which is a path, or lies in the table itself."""

from __future__ import annotations

import os
import posixpath
import re
import unicodedata
from collections.abc import Iterable, Mapping
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from pannier.columns import from_frame
from pannier.errors import SourceError, UsageError
from pannier.sources.files import FarFolder, file_stamp, folder_at, here, is_far, read_file, stamps_of
from pannier.sources.picture_columns import LINK, USUAL_LABELS, find_pictures, is_picture
from pannier.sources.rows import FileStamp, LeftOut, Row, content_keys
from pannier.sources.table_files import Nulls, ReadTable, is_bytes, read_table, tidied
from pannier.sources.text_pictures import read_shape
from pannier.storage.objects import is_in_bucket
from pannier.storage.remote import IN_FLIGHT

# paths that are not keys as they are: backslashes, from the root, up, doubled or lone dots and slashes, beyond ASCII
_ODD_PATH = r"\\|^$|^/|/$|//|(^|/)\.\.?(/|$)|[^\x00-\x7f]"


class TableSource:
    """Pictures that a table names or holds. Its columns are those that rules may use, but for pictures held in it.

    picture: the column, or an SQL expression, that gives a path (relative to `root`), bytes, or text that holds a picture;
    found where only one fits. shape: of pixel values in a cell, or in a column each.
    """

    fixed_splits = False

    def __init__(
        self, table: ReadTable, name: str, root: str | Path | FarFolder, picture: str | None = None, shape: str | None = None
    ) -> None:
        self.name, self.root = name, folder_at(root)
        self._stamps: dict[str, FileStamp | None] = {}
        self._root, self.stray_blanks = os.fsencode(self.root), table.stray_blanks
        self.passed = [LeftOut(f"row {number}", "malformed", reason) for number, reason in table.malformed]
        found = find_pictures(table.table, self.root, picture, read_shape(shape) if shape is not None else None)
        self._pictures = found.values
        self.notes = [*table.notes, f"pictures are read from {found.column}"]
        has_picture = pc.is_valid(self._pictures)
        without = np.flatnonzero(~has_picture.to_numpy(zero_copy_only=False))
        self.passed += [LeftOut(f"row {table.numbers[row]}", "no picture", "it names none") for row in without.tolist()]
        if not is_bytes(self._pictures.type):
            is_link = pc.fill_null(pc.match_substring_regex(self._pictures, LINK), False)
            links = np.flatnonzero(is_link.to_numpy(zero_copy_only=False))
            reason = "a link, which packing does not fetch: pannier gather does"
            self.passed += [LeftOut(f"row {table.numbers[row]}", "link", reason) for row in links.tolist()]
            has_picture = pc.and_not(has_picture, is_link)
            without = np.concatenate([without, links])
        kept = found.table.drop_columns([name for name in found.table.column_names if is_picture(found.table.column(name))])
        names, essences = self._pictures if found.names is None else found.names, found.essences
        if len(without):
            kept, self._pictures, names = (each.filter(has_picture) for each in (kept, self._pictures, names))
            essences = None if essences is None else essences.filter(has_picture)
        self._table = kept
        holds = is_bytes(self._pictures.type)
        self._lengths = pc.binary_length(self._pictures).to_numpy().astype(np.int64) if holds else None
        self._keys = _keys(names, self.root, essences)

    @property
    def reads_at_once(self) -> int:
        """Of pictures in a bucket many are on their way at once."""
        return IN_FLIGHT if is_far(self._root) else 1

    @property
    def default_label(self) -> str | None:
        return next((name for name in USUAL_LABELS if name in self._table.column_names), None)

    def table(self) -> Any:
        return self._table

    def keys(self) -> Any:
        return self._keys

    def byte_counts(self, numbers: Any) -> np.ndarray[Any, np.dtype[np.int64]]:
        if self._lengths is not None:
            return self._lengths[numbers]
        chosen = self._pictures.take(pa.array(numbers)).to_pylist()
        stamps = dict(zip(chosen, stamps_of(map(self._path, chosen)), strict=True))
        if is_far(self._root):  # asking once is enough
            self._stamps |= stamps
        sizes = (0 if (stamp := stamps[name]) is None else stamp.byte_count for name in chosen)
        return np.fromiter(sizes, np.int64, len(chosen))  # of what is not there reading says so

    def read(self, row: Row, most: int | None = None) -> bytes:
        """The picture's bytes, or the first of them. Raises PictureError where it is not there or cannot be read."""
        picture = self._pictures[row.number]
        if is_bytes(picture.type):
            return bytes(picture.as_buffer()[:most])
        return read_file(self._path(picture.as_py()), row.byte_count, most)

    def file(self, row: Row) -> FileStamp | None:
        """The file that a row names as it is now; None where its picture lies in the table."""
        if is_bytes(self._pictures.type):
            return None
        name = self._pictures[row.number].as_py()
        return self._stamps[name] if name in self._stamps else file_stamp(self._path(name))

    def _path(self, name: str) -> bytes:
        """Where a picture lies; a path written with backslashes, as on Windows, is read with slashes."""
        path = os.path.join(self._root, name.encode("utf-8", "surrogateescape"))
        if is_far(self._root):
            return path if is_far(path) else self._root + b"/" + name.replace("\\", "/").removeprefix("./").encode()
        return path.replace(b"\\", b"/") if b"\\" in path and not os.path.exists(path) else path


def table_from(rows: Any, null: Nulls = ()) -> ReadTable:
    """A table from Python: Arrow, a data frame, or dicts, one a row. Raises UsageError, SourceError for what is no table."""
    try:
        if isinstance(rows, pa.Table):
            rows.validate(full=True)
            return tidied(rows, null)
        if hasattr(rows, "columns") and hasattr(rows, "iloc"):
            return tidied(from_frame(rows), null)
        if isinstance(rows, Iterable) and not isinstance(rows, (str, bytes, Mapping)):
            listed = list(rows)
            if listed and all(isinstance(row, Mapping) for row in listed):
                return tidied(pa.Table.from_pylist([dict(row) for row in listed]), null)
    except (
        pa.ArrowException,
        TypeError,
        UnicodeError,
        OverflowError,
    ) as error:  # values of one column that go together in no type
        raise SourceError(f"the rows cannot be read as a table: {' '.join(str(error).split())}") from None
    raise UsageError(f"{type(rows).__name__} is no source: give a folder, a table, a data frame, or dicts, one a row")


def table_file(
    path: str | Path,
    *,
    picture: str | None = None,
    root: str | Path | None = None,
    encoding: str | None = None,
    separator: str | None = None,
    null: Nulls = (),
    shape: str | None = None,
    most_bytes: int | None = None,
) -> TableSource:
    """A table file as a source; paths in it are relative to `root`, by default the folder in which it lies."""
    reading: dict[str, Any] = {"encoding": encoding, "separator": separator, "null": null, "most_bytes": most_bytes}
    if is_in_bucket(path):
        folder, _, name = str(path).rpartition("/")
        with here(str(path)) as file:
            return TableSource(read_table(file, **reading), name, folder if root is None else root, picture, shape)
    file = Path(path)
    return TableSource(read_table(file, **reading), file.name, file.parent if root is None else root, picture, shape)


def _keys(names: Any, root: Path | FarFolder, held: Any | None) -> Any:
    """Paths as keys: relative to the root where they lie below it, with `/`, in Unicode form NFC; else by content."""
    names = names.combine_chunks() if isinstance(names, pa.ChunkedArray) else names
    is_odd = pc.fill_null(pc.match_substring_regex(names, _ODD_PATH), True).to_numpy(zero_copy_only=False)
    odd = np.flatnonzero(is_odd)
    if not len(odd):
        return names
    base = posixpath.normpath(str(root.resolve()))
    paths = names.take(pa.array(odd)).to_pylist()
    nameless = [row for row, name in zip(odd.tolist(), paths, strict=True) if not name]
    by_content = iter(content_keys(held[row].as_buffer() for row in nameless) if held is not None else [])
    keys = [_key(name, base) if name else next(by_content) for name in paths]
    return pc.replace_with_mask(names, pa.array(is_odd), pa.array(keys, pa.large_string()))


def _key(name: str, base: str) -> str:
    path = posixpath.normpath(name.replace("\\", "/"))
    if path.startswith("/"):
        path = path[len(base) + 1 :] if path.startswith(base + "/") else path.lstrip("/")
    return unicodedata.normalize("NFC", re.sub(r"^(\.\./)+", "", path))
