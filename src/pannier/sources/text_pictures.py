"""Pictures in tables as text: Base64 (RFC 4648), with or without a data: prefix (RFC 2397); or as pixel values."""

from __future__ import annotations

import base64
import binascii
import re
from collections.abc import Sequence
from typing import Any

import numpy as np
import pyarrow as pa

from pannier.errors import UsageError
from pannier.images.facts import format_of
from pannier.sources.arrays import as_png, essence

_PROBED = 100
_HEAD_CHARACTERS = 64
_DATA_URL = re.compile(r"data:[^,]*;base64,", re.IGNORECASE)
_PIXELS = re.compile(r"[\[(]?\s*\d{1,5}(\s*[,;\s]\s*\d{1,5}){15,}")

Shape = tuple[int, ...]


def read_shape(text: str) -> Shape:
    """A picture's shape from 48x48, or 48x48x3 with channels last. Raises UsageError."""
    sides = tuple(int(part) for part in re.split("[x,]", text.strip()) if part.strip().isdigit())
    if len(sides) not in (2, 3) or 0 in sides or len(sides) != len(re.split("[x,]", text.strip())):
        raise UsageError(f"`shape` {text}: write height and width, as 48x48, or channels too, as 48x48x3")
    if len(sides) == 3 and sides[2] not in (1, 3, 4):
        raise UsageError(f"`shape` {text}: a picture has 1, 3 or 4 channels, which stand last")
    return sides


def holds_text_pictures(column: Any) -> bool:
    """Whether most of a column's first values are pictures in Base64."""
    values = _first(column)
    return sum(format_of(_head_of(value)) is not None for value in values) > len(values) / 2


def holds_pixel_values(column: Any) -> bool:
    """Whether most of a column's first values are long runs of numbers."""
    values = _first(column)
    return sum(_PIXELS.match(value[:256]) is not None for value in values) > len(values) / 2


def from_base64(column: Any) -> Any:
    """The bytes that the cells hold; a cell that is no Base64 stays as it is, which is no picture."""
    return pa.chunked_array([pa.array([_decoded(cell) for cell in column.to_pylist()], pa.large_binary())])


def from_cells(column: Any, shape: Shape) -> tuple[Any, Any]:
    """(PNG files of the pixel values in the cells, what tells them apart); a cell with too many or too few values stays as
    it is, which is no picture.
    """
    cells = column.to_pylist()
    values = [_values_in(cell, shape) for cell in cells]
    kind = _kind_of([each for each in values if each is not None])
    drawn = [
        _drawn(each, shape, kind) if each is not None else (cell and cell.encode(),) * 2
        for each, cell in zip(values, cells, strict=True)
    ]
    return _binaries([png for png, _ in drawn]), _binaries([essence for _, essence in drawn])


def from_columns(table: Any, labels: Sequence[str], shape: Shape) -> tuple[Any, Any, Any]:
    """Of a table with a column a pixel: (it without those, PNG files, what tells them apart).

    Raises UsageError where the number of columns does not fit.
    """
    whole = [name for name in table.column_names if pa.types.is_integer(table.column(name).type) and name not in labels]
    wanted = int(np.prod(shape))
    names = whole if len(whole) <= wanted else [name for name in whole if re.search(r"\d", name)]
    if len(names) != wanted:
        what = "x".join(map(str, shape))
        raise UsageError(f"`shape` {what}: that is {wanted:,} values, and there are {len(names):,} columns of whole numbers")
    values = np.stack([table.column(name).to_numpy() for name in names], axis=1)
    drawn = [_drawn(row, shape, _kind_of([values])) for row in values]
    return table.drop_columns(names), _binaries([png for png, _ in drawn]), _binaries([essence for _, essence in drawn])


def _binaries(values: Sequence[bytes | None]) -> Any:
    return pa.chunked_array([pa.array(values, pa.large_binary())])


def _first(column: Any) -> list[str]:
    is_text = pa.types.is_string(column.type) or pa.types.is_large_string(column.type)
    return column.drop_null()[:_PROBED].to_pylist() if is_text else []


def _bare(cell: str) -> str:
    prefix = _DATA_URL.match(cell[:256])
    return cell[prefix.end() :] if prefix else cell


def _head_of(cell: str) -> bytes:
    text = "".join(_bare(cell[:1024]).split())[:_HEAD_CHARACTERS]
    try:
        return base64.b64decode(text[: len(text) // 4 * 4], validate=True)
    except (binascii.Error, ValueError):
        return b""


def _decoded(cell: str | None) -> bytes | None:
    if cell is None:
        return None
    text = "".join(_bare(cell).split())
    try:
        return base64.b64decode(text + "=" * (-len(text) % 4), validate=True)
    except (binascii.Error, ValueError):
        return cell.encode()


def _values_in(cell: str | None, shape: Shape) -> Any:
    """The whole numbers in a cell; None where they are too many, too few, or none."""
    parts = re.split(r"[,;\s]+", cell.strip("[]() \t\r\n")) if cell is not None else []
    is_whole = len(parts) == int(np.prod(shape)) and all(part.isdigit() for part in parts)
    return np.array(parts, np.int64) if is_whole else None


def _kind_of(values: Sequence[Any]) -> Any:
    """All pictures of a table are kept alike: in 8 bits, or in 16 where a value takes them."""
    return np.uint8 if max((int(each.max()) for each in values), default=0) < 256 else np.uint16


def _drawn(values: Any, shape: Shape, kind: Any) -> tuple[bytes, bytes]:
    """A PNG file, and what tells the picture from others whatever the encoder."""
    if values.min() < 0 or values.max() > np.iinfo(kind).max:
        return (b"values that no picture has",) * 2
    pixels = values.astype(kind).reshape(shape)
    return as_png(pixels), essence(pixels)
