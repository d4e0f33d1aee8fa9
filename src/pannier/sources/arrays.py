"""Arrays of pictures as a source: .npz and .npy files, and arrays from Python. Kept without loss, as PNG."""

from __future__ import annotations

import io
import re
import shutil
import tempfile
import zipfile
from collections.abc import Mapping
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa

from pannier.columns import NameColumn
from pannier.errors import SourceError, UsageError
from pannier.sources.bounds import Unpacking
from pannier.sources.paths import split_of_folder
from pannier.sources.rows import FileStamp, LeftOut, Row, content_keys

ENDINGS = (".npz", ".npy")

# columns that give labels where no rule does
USUAL_LABELS = ("label", "labels", "class", "classes", "y", "target", "targets")

_Array = np.ndarray[Any, Any]
_SPLIT = r"(?:^|(?<=[_\W]))(train|training|val|valid|validation|test|testing)(?=[_\W]|$)"
_PNG_LEVEL = 3


class _OneArray:
    """Pictures of one array, with the columns that go with them."""

    def __init__(self, name: str, pictures: _Array, split: str | None, columns: dict[str, _Array], folder: str) -> None:
        self.name, self.pictures, self.split, self.columns, self.folder = name, pictures, split, columns, folder


class ArraysSource:
    """Pictures that lie in arrays of shape (n, h, w), (n, h, w, channels) or (n, channels, h, w).

    uint8 and bool of 1, 3 or 4 channels, uint16 of 1. Arrays of shape (n,) beside them are columns, under their names.
    NameColumn that tell a split (`x_train`, `y_train`) put pictures there: `y` is then the column's name. Further columns:
    index, array, split. Raises UsageError for arrays that are no pictures.
    """

    def __init__(self, arrays: Mapping[str, Any], name: str, *, keep_splits: bool = True) -> None:
        self.name = name
        self.passed: list[LeftOut] = []
        self._parts = _parted({each: np.asanyarray(values) for each, values in arrays.items()}, name)
        self.fixed_splits = keep_splits and all(part.split for part in self._parts)
        self._starts = np.cumsum([0, *(len(part.pictures) for part in self._parts)])
        keys = [part.folder + key for part in self._parts for key in content_keys(map(essence, part.pictures), ".png")]
        self._keys = pa.array(keys, pa.large_string())
        self._table = pa.concat_tables([self._table_of(part) for part in self._parts], promote_options="default")

    @property
    def default_label(self) -> str | None:
        usual = [name for name in USUAL_LABELS if name in self._table.column_names]
        others = [name for name in self._table.column_names if name not in ("index", "array", "split")]
        return usual[0] if usual else others[0] if len(others) == 1 else None

    def table(self) -> Any:
        return self._table

    def keys(self) -> Any:
        return self._keys

    def byte_counts(self, numbers: Any) -> np.ndarray[Any, np.dtype[np.int64]]:
        sizes = [part.pictures[0].nbytes if len(part.pictures) else 0 for part in self._parts]
        parts = np.searchsorted(self._starts, numbers, side="right") - 1
        return np.array(sizes, np.int64)[parts]

    def read(self, row: Row, most: int | None = None) -> bytes:
        """The picture as PNG, or the first bytes of it."""
        at = int(np.searchsorted(self._starts, row.number, side="right")) - 1
        return as_png(self._parts[at].pictures[row.number - self._starts[at]])[:most]

    def file(self, row: Row) -> FileStamp | None:
        return None

    def _table_of(self, part: _OneArray) -> Any:
        count = len(part.pictures)
        split = part.split if self.fixed_splits else None
        columns = {
            "index": pa.array(np.arange(count)),
            "array": NameColumn(np.zeros(count, np.int32), [part.name]).to_arrow(),
            "split": pa.array([split] * count, pa.string()).dictionary_encode(),
        }
        return pa.table(columns | {name: _column(values) for name, values in part.columns.items()})


def essence(pixels: _Array) -> bytes:
    """What tells a picture from others: its shape, its type, its pixels."""
    return f"{pixels.shape} {pixels.dtype.str} ".encode() + np.ascontiguousarray(pixels).tobytes()


def arrays_file(path: str | Path, *, keep_splits: bool = True) -> ArraysSource:
    """A .npz or .npy file as a source. Its arrays stay on disk. Raises SourceError where it cannot be read."""
    file = Path(path)
    try:
        arrays = {file.stem: np.load(file, mmap_mode="r")} if file.suffix.lower() == ".npy" else _unpacked(file)
    except SourceError:
        raise
    except Exception as error:  # the readers of arrays and archives raise what the damaged bytes happen to provoke
        raise SourceError(f"{path} cannot be read as arrays: {' '.join(str(error).split())}") from error
    return ArraysSource(arrays, file.stem, keep_splits=keep_splits)


def as_png(pixels: _Array) -> bytes:
    """Pixels of shape (h, w), (h, w, 1), (h, w, 3) or (h, w, 4), as a PNG file."""
    from PIL import Image

    pixels = np.ascontiguousarray(pixels[..., 0] if pixels.ndim == 3 and pixels.shape[2] == 1 else pixels)
    if pixels.dtype == bool:
        pixels = pixels.astype(np.uint8) * np.uint8(255)
    sink = io.BytesIO()
    Image.fromarray(pixels).save(sink, "png", compress_level=_PNG_LEVEL)
    return sink.getvalue()


def _unpacked(path: Path) -> dict[str, _Array]:
    """The arrays of a .npz file, each unpacked to a temporary file and mapped from there."""
    arrays = {}
    with zipfile.ZipFile(path) as archive:
        unpacking = Unpacking(path, path.stat().st_size)
        for info in archive.infolist():
            unpacking.count(info.file_size)
            with archive.open(info) as packed, tempfile.NamedTemporaryFile(suffix=".npy") as unpacked:
                shutil.copyfileobj(packed, unpacked)
                unpacked.flush()
                arrays[info.filename.removesuffix(".npy")] = np.load(unpacked.name, mmap_mode="r")
    return arrays


def _parted(arrays: dict[str, _Array], name: str) -> list[_OneArray]:
    held = {each: _as_pictures(values, each) for each, values in arrays.items() if values.ndim >= 3}
    if not held:
        shapes = ", ".join(f"{each} {values.shape}" for each, values in arrays.items()) or "nothing"
        raise UsageError(f"{name} holds no pictures, which are arrays of shape (n, h, w) or (n, h, w, channels): {shapes}")
    parts = []
    for each, pictures in held.items():
        split, _ = _split_in(each)
        columns = {}
        for other, values in arrays.items():
            their_split, plain = _split_in(other)
            goes_with = their_split == split or (len(held) == 1 and their_split is None)
            if values.ndim == 1 and goes_with and len(values) == len(pictures):
                columns[plain] = values
            elif values.ndim == 1 and goes_with and (split or len(held) == 1):
                raise SourceError(f"{name}: {each} holds {len(pictures)} pictures and {other} {len(values)} values")
        parts.append(_OneArray(each, pictures, split, columns, f"{each}/" if len(held) > 1 else ""))
    return parts


def _split_in(name: str) -> tuple[str | None, str]:
    """The split that a name tells, and the name without it: "y_train" is ("train", "y")."""
    match = re.search(_SPLIT, name, re.IGNORECASE)
    if not match:
        return None, name
    plain = (name[: match.start()] + name[match.end() :]).strip("_-. ") or name
    return split_of_folder(match[1]), plain


def _as_pictures(values: _Array, name: str) -> _Array:
    """An array as (n, h, w) or (n, h, w, channels). Raises UsageError."""
    if values.ndim == 4 and values.shape[3] not in (1, 3, 4) and values.shape[1] in (1, 3, 4):
        values = np.moveaxis(values, 1, 3)
    channels = values.shape[3] if values.ndim == 4 else 1
    if values.ndim > 4 or channels not in (1, 3, 4):
        raise UsageError(f"array {name} of shape {values.shape} holds no pictures: (n, h, w), with 1, 3 or 4 channels last")
    if values.dtype in (np.uint8, bool) or (values.dtype == np.uint16 and channels == 1):
        return values
    raise UsageError(
        f"array {name} holds {values.dtype}, which no picture file keeps without loss: give uint8, as in "
        f"numpy.rint({name} * 255).astype('uint8') where it is 0 to 1"
    )


def _column(values: _Array) -> Any:
    if values.dtype.kind == "S":
        values = np.char.decode(values, "utf-8", "replace")
    return pa.array(values.tolist() if values.dtype.kind in "UO" else np.ascontiguousarray(values))
