"""Rendered canvases: `rendered/DIGEST/`, a folder for each fixed part, with shards and indexes as those of pictures.

A row's picture column holds the canvas' uint8 bytes (channels, height, width), its CRC-32 is theirs, and its SHA-256 column
the canvas' identity: the SHA-256 of the encoded picture, or of that and its crop box. Everything here is derived.
"""

from __future__ import annotations

import contextlib
import hashlib
import shutil
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
import pyarrow as pa

from pannier.columns import Rows
from pannier.errors import DamageError, NotFoundError, StoreError, UsageError, did_you_mean
from pannier.hashing import crc32_of
from pannier.images.facts import Facts
from pannier.images.placement import Box
from pannier.store.documents import sealed, unsealed
from pannier.store.files import Directory, disk_errors_translated
from pannier.store.index import PictureIndex, publish_segment, restore_segments, segment_bytes, segment_file
from pannier.store.reading import Place
from pannier.store.shards import FOLDER as SHARDS
from pannier.store.shards import SUFFIX, Located, ShardWriter, locate, shard_name, shard_names, shard_path

if TYPE_CHECKING:
    from pannier.images.treatment import Treatment
    from pannier.store.manifest import Manifest
    from pannier.store.snapshot import Snapshot

FOLDER = "rendered"
ABOUT = "canvas.json"
SHOWN_DIGITS = 12
_FLUSHED_AT_ONCE = 8 << 20

Digests = np.ndarray[Any, np.dtype[np.uint8]]


@dataclass(frozen=True)
class Damage:
    """A rendered file that is not what was written."""

    file: str
    problem: str


class Rendering:
    """The canvases of one fixed part in one store. Reading it is safe beside a writer. Not for several threads at once."""

    def __init__(self, directory: Directory, digest: str) -> None:
        self.digest = digest
        self.directory = Directory(directory.path(f"{FOLDER}/{digest}"))
        self._crcs: dict[str, Any] = {}

    @cached_property
    def index(self) -> PictureIndex:
        return PictureIndex(self.directory)

    @cached_property
    def about(self) -> dict[str, Any]:
        """The fixed part in words, as it was said when it was made."""
        try:
            return unsealed(self.directory.read(ABOUT), f"{FOLDER}/{self.digest}/{ABOUT}")
        except DamageError as error:
            raise DamageError(f"{error}; pannier verify --repair takes it away", file=error.file) from None

    @property
    def shape(self) -> tuple[int, int, int]:
        """Channels, height and width of a canvas."""
        channels, height, width = self.about["shape"]
        return channels, height, width

    @property
    def canvas_bytes(self) -> int:
        return int(np.prod(self.shape))

    def shards(self) -> list[str]:
        return shard_names(self.directory)

    def is_there(self) -> bool:
        """Whether there are canvases that can be read."""
        return not self._about_problem() and bool(self.shards())

    def count(self) -> int:
        """How many canvases there are."""
        self.index.refresh()
        return self.index.count

    def byte_count(self) -> int:
        """Bytes on disk."""
        return sum(path.stat().st_size for path in self.directory.root.rglob("*") if path.is_file())

    def find(self, identities: Digests) -> list[Place | None]:
        """Where the canvases lie; None for what is not rendered."""
        found = self.index.find(identities)
        crcs = np.zeros(len(identities), np.int64)
        is_there = (found.segment >= 0) & (found.length == self.canvas_bytes)
        for number in np.unique(found.segment[is_there]).tolist():
            here, known = np.flatnonzero(found.segment == number), self._crcs_of(found.shards[number])
            rows = found.row[here]
            fits = rows < (0 if known is None else len(known))
            is_there[here] &= fits
            crcs[here[fits]] = known[rows[fits]] if fits.any() else 0
        content = np.ascontiguousarray(identities).tobytes()
        digests = [content[at : at + 32] for at in range(0, len(content), 32)]
        shards = [found.shards[number] for number in found.segment.tolist()] if found.shards else [""] * len(crcs)
        columns = (shards, found.offset.tolist(), found.length.tolist(), crcs.tolist(), found.row.tolist(), digests)
        places: list[Place | None] = [tuple.__new__(Place, each) for each in zip(*columns, strict=True)]
        if not is_there.all():
            for i in np.flatnonzero(~is_there).tolist():
                places[i] = None
        return places

    def has(self, identities: Digests) -> np.ndarray[Any, np.dtype[np.bool_]]:
        """Which canvases are there."""
        found = self.index.find(identities)
        return (found.segment >= 0) & (found.length == self.canvas_bytes)

    def _crcs_of(self, shard: str) -> Any:
        """The CRC-32 of a shard's canvases, by row; None where it cannot be read."""
        if shard not in self._crcs:
            try:
                with pa.memory_map(str(shard_path(self.directory, shard))) as file:
                    reader = pa.ipc.open_file(file)
                    blocks = (reader.get_batch(i) for i in range(reader.num_record_batches))
                    parts = [block.column("crc32").to_numpy().copy() for block in blocks]
                self._crcs[shard] = np.concatenate(parts) if parts else np.empty(0, np.uint32)
            except (pa.ArrowException, OSError, KeyError):
                self._crcs[shard] = None
        return self._crcs[shard]

    def begin(self, treatment: Treatment) -> None:
        """Makes the folder, and says in it what it holds. Indexes that are missing are made."""
        frame = treatment.frame
        about = {
            "pannier": "canvas 1",
            "shape": [treatment.channels, *frame.canvas],
            "view": list(frame.view),
            "margin": list(frame.margin),
            "fixed": treatment.fixed_fields(),
        }
        if not self.directory.create(ABOUT, sealed(about)) and self._about_problem():
            self.directory.remove(ABOUT)
            self.directory.create(ABOUT, sealed(about))
        restore_segments(self.directory)

    def check(self, *, quick: bool = False) -> Iterator[Damage]:
        """Tells of all that is not as written; reads every byte, or with `quick` no canvas."""
        below = f"{FOLDER}/{self.digest}"
        problem = self._about_problem()
        if problem:
            if self.shards():  # a writer that was ended at once leaves a folder that holds nothing
                yield Damage(f"{below}/{ABOUT}", problem)
            return
        for name in self.shards():
            problem, located = self._problem_of(name, quick)
            if problem or located is None:
                yield Damage(f"{below}/{shard_file(name)}", problem)
                continue
            file = segment_file(name)
            there = self.directory.read(file) if self.directory.exists(file) else b""
            if there and there != segment_bytes(located):
                yield Damage(f"{below}/{file}", "it does not fit its shard")

    def _about_problem(self) -> str:
        """What is wrong with what it says of itself."""
        try:
            _ = self.shape
        except (StoreError, NotFoundError, KeyError, TypeError, ValueError) as error:
            return str(error)
        return ""

    def _problem_of(self, name: str, quick: bool) -> tuple[str, Located | None]:
        """What is wrong with a shard, nothing for a whole one, and where its canvases lie."""
        path = shard_path(self.directory, name)
        try:
            located = locate(path)
            if shard_name(path, located) != name:
                return "its digest is not its name", None
        except (DamageError, OSError) as error:
            return str(error), None
        crcs = self._crcs_of(name)
        if crcs is None or len(crcs) != len(located.offset):
            return "its checksums cannot be read", None
        with open(path, "rb") as file:
            places = zip(located.offset.tolist(), located.length.tolist(), crcs.tolist(), strict=True)
            for offset, length, crc in () if quick else places:
                file.seek(offset)
                if crc32_of(file.read(length)) != crc:
                    return "a canvas is not what was rendered", None
        return "", located

    def remove(self, file: str) -> None:
        """Takes a damaged file away, a shard with its index, all with `canvas.json`; the next rendering makes it again."""
        if Path(file).name == ABOUT:
            with disk_errors_translated(file):
                shutil.rmtree(self.directory.root)
            return
        name = Path(file).name.removesuffix(SUFFIX)
        parts = [segment_file(name), *([shard_file(name)] if Path(file).parent.name == SHARDS else [])]
        for part in parts:
            if self.directory.exists(part):
                self.directory.remove(part)
        self.__dict__.pop("index", None)
        self._crcs.pop(name, None)
        restore_segments(self.directory)


class CanvasWriter:
    """Writes canvases into shards of about `shard_bytes`; each is published when it is full, and readable from then on.

    A thread of its own sends what is written to the disk meanwhile. `close` leaves nothing of an unfinished shard.
    """

    def __init__(self, rendering: Rendering, shard_bytes: int) -> None:
        self._rendering, self._shard_bytes = rendering, shard_bytes
        self._shard: ShardWriter | None = None
        _, height, width = rendering.shape
        self._facts = Facts("canvas", "raw", height, width, 1, False)
        self._unflushed = 0
        self._flusher = ThreadPoolExecutor(1, thread_name_prefix="pannier-flush")

    def add(self, identities: list[bytes], canvases: Any) -> None:
        """Canvases in one array, uint8 (n, channels, height, width), with their identities."""
        if self._shard is None:
            self._shard = ShardWriter(self._rendering.directory)
        crcs = [crc32_of(canvas.data.cast("B")) for canvas in canvases]
        self._shard.add_equal(identities, crcs, self._facts, canvases)
        self._unflushed += canvases.nbytes
        if self._unflushed >= _FLUSHED_AT_ONCE:
            self._unflushed = 0
            self._flusher.submit(_flush_quietly, self._shard)
        if self._shard.byte_count >= self._shard_bytes:
            self.finish()

    def finish(self) -> None:
        """Publishes the shard that is being written, if any."""
        shard, self._shard = self._shard, None
        if shard is not None:
            with shard:
                name, located = shard.finish()
                publish_segment(self._rendering.directory, name, located)

    def close(self) -> None:
        shard, self._shard = self._shard, None
        self._flusher.shutdown()
        if shard is not None:
            shard.__exit__(None, None, None)


def _flush_quietly(shard: ShardWriter) -> None:
    """Whether it succeeds is seen when the shard is finished."""
    with contextlib.suppress(OSError):
        shard.flush_early()


def boxes_of(manifest: Manifest, rows: Rows, treatment: Treatment) -> list[Box | None]:
    """The crop box of each record, from the side columns that the treatment names; None where one of them is NULL."""
    assert treatment.box is not None
    columns = [manifest.take(rows, [name]).column(0).to_pylist() for name in treatment.box]
    return [None if None in box else box for box in zip(*columns, strict=True)]


def check_boxes(snapshot: Snapshot, treatment: Treatment) -> None:
    """Raises NotFoundError, UsageError where the columns that hold crop boxes are not there, or hold no numbers."""
    for name in treatment.box or ():
        kind = snapshot.manifest.side_type(name)
        if kind is None:
            columns = snapshot.manifest.side_columns
            raise NotFoundError(f"box: there is no side column {name!r}{did_you_mean(name, columns) or '; there are none'}")
        if str(kind) not in ("double", "float", "int8", "int16", "int32", "int64", "uint8", "uint16", "uint32", "uint64"):
            raise UsageError(f"box: the side column {name!r} holds {kind}, not numbers")


def identities_of(snapshot: Snapshot, rows: Rows, treatment: Treatment) -> Digests:
    """The identities of some rows' canvases, (n, 32)."""
    boxes = boxes_of(snapshot.manifest, rows, treatment) if treatment.box is not None else []
    return canvas_identities(snapshot.manifest.gather(rows, "sha256"), boxes)


def shard_file(name: str) -> str:
    return f"{SHARDS}/{name}{SUFFIX}"


def canvas_identities(sha256: Digests, boxes: list[Box | None]) -> Digests:
    """The identity of each canvas, (n, 32): the picture's SHA-256, or with a box that of both (four float64, big-endian)."""
    if not any(box is not None for box in boxes):
        return np.ascontiguousarray(sha256)
    found = np.array(sha256, np.uint8)
    for i, box in enumerate(boxes):
        if box is not None:
            numbers = np.array(box, ">f8").tobytes()
            found[i] = np.frombuffer(hashlib.sha256(sha256[i].tobytes() + numbers).digest(), np.uint8)
    return found


def verify_renderings(directory: Directory, *, quick: bool = False) -> Iterator[Damage]:
    """What is wrong in all of them; see `Rendering.check`."""
    for name in directory.list(FOLDER):
        if name[0] != ".":
            yield from Rendering(directory, name).check(quick=quick)


def renderings(directory: Directory) -> list[Rendering]:
    """All that a store holds, by digest."""
    found = [Rendering(directory, name) for name in directory.list(FOLDER)]
    return [each for each in found if each.directory.exists(ABOUT)]


def rendering_of(directory: Directory, treatment: Treatment) -> Rendering | None:
    """The rendering of a treatment's fixed part, if there is one."""
    found = Rendering(directory, treatment.fixed_part)
    return found if found.is_there() and found.shape == (treatment.channels, *treatment.frame.canvas) else None


def drop(directory: Directory, digest: str) -> int:
    """Takes a rendering away, whole: how many bytes that frees."""
    rendering = Rendering(directory, digest)
    freed = rendering.byte_count()
    with disk_errors_translated(f"{FOLDER}/{digest}"):
        shutil.rmtree(rendering.directory.root)
    return freed
