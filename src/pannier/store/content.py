"""Content ids: equal rows, equal id, on every machine, however they came in (docs/format.md, "Content id")."""

from __future__ import annotations

import datetime
import hashlib
import math
import struct
from collections.abc import Iterable, Mapping
from typing import Any

BUCKETS = 4096
BUCKET_SHIFT = 52

DIGEST_BYTES = 32

ROW_END = b"\xff"

# the type tags of values in a row's encoding
_NULL, _FALSE, _TRUE, _INTEGER, _FLOAT, _TEXT, _BYTES, _TIME = (bytes([tag]) for tag in range(8))
_NAN = struct.pack(">Q", 0x7FF8000000000000)
_EPOCH = datetime.datetime(1970, 1, 1, tzinfo=datetime.UTC)


def bucket_of(key_hash: int) -> int:
    return key_hash >> BUCKET_SHIFT


def encode_value(value: Any) -> bytes:
    """A value, byte-exact: NULL and NaN have one form each, -0 is 0, times are microseconds UTC since 1970."""
    if value is None:
        return _NULL
    if isinstance(value, bool):
        return _TRUE if value else _FALSE
    if isinstance(value, int):
        return _INTEGER + struct.pack(">q", value)
    if isinstance(value, float):
        return _FLOAT + (_NAN if math.isnan(value) else struct.pack(">d", value + 0.0))
    if isinstance(value, str):
        text = value.encode()
        return _TEXT + struct.pack(">I", len(text)) + text
    if isinstance(value, bytes):
        return _BYTES + struct.pack(">I", len(value)) + value
    if isinstance(value, datetime.datetime):
        aware = value if value.tzinfo else value.replace(tzinfo=datetime.UTC)
        return _TIME + struct.pack(">q", (aware - _EPOCH) // datetime.timedelta(microseconds=1))
    raise TypeError(f"a side column cannot hold {type(value).__name__}")


def encode_row(key: str, label: str | None, split: str | None, sha256: bytes, side: Mapping[str, Any]) -> bytes:
    """Key, label by name, split, SHA-256 of the picture, then the side columns by name that are not NULL."""
    return encode_value(key) + encode_value(label) + encode_value(split) + sha256 + encode_side(side.items()) + ROW_END


def encode_key(key: bytes) -> bytes:
    """As `encode_value` does a text, from its UTF-8."""
    return _TEXT + len(key).to_bytes(4, "big") + key


def encode_side(side: Iterable[tuple[str, Any]]) -> bytes:
    """Side columns by name, those that are not NULL."""
    told = sorted((name, value) for name, value in side if value is not None)
    return b"".join(encode_value(name) + encode_value(value) for name, value in told)


def bucket_digest(rows: Iterable[tuple[bytes, bytes]]) -> bytes:
    """SHA-256 over a bucket's encoded rows in order of their keys' UTF-8 bytes; rows are (key bytes, encoded row)."""
    hasher = hashlib.sha256()
    for _, row in sorted(rows):
        hasher.update(row)
    return hasher.digest()


def content_id(digests: Mapping[int, bytes]) -> str:
    """SHA-256 over number (two bytes, big-endian) and digest of every bucket that is not empty, in order of number."""
    hasher = hashlib.sha256()
    for bucket in sorted(digests):
        hasher.update(struct.pack(">H", bucket) + digests[bucket])
    return hasher.hexdigest()


def digests_to_bytes(digests: Mapping[int, bytes | None]) -> bytes:
    """Bucket numbers and digests as they stand in a manifest file; an empty bucket has 32 zero bytes."""
    none = bytes(DIGEST_BYTES)
    return b"".join(struct.pack(">H", bucket) + (digests[bucket] or none) for bucket in sorted(digests))


def digests_from_bytes(content: bytes) -> dict[int, bytes | None]:
    """What `digests_to_bytes` wrote. Raises struct.error for bytes that are no whole number of rows."""
    none = bytes(DIGEST_BYTES)
    rows = struct.iter_unpack(f">H{DIGEST_BYTES}s", content)
    return {bucket: None if value == none else value for bucket, value in rows}
