"""Places: where the pictures of a snapshot's records lie, looked up for many at once."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from pannier.columns import Rows
from pannier.store.reading import PictureReader, Place, ReadError, damage
from pannier.store.snapshot import check_place

if TYPE_CHECKING:
    from pannier.store.snapshot import Snapshot

_AT_ONCE = 512


@dataclass(frozen=True)
class Placed:
    """A record's row and key, and where its picture lies."""

    row: int
    key: str
    place: Place


def places_of(snapshot: Snapshot, rows: Rows) -> list[Placed]:
    """The places of some rows, in their order. Raises DamageError for one whose picture is in no shard."""
    manifest = snapshot.manifest
    sha256, lengths, crcs = (manifest.gather(rows, name) for name in ("sha256", "byte_count", "crc32"))
    keys = manifest.take(rows, ["key"]).column(0).to_pylist()
    found = snapshot.store.index.find(sha256)
    placed = []
    for i, (segment, offset, length, row) in enumerate(
        zip(found.segment.tolist(), found.offset.tolist(), found.length.tolist(), found.row.tolist(), strict=True)
    ):
        check_place(keys[i], sha256[i].tobytes().hex(), int(lengths[i]), found.shards, segment, length, row)
        place = Place(found.shards[segment], offset, length, int(crcs[i]), row, sha256[i].tobytes())
        placed.append(Placed(int(rows[i]), keys[i], place))
    return placed


def pictures_of(snapshot: Snapshot, rows: Rows) -> Iterator[tuple[str, bytes]]:
    """Keys and bytes of some rows, in their order; one picture in memory at a time. Raises DamageError."""
    reader = PictureReader(snapshot.store.directory)
    try:
        for at in range(0, len(rows), _AT_ONCE):
            for placed in places_of(snapshot, np.asarray(rows[at : at + _AT_ONCE], np.int64)):
                try:
                    yield placed.key, reader.read(placed.place)
                except ReadError as error:
                    raise damage(placed.place, placed.key, str(error)) from error
    finally:
        reader.close()
