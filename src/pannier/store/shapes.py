"""What each kind of document of a store must be: types, ranges, digests. Nothing that a document says is used before.

A field that no kind knows is refused too: a version that adds one has a newer format.
"""

from __future__ import annotations

from functools import cache
from typing import Annotated, Any, Literal, NotRequired, Required

from pydantic import Field, FiniteFloat, TypeAdapter, with_config
from typing_extensions import TypedDict

from pannier.choices import Unlabeled
from pannier.errors import DamageError
from pannier.storage import layout
from pannier.strict import LARGEST, STRICT, Count, Digest, Text, read_strictly

# of leases the longest: a reader's
_LONGEST_LEASE_SECONDS = 6 * 3600

Texts = Text | list[Text]
Name = Text | None
Side = Annotated[int, Field(ge=1, le=1 << 15)]
Number = Annotated[int, Field(ge=1, le=99_999_999)]
Fact = Text | bool | Annotated[int, Field(ge=-LARGEST, le=LARGEST)] | FiniteFloat


@with_config(STRICT)
class FileTold(TypedDict):
    """How a snapshot names a base or delta."""

    name: Digest
    crc32: Annotated[int, Field(ge=0, le=0xFFFFFFFF)]
    byte_count: Count
    rows: Count


@with_config(STRICT)
class AttachmentTold(TypedDict):
    name: Text
    sha256: Digest
    byte_count: Count


@with_config(STRICT)
class DealingTold(TypedDict, total=False):
    """What holds for splits, where it does."""

    counts: dict[Text, Count]
    carved_from: Text
    frozen: list[Text]
    near: Annotated[int, Field(ge=0, le=1000)]
    group_by: Text
    leaks_allowed: bool
    ties: Literal["follow", "leave-out"]
    unlike: list[tuple[Digest, Digest]]


@with_config(STRICT)
class RecipeTold(TypedDict, total=False):
    """What was said of a source when it was packed, where it was: as the options of a pack are."""

    source: Required[list[Text]]
    picture: Text
    root: Text
    encoding: Text
    separator: Text
    null: Texts
    shape: Text
    include: Texts
    exclude: Texts
    hidden: bool
    label: Text
    label_pattern: Text
    where: Texts
    key: Text
    split_by: Text
    columns: Texts
    rename: dict[Text, Text]
    class_names: Text | dict[Text, Text]
    labels: Text
    unlabeled: Unlabeled
    only_classes: Texts
    per_class: Count
    longest_side: Count
    encode: Text
    prefix: Text
    resplit: bool
    allow_missing_classes: bool
    max_pixels: Count


@with_config(STRICT)
class SnapshotTold(TypedDict):
    """A snapshot."""

    format: Literal["pannier snapshot 1"]
    parents: Annotated[list[Digest], Field(max_length=2)]
    time: Text
    author: Text
    note: Text
    name: NotRequired[Text]
    description: NotRequired[Text]
    facts: dict[Text, Fact]
    attachments: list[AttachmentTold]
    classes: list[Text]
    records: Count
    counts: list[tuple[Name, Name, Count]]
    changes: list[tuple[Text, Name, Name, Count]]
    shares: list[tuple[Text, Annotated[str, Field(pattern="^[0-9]{1,18}/[0-9]{1,18}$")]]] | None
    seed: Count | None
    dealing: NotRequired[DealingTold]
    recipes: NotRequired[list[RecipeTold]]
    left_out: Digest | None
    left_out_count: Count
    base: FileTold
    delta: FileTold | None
    content_id: Digest


@with_config(STRICT)
class EntryTold(TypedDict):
    """One step of a strand or tag."""

    kind: Literal["strands", "tags"]
    name: Text
    number: Number
    snapshot: Digest | None
    time: Text
    author: Text
    note: NotRequired[Text]
    other_name: NotRequired[Text]


@with_config(STRICT)
class AdditionTold(TypedDict):
    """Facts and files that were added to a snapshot."""

    kind: Literal["addition"]
    snapshot: Digest
    number: Number
    time: Text
    author: Text
    facts: dict[Text, Fact]
    attachments: list[AttachmentTold]
    removed: list[Text]


@with_config(STRICT)
class LeaseTold(TypedDict):
    """Who writes, reads, verifies or tidies, or waits for a turn to write; it cannot hold for ever."""

    kind: Literal["writer", "reader", "verifier", "tidier", "waiter"]
    author: Text
    host: Text
    process: Annotated[int, Field(ge=1, le=0x7FFFFFFF)]
    machine: Text
    started: Text
    seconds: (
        Annotated[FiniteFloat, Field(gt=0, le=_LONGEST_LEASE_SECONDS)]
        | Annotated[int, Field(gt=0, le=_LONGEST_LEASE_SECONDS)]
    )
    snapshots: list[Digest]


@with_config(STRICT)
class CanvasTold(TypedDict):
    """What a rendering holds: the canvas, the view into it, its margin, the fixed part of the treatment."""

    pannier: Literal["canvas 1"]
    shape: tuple[Annotated[int, Field(ge=1, le=4)], Side, Side]
    view: list[Count]
    margin: list[Count]
    fixed: dict[Text, Any]


class FormatTold(TypedDict):
    """That a folder is a store. What a newer version adds is not refused here, but by its number."""

    format: Text
    version: Annotated[int, Field(ge=0, le=LARGEST)]


# by the first folder of its name, what a document is
_KINDS: dict[str, type[Any]] = {
    layout.SNAPSHOTS: SnapshotTold,
    layout.STRANDS: EntryTold,
    layout.TAGS: EntryTold,
    layout.ADDITIONS: AdditionTold,
    layout.LEASES: LeaseTold,
    layout.RENDERED: CanvasTold,
    layout.FORMAT_FILE: FormatTold,
}


@cache
def _reader(folder: str) -> TypeAdapter[Any]:
    return TypeAdapter(_KINDS[folder])


def check_shape(content: bytes, file: str) -> None:
    """Raises DamageError where a document, JSON without its seal, is not what one of its file's name must be."""
    try:
        read_strictly(_reader(layout.folder_of(file)), content)
    except ValueError as error:
        raise DamageError(f"{file} is damaged: {error}", file=file) from None
