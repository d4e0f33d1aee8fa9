"""What packing has read: files by path, size and time stamp, so that they need not be read again. Derived and disposable."""

from __future__ import annotations

import contextlib
import hashlib
import logging
import time
from collections.abc import Sequence
from typing import Any

import numpy as np
import pyarrow as pa

from pannier.columns import BYTES_FIELDS, Digests, NameColumn, Rows, digests_of, fact_fields, ipc_bytes
from pannier.errors import DamageError, NotFoundError, StoreError
from pannier.images.facts import Facts
from pannier.sources.checking import Checked
from pannier.sources.rows import FileStamp, Row
from pannier.storage.layout import ARROW, SEEN
from pannier.storage.protocol import Storage
from pannier.store.arrow_files import read_batches
from pannier.store.documents import digest

_log = logging.getLogger("pannier")


# a file that was changed so shortly before it was read may change again under the same stamp
UNSURE_NANOSECONDS = 2_000_000_000
# more segments than these become one when packing ends
MOST_SEGMENTS = 8
NAME_DIGITS = 32

_FILE = (pa.field("path", pa.uint64()), pa.field("check", pa.uint64()), pa.field("stamp", pa.int64()))
_PICTURE = (pa.field("source_bytes", pa.int64()), *BYTES_FIELDS, *fact_fields())
SCHEMA = pa.schema([field.with_nullable(False) for field in (*_FILE, *_PICTURE)], metadata={"pannier": "seen 1"})


class Seen:
    """Files that were read for a store before. `way` is how they are read (recoding, limits): another way, other entries.

    Not for several threads at once. Some 150 bytes of memory a file.
    """

    def __init__(self, storage: Storage, way: str = "", *, forget: bool = False) -> None:
        self._storage, self._way = storage, way.encode() + b"\0"
        self._segments = [name for name in sorted(storage.list(SEEN)) if _is_segment(name)]
        tables = [] if forget else [_read(storage, name) for name in self._segments]
        self._table = pa.concat_tables([SCHEMA.empty_table(), *tables]).combine_chunks()
        columns = (self._table.column(name).to_numpy() for name in ("path", "check", "stamp", "source_bytes"))
        paths, self._checks, self._stamps, self._sizes = columns
        self._digests = digests_of(self._table.column("sha256"))
        self._pictures = [_plain(self._table.column(field.name)) for field in _PICTURE[2:]]
        self._order = np.argsort(paths, kind="stable")
        self._paths = paths[self._order]
        self._new: list[tuple[Any, ...]] = []

    def is_known(self, file: FileStamp) -> bool:
        """Whether a file is as it was when it was read. As `find`, quicker for one."""
        if not len(self._paths):
            return False
        path, check = self._hashes(file.path)
        at = int(self._paths.searchsorted(np.uint64(path), side="right")) - 1
        if at < 0 or self._paths[at] != path:
            return False
        entry = self._order[at]
        told = (self._checks[entry], self._stamps[entry], self._sizes[entry])
        return told == (check, file.stamp, file.byte_count)

    def find(self, files: Sequence[FileStamp | None]) -> Rows:
        """For each file the number of its entry, where it is as it was when it was read, else -1."""
        none = FileStamp(b"", -1, -1)
        known = [file or none for file in files]
        hashes = np.array([self._hashes(file.path) for file in known], np.uint64).reshape(-1, 2)
        found = np.full(len(files), -1, np.int64)
        if not len(self._paths):
            return found
        at = np.maximum(np.searchsorted(self._paths, hashes[:, 0], side="right") - 1, 0)  # the entry that was made last
        entries = self._order[at]
        stamps, sizes = (np.array([file[i] for file in known], np.int64) for i in (2, 1))
        same = (self._paths[at] == hashes[:, 0]) & (self._checks[entries] == hashes[:, 1])
        same &= (self._stamps[entries] == stamps) & (self._sizes[entries] == sizes)
        found[same] = entries[same]
        return found

    def digests(self, entries: Rows) -> Digests:
        """The SHA-256 of the pictures of some entries."""
        return self._digests[entries]

    def checked(self, row: Row, entry: int) -> Checked:
        """What an entry tells of a picture; its bytes are not given."""
        crc32, byte_count, *facts = (_single(column, entry) for column in self._pictures)
        return Checked(row, self._digests[entry].tobytes(), crc32, byte_count, Facts(*facts), 0, None)

    def add(self, file: FileStamp, checked: Checked) -> None:
        """Remembers a file whose picture is stored when `flush` is called."""
        if time.time_ns() - file.stamp >= UNSURE_NANOSECONDS and not self.is_known(file):
            picture = (file.byte_count, checked.sha256, checked.crc32, checked.byte_count, *checked.facts)
            self._new.append((*self._hashes(file.path), file.stamp, *picture))

    def flush(self, *, at_end: bool = False) -> None:
        """Keeps what was added; at the end many segments become one, of each path the entry made last.

        Where the disk refuses, nothing is remembered, which costs the next pack time and nothing else.
        """
        try:
            self._flush(at_end)
        except (StoreError, NotFoundError) as error:
            _log.warning("what was read is not remembered: %s", error)

    def _flush(self, at_end: bool) -> None:
        if self._new:
            columns = zip(*self._new, strict=True)
            arrays = [pa.array(values, field.type) for values, field in zip(columns, SCHEMA, strict=True)]
            self._new = []
            self._segments.append(self._write(pa.table(arrays, schema=SCHEMA)))
        if at_end and len(self._segments) > MOST_SEGMENTS:
            whole = pa.concat_tables([SCHEMA.empty_table(), *(_read(self._storage, name) for name in self._segments)])
            _, newest = np.unique(whole.column("path").to_numpy()[::-1], return_index=True)
            merged = self._write(whole.take(pa.array(np.sort(len(whole) - 1 - newest))))
            for name in self._segments:
                with contextlib.suppress(NotFoundError):  # another pack may have merged it at the same moment
                    self._storage.remove(f"{SEEN}/{name}")
            self._segments = [merged]

    def _hashes(self, path: bytes) -> tuple[int, int]:
        content = hashlib.sha256(self._way + path).digest()
        return int.from_bytes(content[:8], "big"), int.from_bytes(content[8:16], "big")

    def _write(self, table: Any) -> str:
        content = ipc_bytes(table.combine_chunks())
        # the time goes first, so that names are in its order; the digest vouches for the content
        name = f"{time.time_ns():020}-{digest(content)[:NAME_DIGITS]}{ARROW}"
        self._storage.create(f"{SEEN}/{name}", content)
        return name


def _plain(column: Any) -> Any:
    """A column of which single values are quickly had, and that stays small."""
    return NameColumn.of(column) if pa.types.is_string(column.type) else column.to_numpy()


def _single(column: Any, entry: int) -> Any:
    return column[entry] if isinstance(column, NameColumn) else column[entry].item()


def _is_segment(name: str) -> bool:
    return name.endswith(ARROW)


def _read(storage: Storage, name: str) -> Any:
    """A segment's entries; none where it is damaged, or gone since it was listed, so that what it told of is read again."""
    try:
        return segment_table(storage, name)
    except (StoreError, NotFoundError):
        return SCHEMA.empty_table()


def segment_table(storage: Storage, name: str) -> Any:
    """A segment's entries. Raises DamageError."""
    content = storage.read(f"{SEEN}/{name}")
    if digest(content)[:NAME_DIGITS] != name.removesuffix(ARROW).rpartition("-")[2]:
        raise DamageError(f"{SEEN}/{name} is damaged: its digest is not its name", file=f"{SEEN}/{name}")
    return pa.Table.from_batches(read_batches(pa.py_buffer(content), f"{SEEN}/{name}", "what was seen", SCHEMA), SCHEMA)
