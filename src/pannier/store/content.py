"""Content ids: equal rows, equal id, on every machine, however they came in (docs/format.md, "Content id")."""

from __future__ import annotations

import hashlib
import struct
from collections.abc import Mapping

BUCKETS = 4096
BUCKET_SHIFT = 52

DIGEST_BYTES = 32

ROW_END = b"\xff"

# the type tags of values in a row's encoding
NULL, FALSE, TRUE, INTEGER, FLOAT, TEXT, _, TIME = (bytes([tag]) for tag in range(8))


def bucket_of(key_hash: int) -> int:
    return key_hash >> BUCKET_SHIFT


def encode_text(text: str | None) -> bytes:
    """A text or NULL, byte-exact."""
    if text is None:
        return NULL
    content = text.encode()
    return TEXT + struct.pack(">I", len(content)) + content


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
