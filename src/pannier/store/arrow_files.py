"""A store's Arrow files, read with nothing trusted: the columns that they must have, uncompressed, every value validated.

Validating sees that offsets, indices and texts are within their buffers before anything follows them, so that no file,
however it was made, leads outside of itself. What is read stays mapped: no picture's bytes are touched.
"""

from __future__ import annotations

import contextlib
import struct
from collections.abc import Iterator
from typing import Any

import pyarrow as pa

from pannier.errors import DamageError, NotFoundError

# where fields stand in the tables of the Arrow format (Footer, Message, RecordBatch, DictionaryBatch: format/*.fbs)
_DICTIONARIES, _BATCHES = 2, 3
_HEADER_TYPE, _HEADER = 1, 2
_COMPRESSION, _DICTIONARY_DATA, _IS_DICTIONARY = 3, 1, 2
_BLOCK_BYTES = 24
_MAGIC = b"ARROW1"


@contextlib.contextmanager
def arrow_errors(file: str, what: str) -> Iterator[None]:
    """What reading a damaged file provokes, as a DamageError. `what` the file should be, as "a shard"."""
    try:
        yield
    except NotFoundError:
        raise DamageError(f"{file} is missing; bring it back from a copy of the store", file=file) from None
    except (pa.ArrowException, OSError, ValueError, TypeError, LookupError, struct.error, OverflowError) as error:
        told = str(error).partition("\n")[0]
        raise DamageError(f"{file} is damaged: it cannot be read as {what} ({told})", file=file) from error


def read_batches(content: Any, file: str, what: str, schema: Any | None = None) -> list[Any]:
    """The record batches of a file's content, an Arrow buffer. schema: what it must have. Raises DamageError."""
    return read_file(content, file, what, schema)[1]


def read_file(
    content: Any, file: str, what: str, schema: Any | None = None, *, validated: bool = True
) -> tuple[Any, list[Any]]:
    """The schema of a file and its batches; see `read_batches`. Not validated: only the sizes of buffers are checked."""
    with arrow_errors(file, what):
        _refuse_compressed(memoryview(content))
        reader = pa.ipc.open_file(content)
        _ = reader.schema.names  # which are UTF-8
        if schema is not None and not reader.schema.equals(schema):
            raise DamageError(f"{file} is damaged: it has not the columns of {what}", file=file)
        batches = [reader.get_batch(number) for number in range(reader.num_record_batches)]
        for batch in batches:
            batch.validate(full=validated)
        return reader.schema, batches


def _refuse_compressed(content: memoryview) -> None:
    """Raises ValueError where a buffer says that it is compressed: no writer of ours does, and it may unpack to any size."""
    end = len(content) - len(_MAGIC) - 4
    if end < 0 or content[end + 4 :] != _MAGIC:
        raise ValueError("it does not end as an Arrow file")
    start = end - _number("<i", content, end)
    footer = _followed(content, start)
    for which in (_DICTIONARIES, _BATCHES):
        for block in _vector(content, footer, which):
            message = _followed(content, _number("<q", content, block) + 8)
            header = _field(content, message, _HEADER)
            if header is None:
                continue
            batch = _followed(content, header)
            if _number("<B", content, _field(content, message, _HEADER_TYPE) or 0) == _IS_DICTIONARY:
                data = _field(content, batch, _DICTIONARY_DATA)
                if data is None:
                    continue
                batch = _followed(content, data)
            if _field(content, batch, _COMPRESSION) is not None:
                raise ValueError("it is compressed")


def _vector(content: memoryview, table: int, slot: int) -> Iterator[int]:
    """Where the blocks of a table's vector begin."""
    at = _field(content, table, slot)
    if at is not None:
        vector = _followed(content, at)
        count = _number("<I", content, vector)
        if count * _BLOCK_BYTES > len(content):
            raise ValueError("it has more blocks than bytes")
        yield from range(vector + 4, vector + 4 + count * _BLOCK_BYTES, _BLOCK_BYTES)


def _field(content: memoryview, table: int, slot: int) -> int | None:
    """Where a field of a flatbuffer's table stands, or None where the table has none."""
    layout = table - _number("<i", content, table)
    at = 4 + 2 * slot
    offset = _number("<H", content, layout + at) if at < _number("<H", content, layout) else 0
    return table + offset if offset else None


def _followed(content: memoryview, at: int) -> int:
    return at + int(_number("<I", content, at))


def _number(kind: str, content: memoryview, at: int) -> int:
    if at < 0:
        raise ValueError("it points before its beginning")
    return int(struct.unpack_from(kind, content, at)[0])
