"""What each kind of document of a store must be: types, ranges, digests. Nothing that a document says is used before.

A field that no kind knows is refused too: a version that adds one has a newer format.
"""

from __future__ import annotations

from functools import cache
from typing import Annotated, Any, Literal, NotRequired

from pydantic import ConfigDict, Field, FiniteFloat, TypeAdapter, ValidationError, with_config
from typing_extensions import TypedDict

from pannier.errors import DamageError
from pannier.storage import layout

_LONGEST_TEXT = 1 << 20
_LONGEST_SHOWN = 160
_LARGEST = (1 << 63) - 1
# of leases the longest: a reader's
_LONGEST_LEASE_SECONDS = 6 * 3600

Digest = Annotated[str, Field(pattern="^[0-9a-f]{64}$")]
Text = Annotated[str, Field(max_length=_LONGEST_TEXT)]
Name = Text | None
Count = Annotated[int, Field(ge=0, le=_LARGEST)]
Side = Annotated[int, Field(ge=1, le=1 << 15)]
Number = Annotated[int, Field(ge=1, le=99_999_999)]
Fact = Text | bool | Annotated[int, Field(ge=-_LARGEST, le=_LARGEST)] | FiniteFloat

_STRICT = ConfigDict(strict=True, extra="forbid")


@with_config(_STRICT)
class FileTold(TypedDict):
    """How a snapshot names a base or delta."""

    name: Digest
    crc32: Annotated[int, Field(ge=0, le=0xFFFFFFFF)]
    byte_count: Count
    rows: Count


@with_config(_STRICT)
class AttachmentTold(TypedDict):
    name: Text
    sha256: Digest
    byte_count: Count


@with_config(_STRICT)
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


@with_config(_STRICT)
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
    recipes: NotRequired[list[dict[Text, Any]]]
    left_out: Digest | None
    left_out_count: Count
    base: FileTold
    delta: FileTold | None
    content_id: Digest


@with_config(_STRICT)
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


@with_config(_STRICT)
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


@with_config(_STRICT)
class LeaseTold(TypedDict):
    """Who writes, reads, verifies or tidies; it cannot hold for ever."""

    kind: Literal["writer", "reader", "verifier", "tidier"]
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


@with_config(_STRICT)
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
    version: Annotated[int, Field(ge=0, le=_LARGEST)]


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
        _reader(layout.folder_of(file)).validate_json(content, strict=True)
    except ValidationError as error:
        problem = error.errors(include_url=False, include_input=False)[0]
        place = ".".join(map(str, problem["loc"]))[:_LONGEST_SHOWN]
        what = f"{place + ': ' if place else ''}{problem['msg'][:_LONGEST_SHOWN]}"
        raise DamageError(f"{file} is damaged: {what}", file=file) from None
