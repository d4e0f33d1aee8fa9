"""Rows as content ids take them, many at once (docs/format.md, "Content id"): bytes laid side by side by NumPy."""

from __future__ import annotations

import hashlib
from collections.abc import Iterator, Sequence
from itertools import pairwise
from typing import Any, NamedTuple

import numpy as np
import pyarrow as pa

from pannier import columns
from pannier.array_types import Array, Numbers
from pannier.store.content import FALSE, FLOAT, INTEGER, ROW_END, TEXT, TIME, TRUE, encode_text

# so many rows at a time, which stay in the processor's cache
_ROWS_AT_ONCE = 1 << 14
_NAN = np.uint64(0x7FF8000000000000)


class Pieces(NamedTuple):
    """A piece of bytes for each row, one after another in `data`, uint8."""

    data: Array
    lengths: Numbers


def digests_of(table: Any, side: Sequence[str], borders: Sequence[int]) -> Iterator[bytes]:
    """SHA-256 over the encoded rows from each border to the next, in order of their keys' UTF-8 bytes.

    table: `key`, `label`, `split`, `sha256` and the side columns; borders: ascending, from 0 to its length.
    """
    run = 0
    while run < len(borders) - 1:
        end = run + 1
        while end < len(borders) - 1 and borders[end + 1] - borders[run] <= _ROWS_AT_ONCE:
            end += 1
        first, last = borders[run], borders[end]
        here = np.array(borders[run : end + 1]) - first
        content, starts = _encoded(_in_order(table.slice(first, last - first), here), side)
        ends = np.append(starts, len(content))[here]
        yield from (hashlib.sha256(content[a:b].data).digest() for a, b in pairwise(ends))
        run = end


def _in_order(table: Any, borders: Numbers) -> Any:
    """The rows between two borders in order of their keys."""
    ranks = np.empty(len(table), np.int64)
    ranks[columns.order_of_keys(table.column("key"))] = np.arange(len(table))
    runs = np.repeat(np.arange(len(borders) - 1), np.diff(borders))
    return table.take(pa.array(np.lexsort((ranks, runs)))).combine_chunks()


def _encoded(table: Any, side: Sequence[str]) -> tuple[Array, Numbers]:
    """The bytes of all rows, and where each begins."""
    rows = len(table)
    pieces = [_texts(table.column("key")), _names(table.column("label")), _names(table.column("split"))]
    pieces.append(_alike(columns.digests_of(table.column("sha256"))))
    for name in sorted(side):
        pieces += _told(name, table.column(name))
    pieces.append(_alike(np.full((rows, 1), ROW_END[0], np.uint8)))
    lengths = np.sum([piece.lengths for piece in pieces], axis=0, dtype=np.int64)
    starts = np.cumsum(lengths) - lengths
    content, at = np.empty(int(lengths.sum()), np.uint8), starts.copy()
    for piece in pieces:
        begins = np.cumsum(piece.lengths) - piece.lengths
        content[np.repeat(at - begins, piece.lengths) + np.arange(len(piece.data))] = piece.data
        at += piece.lengths
    return content, starts


def _alike(rows: Array) -> Pieces:
    """Pieces of one length, (n, length) uint8."""
    return Pieces(np.ascontiguousarray(rows).reshape(-1), np.full(len(rows), rows.shape[1], np.int64))


def _out_of(values: Sequence[bytes], numbers: Array) -> Pieces:
    """For each row one of those pieces, by number."""
    lengths = np.array([len(value) for value in values], np.int64)
    begins, each = np.cumsum(lengths) - lengths, lengths[numbers]
    data = np.frombuffer(b"".join(values), np.uint8)
    within = np.arange(each.sum()) - np.repeat(np.cumsum(each) - each, each)
    return Pieces(data[np.repeat(begins[numbers], each) + within], each)


def _names(column: Any) -> Pieces:
    of = columns.NameColumn.of(column)
    return _out_of([encode_text(name) for name in [*of.names, None]], of.codes)


def _texts(column: Any) -> Pieces:
    """Texts, none of which is NULL, each with its tag and length before it."""
    values = column.cast(pa.large_binary()).combine_chunks()
    values = values.chunk(0) if isinstance(values, pa.ChunkedArray) else values
    offsets = np.frombuffer(values.buffers()[1], np.int64)[values.offset : values.offset + len(values) + 1]
    content = values.buffers()[2]
    text = np.empty(0, np.uint8) if content is None else np.frombuffer(content, np.uint8)[offsets[0] : offsets[-1]]
    lengths = np.diff(offsets)
    heads = np.empty((len(lengths), 5), np.uint8)
    heads[:, 0], heads[:, 1:] = TEXT[0], lengths.astype(">u4").view(np.uint8).reshape(-1, 4)
    data = np.empty(5 * len(lengths) + len(text), np.uint8)
    starts = offsets[:-1] - offsets[0] + 5 * np.arange(len(lengths))
    data[starts[:, None] + np.arange(5)] = heads
    data[np.repeat(5 * (np.arange(len(lengths)) + 1), lengths) + np.arange(len(text))] = text
    return Pieces(data, lengths + 5)


def _told(name: str, column: Any) -> Iterator[Pieces]:
    """A side column: its name and its values, where they are not NULL."""
    is_there = column.is_valid().cast(pa.uint8()).to_numpy().view(np.bool_)
    if not is_there.any():
        return
    yield _out_of([b"", encode_text(name)], is_there.astype(np.int64))
    given = column.drop_null()
    if pa.types.is_boolean(column.type):
        values = _out_of([FALSE, TRUE], given.cast(pa.uint8()).to_numpy().astype(np.int64))
    elif pa.types.is_floating(column.type):
        numbers = given.to_numpy() + 0.0  # -0 is 0
        values = _numbers(FLOAT, np.where(np.isnan(numbers), _NAN, numbers.view(np.uint64)))
    elif pa.types.is_integer(column.type) or pa.types.is_timestamp(column.type):
        values = _numbers(INTEGER if pa.types.is_integer(column.type) else TIME, given.cast(pa.int64()).to_numpy())
    else:
        values = _texts(given)
    lengths = np.zeros(len(column), np.int64)
    lengths[is_there] = values.lengths
    yield Pieces(values.data, lengths)


def _numbers(tag: bytes, values: Array) -> Pieces:
    """Numbers of eight bytes, with their tag before them."""
    rows = np.empty((len(values), 9), np.uint8)
    rows[:, 0], rows[:, 1:] = tag[0], values.astype(values.dtype.newbyteorder(">")).view(np.uint8).reshape(-1, 8)
    return _alike(rows)
