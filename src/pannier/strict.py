"""JSON of strangers, read strictly: every field of the type and range that it must have, and none that nobody knows."""

from __future__ import annotations

from typing import Annotated, Any

from pydantic import ConfigDict, Field, TypeAdapter, ValidationError

LARGEST = (1 << 63) - 1
_LONGEST_TEXT = 1 << 20
_LONGEST_SHOWN = 160

STRICT = ConfigDict(strict=True, extra="forbid")
Digest = Annotated[str, Field(pattern="^[0-9a-f]{64}$")]
Text = Annotated[str, Field(max_length=_LONGEST_TEXT)]
Count = Annotated[int, Field(ge=0, le=LARGEST)]


def read_strictly(kind: TypeAdapter[Any], content: bytes) -> Any:
    """What a document says. Raises ValueError, whose text is one line, where it is none of that kind."""
    try:
        return kind.validate_json(content, strict=True)
    except ValidationError as error:
        problem = error.errors(include_url=False, include_input=False)[0]
        place = ".".join(map(str, problem["loc"]))[:_LONGEST_SHOWN]
        raise ValueError(f"{place + ': ' if place else ''}{problem['msg'][:_LONGEST_SHOWN]}") from None
