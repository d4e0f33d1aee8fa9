"""Writing canvases into the shards of a rendering."""

from __future__ import annotations

from typing import Any

from pannier.hashing import crc32_of
from pannier.images.facts import Facts
from pannier.store.canvases import Rendering
from pannier.store.index import publish_segment
from pannier.store.shards import ShardWriter


class CanvasWriter:
    """Writes canvases into shards of about `shard_bytes`; each is published when it is full, and readable from then on.

    `close` leaves nothing of an unfinished shard. lasts: see `Storage.draft`.
    """

    def __init__(self, rendering: Rendering, shard_bytes: int, *, lasts: bool = True) -> None:
        self._rendering, self._shard_bytes, self._lasts = rendering, shard_bytes, lasts
        self._shard: ShardWriter | None = None
        _, height, width = rendering.shape
        self._facts = Facts("canvas", "raw", height, width, 1, False)

    def add(self, identities: list[bytes], canvases: Any) -> None:
        """Canvases in one array, uint8 (n, channels, height, width), with their identities."""
        if self._shard is None:
            self._shard = ShardWriter(self._rendering.storage, lasts=self._lasts)
        crcs = [crc32_of(canvas.data.cast("B")) for canvas in canvases]
        self._shard.add_equal(identities, crcs, self._facts, canvases)
        if self._shard.byte_count >= self._shard_bytes:
            self.finish()

    def finish(self) -> None:
        """Publishes the shard that is being written, if any."""
        shard, self._shard = self._shard, None
        if shard is not None:
            with shard:
                name, located = shard.finish()
                publish_segment(self._rendering.storage, name, located)

    def close(self) -> None:
        shard, self._shard = self._shard, None
        if shard is not None:
            shard.__exit__(None, None, None)
