"""The Arrow files of manifests, a base or a delta each: written under their SHA-256, read with nothing trusted."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any, NoReturn

import numpy as np
import pyarrow as pa

from pannier import columns
from pannier.array_types import Array
from pannier.errors import DamageError, NotFoundError, StoreError
from pannier.hashing import crc32_of
from pannier.storage.layout import manifest_file
from pannier.storage.protocol import Storage
from pannier.store.arrow_files import arrow_errors, read_file
from pannier.store.content import digests_from_bytes, digests_to_bytes
from pannier.store.documents import Document, digest

FIELDS = (
    pa.field("hash", pa.uint64(), nullable=False),
    pa.field("key", pa.large_string(), nullable=False),
    pa.field("label", columns.NAMES),
    pa.field("split", columns.NAMES),
    *columns.BYTES_FIELDS,
    *columns.fact_fields(text=columns.NAMES),
)
COLUMNS = tuple(field.name for field in FIELDS)
# those that tell of the picture itself, the same whatever key, label and split it has
FACTS = COLUMNS[COLUMNS.index("sha256") :]
SCHEMA = pa.schema(list(FIELDS))
REMOVED = pa.field("removed", pa.bool_(), nullable=False)
# what the source said of columns that were corrected, {"label": "twill"} as JSON; there once anything was, and no content
SOURCE_SAID = pa.field("source_said", pa.string())

_BUCKETS_KEY = b"buckets"
_WHAT = "a manifest"
# the numbers that tell of pictures, none of them below 0
_MEASURES = ("byte_count", "height", "width")
_BY_NAME = {field.name: field for field in (*FIELDS, REMOVED, SOURCE_SAID)}
_NEVER_NONE = {field.name for field in _BY_NAME.values() if not field.nullable}


@dataclass(frozen=True)
class ManifestFile:
    """How a snapshot names a base or delta: its file's name (SHA-256 of its bytes), CRC-32, bytes and rows."""

    name: str
    crc32: int
    byte_count: int
    rows: int

    def to_document(self) -> Document:
        return {"name": self.name, "crc32": self.crc32, "byte_count": self.byte_count, "rows": self.rows}

    @property
    def path(self) -> str:
        return manifest_file(self.name)


def with_schema(table: Any) -> Any:
    """The same rows with the schema that every manifest has: which columns may be NULL does not depend on who made it.

    Copies nothing and looks at no value. Columns that are not those of a manifest may be NULL.
    """
    return pa.Table.from_arrays(table.columns, schema=_schema_of(table.schema))


def _schema_of(schema: Any) -> Any:
    named = [(_BY_NAME.get(field.name), field) for field in schema]
    fields = [
        fixed if fixed is not None and fixed.type == field.type else field.with_nullable(True) for fixed, field in named
    ]
    return pa.schema([field.remove_metadata() for field in fields])


def publish(storage: Storage, table: Any, digests: Mapping[int, bytes | None]) -> ManifestFile:
    """Writes a base or delta under the SHA-256 of its bytes. Raises DamageError where a value is NULL that must not be."""
    schema = _schema_of(table.schema).with_metadata({b"pannier": b"manifest 1", _BUCKETS_KEY: digests_to_bytes(digests)})
    null = [field.name for field in schema if not field.nullable and table.column(field.name).null_count]
    if null:
        raise DamageError(f"a manifest was not written: column {null[0]!r} must not be NULL")
    content = columns.ipc_bytes(table.cast(schema).combine_chunks())
    file = ManifestFile(digest(content), crc32_of(content), len(content), table.num_rows)
    storage.create(file.path, content)
    return file


def digest_of_bucket(storage: Storage, file: ManifestFile, bucket: int) -> bytes | None:
    """What a base or delta says of a bucket: its digest, zeros for an empty one, None where it says nothing of it.

    Reads no row, and checks none. Raises DamageError.
    """
    with arrow_errors(file.path, _WHAT):
        content = pa.ipc.open_file(storage.view(file.path)).schema.metadata[_BUCKETS_KEY]
    lines = np.frombuffer(content, np.dtype([("bucket", ">u2"), ("digest", "V32")]))
    at = int(np.searchsorted(lines["bucket"], bucket))
    return lines["digest"][at].tobytes() if at < len(lines) and lines["bucket"][at] == bucket else None


class FileRows:
    """The rows of a base or delta. A file's column is validated whole when it is first asked for: opening touches none."""

    def __init__(self, table: Any, file: ManifestFile | None = None) -> None:
        """file: where the table was read from; None for one that this process made, which needs no validation."""
        self._table, self._file = with_schema(table), file
        self.has_standard_schema = table.schema.remove_metadata().equals(self._table.schema)
        self._unchecked: set[str] = {*table.column_names} if file else set()

    @property
    def schema(self) -> Any:
        return self._table.schema

    @property
    def num_rows(self) -> int:
        return int(self._table.num_rows)

    def table(self, *names: str) -> Any:
        """Those columns, or all, as an Arrow table. Raises DamageError."""
        for name in self._unchecked.intersection(names or self._table.column_names):
            assert self._file
            _check_column(self._table.column(name), name, self._file)
            self._unchecked.discard(name)
        return self._table.select(list(names)) if names else self._table


def read_rows(storage: Storage, file: ManifestFile, by_digest: bool = False) -> tuple[FileRows, dict[int, bytes | None]]:
    """The rows of a base or delta and its digests of buckets; its bytes are checked, and what columns it has.

    by_digest: the bytes are held against the SHA-256 that names them, not only their CRC-32. Raises DamageError.
    """
    try:
        content = storage.view(file.path)
    except NotFoundError:
        raise DamageError(f"{file.path} is missing; bring it back from a copy of the store", file=file.path) from None
    except StoreError as error:
        raise DamageError(f"{file.path} cannot be read: {error}", file=file.path) from error
    is_whole = digest(content) == file.name if by_digest else crc32_of(content) == file.crc32
    if content.size != file.byte_count or not is_whole:
        raise DamageError(f"{file.path} is damaged: its checksum does not fit", file=file.path)
    schema, batches = read_file(content, file.path, _WHAT, validated=False)
    table = pa.Table.from_batches(batches, schema)
    _check_columns(table, file)
    with arrow_errors(file.path, _WHAT):
        digests = digests_from_bytes(table.schema.metadata[_BUCKETS_KEY])
    return FileRows(table.replace_schema_metadata(None), file), digests


def read_table(storage: Storage, file: ManifestFile) -> Any:
    """The rows of a base or delta as they stand in its file; every byte and value is checked. Raises DamageError."""
    return read_rows(storage, file)[0].table()


def _check_columns(table: Any, file: ManifestFile) -> None:
    """Raises DamageError where these are not the columns of a manifest, or not as many rows as the snapshot says."""
    schema = table.schema
    fixed = SCHEMA if schema.names[len(COLUMNS) : len(COLUMNS) + 1] != [REMOVED.name] else SCHEMA.append(REMOVED)
    has = [(field.name, field.type) for field in [*schema][: len(fixed)]]
    if len({*schema.names}) < len(schema.names) or has != [(field.name, field.type) for field in fixed]:
        _refuse(file, "it has not the columns of a manifest")
    side = [field for field in [*schema][len(fixed) :] if field.type not in columns.SIDE_TYPES]
    if side:
        _refuse(file, f"a side column cannot hold {side[0].type}")
    if len(table) != file.rows:
        _refuse(file, f"it has {len(table):,} rows for {file.rows:,}")


def _check_column(values: Any, name: str, file: ManifestFile) -> None:
    """Raises DamageError where a column holds what cannot be."""
    with arrow_errors(file.path, _WHAT):
        if pa.types.is_dictionary(values.type):
            for chunk in values.chunks:
                _check_numbers(chunk, file)
        else:
            values.validate(full=True)
    if name in _NEVER_NONE and values.null_count:
        _refuse(file, "a value is none")
    if pa.types.is_dictionary(values.type) and any(chunk.dictionary.null_count for chunk in values.chunks):
        _refuse(file, "a name is none")
    if name == "hash":
        hashes = values.to_numpy()
        if (hashes[1:] < hashes[:-1]).any():
            _refuse(file, "its rows are not in order")
    if name in _MEASURES and any(_there(chunk).min(initial=0) < 0 for chunk in values.chunks):
        _refuse(file, "a size is below 0")


def _check_numbers(chunk: Any, file: ManifestFile) -> None:
    """As Arrow's own full validation of numbers into a list of names, which takes five times as long."""
    chunk.validate()
    chunk.dictionary.validate(full=True)
    codes = _there(chunk.indices)
    if len(codes) and codes.view(f"u{codes.itemsize}").max() >= len(chunk.dictionary):  # below 0 is beyond all of them
        _refuse(file, "a number stands for no name")


def _there(numbers: Any) -> Array:
    """Whole numbers without those that are NULL."""
    return np.asarray((numbers.drop_null() if numbers.null_count else numbers).to_numpy())


def _refuse(file: ManifestFile, what: str) -> NoReturn:
    raise DamageError(f"{file.path} is damaged: {what}", file=file.path)
