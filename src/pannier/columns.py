"""Columns of Arrow as NumPy sees them: names as numbers, digests as rows of bytes. So that a million records stay small."""

from __future__ import annotations

import io
import re
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass
from itertools import repeat
from typing import Any, TypeVar

import numpy as np
import pyarrow as pa

from pannier.array_types import Flags
from pannier.errors import UsageError
from pannier.hashing import argsort_hashes

Codes = np.ndarray[Any, np.dtype[np.int32]]
Rows = np.ndarray[Any, np.dtype[np.int64]]
Digests = np.ndarray[Any, np.dtype[np.uint8]]

T = TypeVar("T", bound=tuple[Any, ...])
_NO_PANDAS = "a data frame needs pandas: pip install pandas"

NAMES = pa.dictionary(pa.int32(), pa.string())
DIGEST_BYTES = 32
# what a side column may hold
SIDE_TYPES = (pa.int64(), pa.float64(), pa.string(), pa.timestamp("us"), pa.bool_(), pa.null())

# what is known of every picture by its header: the fields of images.facts.Facts, in their order wherever they are columns
FACT_TYPES = {
    "format": pa.string(),
    "mode": pa.string(),
    "height": pa.int32(),
    "width": pa.int32(),
    "turn": pa.uint8(),
    "progressive": pa.bool_(),
}
# and what tells its bytes
BYTES_FIELDS = (
    pa.field("sha256", pa.binary(DIGEST_BYTES), nullable=False),
    pa.field("crc32", pa.uint32(), nullable=False),
    pa.field("byte_count", pa.int64(), nullable=False),
)


def fact_fields(*, text: Any = None) -> list[Any]:
    """The fields of those columns; text as it is unless another type is named."""
    return [
        pa.field(name, text if text is not None and pa.types.is_string(kind) else kind, nullable=False)
        for name, kind in FACT_TYPES.items()
    ]


@dataclass(frozen=True)
class NameColumn:
    """A name for each row, or none: numbers into a list of names, which may hold names that no row has. -1 is NULL."""

    codes: Codes
    names: list[str]

    @staticmethod
    def of(column: Any) -> NameColumn:
        """From a column of names, numbered (dictionary-encoded) or not; other values by how they are written."""
        if not pa.types.is_dictionary(column.type):
            column = column.cast(pa.string()).dictionary_encode()
        if isinstance(column, pa.Array):
            column = pa.chunked_array([column])
        column = column.unify_dictionaries()
        if column.num_chunks == 0:
            return NameColumn(np.empty(0, np.int32), [])
        codes = np.concatenate([codes_of(chunk) for chunk in column.chunks])
        return NameColumn(codes, column.chunk(0).dictionary.to_pylist())

    def __len__(self) -> int:
        return len(self.codes)

    def __getitem__(self, row: int) -> str | None:
        code = self.codes[row]
        return self.names[code] if code >= 0 else None

    def take(self, rows: Any) -> NameColumn:
        return NameColumn(self.codes[rows], self.names)

    def mapped(self, names: Sequence[str | None]) -> NameColumn:
        """Each name replaced by the one that stands in its place; equal ones become one, None becomes NULL."""
        distinct = list(dict.fromkeys(name for name in names if name is not None))
        numbers = {name: number for number, name in enumerate(distinct)}
        table = np.array([*(-1 if name is None else numbers[name] for name in names), -1], np.int32)
        return NameColumn(table[self.codes], distinct)

    def numbered_by(self, names: Sequence[str]) -> Codes:
        """The numbers that the rows' names have in another list, which must hold all that rows have."""
        numbers = {name: number for number, name in enumerate(names)}
        table = np.array([*(numbers.get(name, -1) for name in self.names), -1], np.int32)
        return table[self.codes]

    def to_list(self) -> list[str | None]:
        names = [*self.names, None]
        return [names[code] for code in self.codes.tolist()]

    def to_arrow(self) -> Any:
        codes = pa.array(self.codes, pa.int32(), mask=self.codes < 0)
        return pa.DictionaryArray.from_arrays(codes, pa.array(self.names, pa.string()))


def all_names(*columns: NameColumn) -> list[str]:
    return list(dict.fromkeys(name for column in columns for name in column.names))


def joined(columns: Sequence[NameColumn]) -> NameColumn:
    """The rows of all of them, one after another."""
    names = all_names(*columns)
    return NameColumn(np.concatenate([column.numbered_by(names) for column in columns]), names)


def differs(first: NameColumn, second: NameColumn) -> np.ndarray[Any, np.dtype[np.bool_]]:
    """In which rows two columns of names are not alike."""
    names = all_names(first, second)
    return first.numbered_by(names) != second.numbered_by(names)


def codes_of(chunk: Any) -> Codes:
    """The numbers of a dictionary array, -1 for NULL."""
    indices = chunk.indices if not chunk.null_count else chunk.indices.fill_null(-1)
    codes: Codes = indices.to_numpy(zero_copy_only=False)
    return codes


def fixed_bytes(chunk: Any, width: int = DIGEST_BYTES) -> Digests:
    """An array of fixed-size binary as (rows, width) uint8, not copied."""
    content = np.frombuffer(chunk.buffers()[1], np.uint8)
    return content[chunk.offset * width : (chunk.offset + len(chunk)) * width].reshape(-1, width)


def digests_of(column: Any) -> Digests:
    """A chunked column of digests as (rows, 32) uint8."""
    parts = [fixed_bytes(chunk) for chunk in column.chunks if len(chunk)]
    if len(parts) == 1:
        return parts[0]
    return np.concatenate(parts) if parts else np.empty((0, DIGEST_BYTES), np.uint8)


def digest_list(digests: Digests) -> list[bytes]:
    content = np.ascontiguousarray(digests).tobytes()
    return [content[at : at + DIGEST_BYTES] for at in range(0, len(content), DIGEST_BYTES)]


def present(numbers: Rows) -> list[int]:
    """The numbers, 0 or more, that are there, each once, in order: for a few small ones, many times."""
    there: list[int] = np.flatnonzero(np.bincount(numbers)).tolist()
    return there


def tuples(kind: type[T], *columns: Iterable[Any]) -> list[T]:
    """Named tuples of columns, without a call of Python's own for each of them. The shortest column counts."""
    return list(map(tuple.__new__, repeat(kind), zip(*columns, strict=False)))


def to_digests(digests: Iterable[bytes]) -> Digests:
    return np.frombuffer(b"".join(digests), np.uint8).reshape(-1, DIGEST_BYTES)


def numbered(digests: Digests) -> tuple[Rows, Rows]:
    """Equal digests get one number: (the number of each row, the first row of each number). In order of their bytes."""
    prefixes = _prefixes(digests)
    order = np.argsort(prefixes, kind="stable")
    is_first = np.ones(len(order), bool)
    is_first[1:] = prefixes[order[1:]] != prefixes[order[:-1]]
    alike = np.flatnonzero(~is_first)  # where the first 8 bytes are: the others are too, or else all of them decide
    if len(alike) and (digests[order[alike]] != digests[order[alike - 1]]).any():
        words = np.ascontiguousarray(digests).view(">u8").astype(np.uint64)
        order = np.lexsort(words.T[::-1])
        is_first[1:] = (words[order[1:]] != words[order[:-1]]).any(axis=1)
    numbers = np.empty(len(order), np.int64)
    numbers[order] = np.cumsum(is_first) - 1
    return numbers, order[is_first]


class SortedDigests:
    """Digests (n, 32), ascending and distinct, to be found among."""

    def __init__(self, digests: Digests) -> None:
        self._digests, self._prefixes = digests, _prefixes(digests)

    def places(self, asked: Digests) -> Rows:
        """Where each stands, -1 for one that does not."""
        prefixes, open_rows = _prefixes(asked), np.arange(len(asked))
        found, at = np.full(len(asked), -1, np.int64), np.searchsorted(self._prefixes, prefixes)
        while len(open_rows):  # once, but for digests whose first 8 bytes are alike
            is_candidate = at < len(self._prefixes)
            is_candidate[is_candidate] = self._prefixes[at[is_candidate]] == prefixes[open_rows[is_candidate]]
            open_rows, at = open_rows[is_candidate], at[is_candidate]
            same = (self._digests[at] == asked[open_rows]).all(axis=1)
            found[open_rows[same]] = at[same]
            open_rows, at = open_rows[~same], at[~same] + 1
        return found


def _prefixes(digests: Digests) -> np.ndarray[Any, np.dtype[np.uint64]]:
    return np.ascontiguousarray(digests[:, :8]).view(">u8").ravel().astype(np.uint64)


def connected(count: int, links: Rows) -> tuple[Rows, int]:
    """Rows that links (n, 2) connect, directly or not, get one number: (the number of each row, how many there are).

    Numbers go in order of the first row of each. Every row points to a lower one of its group, and pointers are doubled
    (Shiloach and Vishkin, "An O(log n) Parallel Connectivity Algorithm", 1982): a round halves what is still to be joined.
    """
    lowest = np.arange(count)
    while len(links):
        ends = lowest[links]
        links = links[ends[:, 0] != ends[:, 1]]
        ends = lowest[links]
        np.minimum.at(lowest, ends.max(axis=1), ends.min(axis=1))
        while (lowest != (further := lowest[lowest])).any():
            lowest = further
    firsts, numbers = np.unique(lowest, return_inverse=True)
    return numbers.astype(np.int64), len(firsts)


def keys_below(prefix: str, keys: Any) -> Any:
    """Every key with a prefix before it."""
    import pyarrow.compute as pc  # which takes as long to load as NumPy does: not where nothing but a feed starts

    return pc.binary_join_element_wise(pa.scalar(prefix, keys.type), keys, pa.scalar("", keys.type))


def order_of_keys(keys: Any) -> Rows:
    """Row numbers in order of the keys' UTF-8 bytes."""
    import pyarrow.compute as pc

    order: Rows = pc.sort_indices(keys.cast(pa.large_binary())).to_numpy().astype(np.int64)
    return order


def order_by_hash(hashes: Any, keys: Any) -> Rows:
    """Row numbers in order of (hash of key, key)."""
    order = argsort_hashes(hashes)
    in_order = hashes[order]
    if len(order) > 1 and np.any(in_order[1:] == in_order[:-1]):
        ranks = np.empty(len(order), np.int64)
        ranks[order_of_keys(keys)] = np.arange(len(order))
        order = np.lexsort((ranks, hashes))
    return order


def counts_by_class(labels: Any, splits: Any, classes: int, split_count: int) -> Any:
    """Counts of shape (classes + 1, splits + 1) from code arrays; the last row and column are those of -1, no name."""
    labels = np.where(labels < 0, classes, labels).astype(np.int64)
    splits = np.where(splits < 0, split_count, splits).astype(np.int64)
    flat = np.bincount(labels * (split_count + 1) + splits, minlength=(classes + 1) * (split_count + 1))
    return flat.reshape(classes + 1, split_count + 1)


def are_equal(first: Any, second: Any) -> Flags:
    """In which places two columns without NULL are equal."""
    import pyarrow.compute as pc

    return np.asarray(pc.equal(first, second).to_numpy(zero_copy_only=False), np.bool_)


def ipc_bytes(table: Any) -> bytes:
    """An Arrow table or record batch as an IPC file."""
    sink = io.BytesIO()
    with pa.ipc.new_file(sink, table.schema) as writer:
        writer.write(table)
    return sink.getvalue()


# a text that a spreadsheet runs as a formula, unless it is a number; and one that was written so that it does not
_FORMULA = re.compile(r"'*(?:[=@\t\r]|[+-](?!\d*\.?\d+(?:[eE][+-]?\d+)?$))")


def as_cell(text: str) -> str:
    """A text as it is written into CSV: behind an apostrophe where a spreadsheet would run it, as spreadsheets mark text."""
    return f"'{text}" if _FORMULA.match(text) else text


def from_cell(text: str) -> str:
    """The text that `as_cell` has written."""
    return text[1:] if text.startswith("'") and _FORMULA.match(text) else text


def as_cells(table: Any) -> Any:
    """An Arrow table whose texts are as they are written into CSV."""
    return _with_texts(table, as_cell, r"^'*[=@\t\r+-]")


def from_cells(table: Any) -> Any:
    """The table that `as_cells` was given, of its texts."""
    return _with_texts(table, from_cell, r"^'+[=@\t\r+-]")


def _with_texts(table: Any, change: Callable[[str], str], may_change: str) -> Any:
    import pyarrow.compute as pc  # see `keys_below`

    for at, name in enumerate(table.column_names):
        column = table.column(at)
        kind = column.type.value_type if pa.types.is_dictionary(column.type) else column.type
        if not (pa.types.is_string(kind) or pa.types.is_large_string(kind)):
            continue
        texts = column.cast(kind)
        if pc.any(pc.match_substring_regex(texts, may_change)).as_py():
            texts = pa.array([None if text is None else change(text) for text in texts.to_pylist()], kind)
        table = table.set_column(at, pa.field(name, kind), texts)
    return table


def from_frame(frame: Any) -> Any:
    """A pandas data frame as an Arrow table."""
    pa.table({}).to_pandas()  # Arrow notices pandas here, for which it may not have looked before
    return pa.Table.from_pandas(frame.rename(columns=str), preserve_index=False)


def to_frame(table: Any) -> Any:
    """An Arrow table as a pandas data frame. Raises UsageError where pandas is not installed."""
    try:
        return table.to_pandas()
    except ModuleNotFoundError:
        raise UsageError(f"{_NO_PANDAS}, or take the Arrow table") from None


def frame_of(rows: Iterable[dict[str, Any]], names: Sequence[str] | None = None) -> Any:
    """A pandas data frame of rows by column. Raises UsageError where pandas is not installed."""
    try:
        import pandas
    except ModuleNotFoundError:
        raise UsageError(f"{_NO_PANDAS}, or take `to_dict()`") from None
    return pandas.DataFrame(list(rows), columns=names)


def numbers_of(codes: Codes, names: Sequence[str], classes: Sequence[str]) -> Rows:
    """By row the number that its name has among classes, -1 for none."""
    numbers = {name: number for number, name in enumerate(classes)}
    table: Rows = np.array([*(numbers.get(name, -1) for name in names), -1], np.int64)
    return table[codes]
