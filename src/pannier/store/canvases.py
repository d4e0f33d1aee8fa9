"""Rendered canvases: `rendered/DIGEST/`, a folder for each fixed part, with shards and indexes as those of pictures.

A row's picture column holds the canvas' uint8 bytes (channels, height, width), its CRC-32 is theirs, and its SHA-256 column
the canvas' identity: the SHA-256 of the encoded picture, or of that and its crop box. Everything here is derived.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np

from pannier.array_types import Flags, Numbers
from pannier.columns import Digests, digest_list, present, tuples
from pannier.errors import DamageError, NotFoundError, StoreError
from pannier.hashing import crc32_of
from pannier.images.treatment import Treatment
from pannier.storage.layout import CANVAS_FILE, INDEX, RENDERED, SHARDS, folder_of, segment_file, shard_file, stem
from pannier.storage.protocol import Storage
from pannier.store.documents import sealed, unsealed
from pannier.store.index import PictureIndex, restore_segments, segment_bytes
from pannier.store.places import Place
from pannier.store.shards import Located, column_of, locate, shard_name, shard_names

SHOWN_DIGITS = 12


@dataclass(frozen=True)
class Canvases:
    """Where canvases lie, by question; of those that are not there all but `is_there` means nothing.

    `shard` is a number into `shards`, `row` that of the shard.
    """

    shards: list[str]
    shard: Numbers
    offset: Numbers
    row: Numbers
    crc32: Numbers
    identity: Digests
    is_there: Flags
    byte_count: int

    def __len__(self) -> int:
        return len(self.shard)

    def __getitem__(self, some: slice) -> Canvases:
        where = (self.shard[some], self.offset[some], self.row[some], self.crc32[some])
        return Canvases(self.shards, *where, self.identity[some], self.is_there[some], self.byte_count)

    def places(self) -> list[Place | None]:
        """The same one by one; None for what is not there."""
        shards = [self.shards[number] for number in self.shard.tolist()] if self.shards else [""] * len(self)
        lengths = [self.byte_count] * len(self)
        columns = (shards, self.offset.tolist(), lengths, self.crc32.tolist(), self.row.tolist(), digest_list(self.identity))
        places: list[Place | None] = [*tuples(Place, *columns)]
        for i in np.flatnonzero(~self.is_there).tolist():
            places[i] = None
        return places


class Rendering:
    """The canvases of one fixed part in one store. Reading it is safe beside a writer. Not for several threads at once."""

    def __init__(self, storage: Storage, digest: str) -> None:
        self.digest = digest
        self.storage = storage.below(f"{RENDERED}/{digest}")
        self._crcs: dict[str, Any] = {}

    @cached_property
    def index(self) -> PictureIndex:
        return PictureIndex(self.storage)

    @cached_property
    def about(self) -> dict[str, Any]:
        """The fixed part in words, as it was said when it was made."""
        try:
            return unsealed(self.storage.read(CANVAS_FILE), f"{RENDERED}/{self.digest}/{CANVAS_FILE}")
        except DamageError as error:
            raise DamageError(f"{error}; verifying with `repair` takes it away", file=error.file) from None

    @property
    def shape(self) -> tuple[int, int, int]:
        """Channels, height and width of a canvas."""
        channels, height, width = self.about["shape"]
        return channels, height, width

    @property
    def canvas_bytes(self) -> int:
        return int(np.prod(self.shape))

    def shards(self) -> list[str]:
        return shard_names(self.storage)

    def is_there(self) -> bool:
        """Whether there are canvases that can be read."""
        return not self._about_problem() and bool(self.shards())

    def count(self) -> int:
        """How many canvases there are."""
        self.index.refresh()
        return self.index.count

    def files(self) -> list[str]:
        """The names of its files, in the order in which they may go."""
        files = [f"{folder}/{name}" for folder in (SHARDS, INDEX) for name in self.storage.list(folder)]
        return [*files, CANVAS_FILE] if self.storage.exists(CANVAS_FILE) else files

    def byte_count(self) -> int:
        """Bytes on disk."""
        return sum(self.storage.size(name) for name in self.files())

    def find(self, identities: Digests) -> Canvases:
        """Where the canvases lie."""
        found = self.index.find(identities)
        crcs = np.zeros(len(identities), np.int64)
        is_there = (found.segment >= 0) & (found.length == self.canvas_bytes)
        for number in present(found.segment[is_there]):
            here, known = np.flatnonzero(found.segment == number), self._crcs_of(found.shards[number])
            rows = found.row[here]
            fits = rows < (0 if known is None else len(known))
            is_there[here] &= fits
            crcs[here[fits]] = known[rows[fits]] if known is not None else 0
        where = (found.segment, found.offset, found.row)
        return Canvases(found.shards, *where, crcs, identities, is_there, self.canvas_bytes)

    def has(self, identities: Digests) -> np.ndarray[Any, np.dtype[np.bool_]]:
        """Which canvases are there."""
        places = self.index.find(identities)
        return (places.segment >= 0) & (places.length == self.canvas_bytes)

    def _crcs_of(self, shard: str) -> Any:
        """The CRC-32 of a shard's canvases, by row; None where it cannot be read."""
        if shard not in self._crcs:
            try:
                self._crcs[shard] = column_of(self.storage, shard, "crc32")
            except DamageError:
                self._crcs[shard] = None
        return self._crcs[shard]

    def begin(self, treatment: Treatment) -> None:
        """Makes the folder, and says in it what it holds. Indexes that are missing are made."""
        frame = treatment.frame
        places = {"shape": [treatment.channels, *frame.canvas], "view": list(frame.view), "margin": list(frame.margin)}
        about = {"pannier": "canvas 1", **places, "fixed": treatment.fixed_fields()}
        if not self.storage.create(CANVAS_FILE, sealed(about)) and self._about_problem():
            self.storage.remove(CANVAS_FILE)
            self.storage.create(CANVAS_FILE, sealed(about))
        restore_segments(self.storage)

    def check(self, *, quick: bool = False) -> Iterator[tuple[str, str]]:
        """Files that are not as written, and what is wrong with each; reads every byte, or with `quick` no canvas."""
        below = f"{RENDERED}/{self.digest}"
        problem = self._about_problem()
        if problem:
            if self.shards():  # a writer that was ended at once leaves a folder that holds nothing
                yield (f"{below}/{CANVAS_FILE}", problem)
            return
        for name in self.shards():
            problem, located = self._problem_of(name, quick)
            if problem or located is None:
                yield (f"{below}/{shard_file(name)}", problem)
                continue
            file = segment_file(name)
            content = self.storage.read(file) if self.storage.exists(file) else b""
            if content and content != segment_bytes(located):
                yield (f"{below}/{file}", "it does not fit its shard")

    def _about_problem(self) -> str:
        """What is wrong with what it says of itself."""
        try:
            _ = self.shape
        except (StoreError, NotFoundError, KeyError, TypeError, ValueError) as error:
            return str(error)
        return ""

    def _problem_of(self, name: str, quick: bool) -> tuple[str, Located | None]:
        """What is wrong with a shard, nothing for a whole one, and where its canvases lie."""
        try:
            located, content = locate(self.storage, name), memoryview(self.storage.view(shard_file(name)))
        except (DamageError, NotFoundError) as error:
            return str(error), None
        if shard_name(content, located) != name:
            return "its digest is not its name", None
        crcs = self._crcs_of(name)
        if crcs is None or len(crcs) != len(located.offset):
            return "its checksums cannot be read", None
        places = zip(located.offset.tolist(), located.length.tolist(), crcs.tolist(), strict=True)
        is_whole = quick or all(crc32_of(content[offset : offset + length]) == crc for offset, length, crc in places)
        return ("", located) if is_whole else ("a canvas is not what was rendered", None)

    def remove(self, file: str) -> None:
        """Takes a damaged file away, a shard with its index, all with `canvas.json`; the next rendering makes it again."""
        name = stem(file)
        own = file.partition(f"{self.digest}/")[2]
        if own == CANVAS_FILE:
            self.drop()
            return
        for part in [segment_file(name), *([shard_file(name)] if folder_of(own) == SHARDS else [])]:
            if self.storage.exists(part):
                self.storage.remove(part)
        self.__dict__.pop("index", None)
        self._crcs.pop(name, None)
        restore_segments(self.storage)

    def drop(self) -> int:
        """Takes all of it away: how many bytes that frees."""
        freed = self.byte_count()
        for name in self.files():
            self.storage.remove(name)
        self.storage.prune("")
        return freed


def verify_renderings(storage: Storage, *, quick: bool = False) -> Iterator[tuple[str, str]]:
    """Files that are not as written in all of them; see `Rendering.check`."""
    for name in storage.list(RENDERED):
        yield from Rendering(storage, name).check(quick=quick)


def renderings(storage: Storage) -> list[Rendering]:
    """All that a store holds, by digest."""
    kept = [Rendering(storage, name) for name in storage.list(RENDERED)]
    return [each for each in kept if each.storage.exists(CANVAS_FILE)]


def rendering_of(storage: Storage, treatment: Treatment) -> Rendering | None:
    """The rendering of a treatment's fixed part, if there is one."""
    rendering = Rendering(storage, treatment.fixed_part)
    return rendering if rendering.is_there() and rendering.shape == (treatment.channels, *treatment.frame.canvas) else None
