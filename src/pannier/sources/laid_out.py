"""What stands beside pictures that were laid out of a store: how their paths and their keys belong together."""

from __future__ import annotations

import json
from collections.abc import Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any, NotRequired

from pydantic import TypeAdapter, with_config
from typing_extensions import TypedDict

from pannier.choices import Layout
from pannier.errors import UsageError
from pannier.files import is_draft, read_regular, write_whole
from pannier.strict import STRICT, Digest, Text, read_strictly

FILE = ".pannier-export.json"
LABELS = "labels.csv"
ATTACHMENTS = "attachments"
OWN_IGNORE = ".gitignore"
FORMAT = 1
# what is said of a folder is no larger: some 100 bytes a picture
MOST_BYTES = 1 << 30


class _Format(TypedDict):
    format: int


@with_config(STRICT)
class _Told(_Format):
    snapshot: Digest
    layout: Layout
    where: NotRequired[Text | None]
    is_whole: NotRequired[bool]
    before: NotRequired[Digest | None]
    below_split: NotRequired[bool]
    keys: NotRequired[dict[Text, Text]]


@dataclass(frozen=True)
class LaidOut:
    """How a folder was laid out. `snapshot` is what lies in it, once it `is_whole`; until then it is on its way there.

    `before` is what lay in it before. `keys` are those of files whose key is not their path; with `below_split` a path
    begins with a split's folder that is no part of the key.
    """

    snapshot: str
    layout: str
    where: str | None = None
    is_whole: bool = False
    before: str | None = None
    below_split: bool = False
    keys: dict[str, str] = field(default_factory=dict)

    @staticmethod
    def read(folder: str | Path) -> LaidOut | None:
        """What is said of a folder; None where nothing is. Raises UsageError."""
        path = Path(folder) / FILE
        try:
            content = read_regular(path, MOST_BYTES)
            if read_strictly(TypeAdapter(_Format), content)["format"] != FORMAT:
                raise UsageError(f"{folder} was laid out by a newer Pannier: install that")
            document = read_strictly(TypeAdapter(_Told), content)
        except FileNotFoundError:
            return None
        except UsageError:
            raise
        except (OSError, ValueError) as error:
            raise UsageError(f"{path} cannot be read ({error}): remove it, or export into a new folder") from None
        del document["format"]
        return LaidOut(**document)

    def write(self, folder: str | Path) -> None:
        document: dict[str, Any] = {"format": FORMAT, **vars(self)}
        write_whole(Path(folder) / FILE, json.dumps(document, indent=1, ensure_ascii=False, sort_keys=True) + "\n")

    def key_of(self, path: str) -> str:
        """The key of the picture at a path."""
        given = self.keys.get(path)
        if given is not None:
            return given
        return path.partition("/")[2] if self.below_split and "/" in path else path


def is_about_layout(path: Sequence[str]) -> bool:
    """Whether a path in a folder that was laid out belongs to the laying out, not to the pictures."""
    return path[0] in (FILE, LABELS, ATTACHMENTS, OWN_IGNORE) or is_draft(path[-1])
