"""The list of what packing left out, kept with the snapshot as an Arrow file of its own."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import pyarrow as pa

from pannier.columns import ipc_bytes
from pannier.sources.rows import LeftOut
from pannier.storage.layout import left_out_file
from pannier.storage.protocol import Storage
from pannier.store.arrow_files import read_batches
from pannier.store.documents import content_named, digest

SCHEMA = pa.schema([("key", pa.string()), ("kind", pa.string()), ("reason", pa.string())])


def publish_left_out(storage: Storage, items: Sequence[LeftOut]) -> str | None:
    """Publishes the list and gives its name; None where nothing was left out."""
    if not items:
        return None
    rows = sorted(items, key=lambda item: (item.key.encode(), item.kind))
    table = pa.table([[r.key for r in rows], [r.kind for r in rows], [r.reason for r in rows]], schema=SCHEMA)
    content = ipc_bytes(table)
    storage.create(left_out_file(digest(content)), content)
    return digest(content)


def read_left_out(storage: Storage, name: str | None) -> list[dict[str, Any]]:
    if name is None:
        return []
    content = content_named(storage, left_out_file(name), name)
    batches = read_batches(pa.py_buffer(content), left_out_file(name), "a list of what was left out", SCHEMA)
    return [row for batch in batches for row in batch.to_pylist()]
