"""Records: one picture of a snapshot, and all of them as a table that SQL can ask."""

from __future__ import annotations

import json
from collections.abc import Collection
from dataclasses import dataclass, field
from typing import Any, Self

import numpy as np
import pyarrow as pa

from pannier.columns import Rows, numbers_of
from pannier.images.colors import Pixels
from pannier.images.placement import Box
from pannier.images.treatment import Treatment
from pannier.results import Result
from pannier.storage.protocol import Storage
from pannier.store.boxes import boxes_of, check_boxes
from pannier.store.index import PictureIndex
from pannier.store.manifest import Manifest
from pannier.store.manifest_files import COLUMNS, SOURCE_SAID
from pannier.store.places import pictures_of

# what no reader of records needs, or cannot read
HIDDEN = ("hash", "crc32", "turn", "progressive", "removed")


@dataclass(frozen=True, repr=False)
class Record(Result):
    """One picture in a snapshot. `size` is (height, width) of the upright picture, in pixels.

    `source_said`: what the source said of columns that were corrected here since, by name, as text.
    """

    key: str
    label: str | None
    split: str | None
    size: tuple[int, int]
    byte_count: int
    format: str
    mode: str
    sha256: str
    crc32: int
    side: dict[str, Any] = field(hash=False)
    source_said: dict[str, str | None] = field(hash=False)
    _one: Manifest = field(compare=False)
    _storage: Storage = field(compare=False)
    _index: PictureIndex = field(compare=False)

    @classmethod
    def of(cls, one: Manifest, storage: Storage, index: PictureIndex) -> Self:
        """The record that a manifest of one row tells of."""
        fields = {name: column[0] for name, column in one.table().to_pydict().items()}
        noted = fields.pop(SOURCE_SAID.name, None)
        told = {name: fields[name] for name in ("key", "label", "split", "byte_count", "format", "mode", "crc32")}
        return cls(
            **told,
            size=(fields["height"], fields["width"]),
            sha256=fields["sha256"].hex(),
            side={name: value for name, value in fields.items() if name not in COLUMNS},
            source_said=json.loads(noted) if noted else {},
            _one=one,
            _storage=storage,
            _index=index,
        )

    def to_dict(self) -> dict[str, Any]:
        """Plain data for JSON."""
        names = ("key", "label", "split", "size", "byte_count", "format", "mode", "sha256", "side", "source_said")
        return {name: getattr(self, name) for name in names}

    def bytes(self) -> bytes:
        """The picture's file, as it was packed. Raises DamageError."""
        pictures = pictures_of(self._one, self._index, self._storage, np.zeros(1, np.int64))
        return next(pictures)[1]

    def picture(self) -> Pixels:
        """The upright picture: uint8 RGB, (h, w, 3). Raises DamageError."""
        from pannier.images.prepare import pixels_of

        return pixels_of(self.bytes())

    def box(self, treatment: Treatment) -> Box | None:
        """Its crop box by the side columns that a treatment names: None where that names none, or one of them is NULL.

        Raises NotFoundError, UsageError for a column that is not there, or holds no numbers.
        """
        check_boxes(self._one, treatment)
        return boxes_of(self._one, np.zeros(1, np.int64), treatment)[0] if treatment.box is not None else None


def records_table(manifest: Manifest, classes: list[str] | None = None, only: Collection[str] | None = None) -> Any:
    """The records as rows: key, label, number (where classes are given), split, facts of the picture, side columns.

    only: of these columns those named, and one that costs little where none is.
    """
    names = [name for name in record_columns(manifest, classes) if only is None or name in only] or ["byte_count"]
    table = manifest.table(*(name for name in names if name != "number")) if names != ["number"] else None
    columns = {} if table is None else dict(zip(table.column_names, table.columns, strict=True))
    if "sha256" in columns:
        columns["sha256"] = _hexadecimal(columns["sha256"])
    if classes is not None and "number" in names:
        by_row = numbers_of(*manifest.codes("label"), classes)
        columns["number"] = pa.array(by_row, mask=by_row < 0)
    return pa.table({name: columns[name] for name in names})


def record_columns(manifest: Manifest, classes: list[str] | None = None) -> list[str]:
    """The names that the columns have."""
    names = [name for name in manifest.column_names if name not in HIDDEN]
    return names if classes is None else [*names[: names.index("label") + 1], "number", *names[names.index("label") + 1 :]]


def rows_where(manifest: Manifest, where: str) -> Rows:
    """The rows for which an SQL condition holds; of a docket's snapshot told by a limited process. Raises UsageError."""
    from pannier.sources.rules import holds  # an engine has none, and starts without what it loads
    from pannier.sources.sql import columns_named

    named = columns_named(f"SELECT ({where}\n) FROM records", record_columns(manifest))
    return np.flatnonzero(holds(records_table(manifest, only=named), where, is_apart=manifest.by_digest))


def _hexadecimal(column: Any) -> Any:
    """Digests as text, as ids are written everywhere."""
    return pa.chunked_array([_chunk_in_hexadecimal(chunk) for chunk in column.chunks], pa.string())


def _chunk_in_hexadecimal(chunk: Any) -> Any:
    width = chunk.type.byte_width
    content = memoryview(chunk.buffers()[1])[chunk.offset * width : (chunk.offset + len(chunk)) * width]
    edges = pa.py_buffer(np.arange(len(chunk) + 1, dtype=np.int32) * (2 * width))
    return pa.StringArray.from_buffers(len(chunk), edges, pa.py_buffer(bytes(content).hex().encode()))
