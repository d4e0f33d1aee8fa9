"""Pictures that lie in folders, on disk or in an archive: what their paths tell becomes columns."""

from __future__ import annotations

import os
import unicodedata
from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np
import pyarrow as pa

from pannier.columns import NAMES
from pannier.errors import SourceError, UsageError
from pannier.images.facts import looks_like_picture
from pannier.kinds import Refusal
from pannier.sources.rows import ROWS_AT_ONCE, LeftOut

_TEXTS, _FOLDERS = ("path", "name", "stem"), ("parent", "top", "split")
SCHEMA = pa.schema({**dict.fromkeys(_TEXTS, pa.large_string()), **dict.fromkeys(_FOLDERS, NAMES), "bytes": pa.int64()})

_SPLIT_NAMES = {
    **dict.fromkeys(("train", "training"), "train"),
    **dict.fromkeys(("val", "valid", "validation"), "val"),
    **dict.fromkeys(("test", "testing"), "test"),
}


def split_of_folder(name: str) -> str | None:
    """The split that a folder's name stands for, in any case, or None."""
    return _SPLIT_NAMES.get(name.lower())


@dataclass(frozen=True)
class Patterns:
    """Which paths are looked at: those that fit one of `include`, where there are some, and none of `exclude`.

    Patterns are those of .gitignore files: `*.jpg`, `old/`, `**/drafts/*`. hidden: look at hidden files and folders too.
    """

    include: Sequence[str] = ()
    exclude: Sequence[str] = ()
    hidden: bool = False

    def passes_over(self, name: bytes) -> bool:
        """Whether a file or folder is left out since it is hidden, or the system's own."""
        return not self.hidden and is_hidden(name)

    @property
    def are_any(self) -> bool:
        return bool(self.include or self.exclude)

    def refusal(self, path: str) -> str | None:
        """Why a path is not looked at, or None where it is."""
        if self.include and not self._included.match_file(path):
            return "no pattern takes it in"
        if self.exclude and self._excluded.match_file(path):
            return "left out by a pattern"
        return None

    @cached_property
    def _included(self) -> Any:
        return _compiled(self.include, "`include`")

    @cached_property
    def _excluded(self) -> Any:
        return _compiled(self.exclude, "`exclude`")


def _compiled(patterns: Sequence[str], option: str) -> Any:
    from pathspec import GitIgnoreSpec

    try:
        return GitIgnoreSpec.from_lines(patterns)
    except ValueError as error:
        raise UsageError(f"{option} {' '.join(patterns)}: no such pattern can be read ({error})") from None


class PathSource:
    """Pictures told by their paths, in order of keys. Columns: path, name, stem, parent, top, split, bytes.

    `parent` is the nearest folder and `top` the first, both below the split folder where there is one; NULL for a picture
    that lies in no folder.
    """

    default_label = "parent"
    name: str
    passed: list[LeftOut]

    def _take(self, found: dict[str, int], *, keep_splits: bool) -> None:
        """Takes what was found: bytes by key."""
        self._keys = sorted(found, key=str.encode)
        self._byte_counts = np.fromiter(map(found.__getitem__, self._keys), np.int64, len(self._keys))
        self.has_split_folders = _has_split_folders(self._keys)
        self.fixed_splits = self.has_split_folders and keep_splits

    def __len__(self) -> int:
        return len(self._keys)

    @property
    def is_flat(self) -> bool:
        """Whether every picture lies in the folder itself, so that no folder can give its label."""
        return bool(self._keys) and all(self._parts(key)[2] is None for key in self._keys)

    def keys(self) -> Any:
        return pa.array(self._keys, pa.large_string())

    def byte_counts(self, numbers: Any) -> np.ndarray[Any, np.dtype[np.int64]]:
        return self._byte_counts[numbers]

    def table(self) -> Any:
        """A row a picture, in order of keys."""
        batches = [self._batch(at) for at in range(0, len(self), ROWS_AT_ONCE)]
        return pa.Table.from_batches(batches, SCHEMA).unify_dictionaries()

    def _batch(self, at: int) -> Any:
        keys = self._keys[at : at + ROWS_AT_ONCE]
        splits, tops, parents, names = zip(*(self._parts(key) for key in keys), strict=True)
        columns = {
            "path": keys,
            "name": names,
            "stem": [name.rpartition(".")[0] or name for name in names],
            "parent": parents,
            "top": tops,
            "split": splits if self.fixed_splits else [None] * len(keys),
            "bytes": self._byte_counts[at : at + ROWS_AT_ONCE],
        }
        return pa.record_batch([pa.array(columns[field.name], field.type) for field in SCHEMA], SCHEMA)

    def _parts(self, key: str) -> tuple[str | None, str | None, str | None, str]:
        """Split, top folder, nearest folder and name that a key tells of."""
        *folders, name = key.split("/")
        split = split_of_folder(folders[0]) if self.has_split_folders and folders else None
        below = folders[1:] if split else folders
        return (split, below[0], below[-1], name) if below else (split, None, None, name)


def key_of(relative: bytes) -> str:
    """A path as a key: what is not UTF-8 percent-encoded, in Unicode form NFC."""
    text = relative.decode("utf-8", "surrogateescape")
    text = "".join(f"%{ord(c) - 0xDC00:02X}" if "\udc80" <= c <= "\udcff" else c for c in text)
    return unicodedata.normalize("NFC", text)


def name_note(relative: bytes, key: str) -> LeftOut | None:
    """What is to be said of a name that had to be changed."""
    try:
        relative.decode("utf-8")
    except UnicodeDecodeError:
        return LeftOut(key, "name", "its name is not UTF-8: those bytes are percent-encoded in the key")
    return None


def refuse_one_key(key: str, first: bytes, second: bytes) -> None:
    both = " and ".join(repr(path.decode("utf-8", "backslashreplace")) for path in (first, second))
    raise SourceError(f"two pictures have one key {key!r}: {both}; rename one of them")


# what systems and editors leave beside pictures
_SYSTEM_NAMES = (b"@eadir", b"__macosx", b"thumbs.db", b"desktop.ini", b"ehthumbs.db")


def is_hidden(name: bytes) -> bool:
    """Whether a file or folder is hidden, or the system's own, by its name."""
    return name.startswith(b".") or name.lower() in _SYSTEM_NAMES


def hidden(name: bytes, *, is_folder: bool) -> Refusal:
    """(kind, reason) for leaving a hidden one out: it is told where it could have been pictures."""
    is_told = is_folder or looks_like_picture(os.fsdecode(name))
    return ("hidden" if is_told else "skipped", "hidden, or the system's own; `hidden` takes it")


def _has_split_folders(keys: list[str]) -> bool:
    """Whether every top folder that holds pictures bears a split's name. Raises SourceError where only some do."""
    tops = {key.split("/", 1)[0] for key in keys if "/" in key}
    splits = {top for top in tops if split_of_folder(top)}
    if splits and splits != tops:
        others = sorted(tops - splits)
        raise SourceError(
            f"some folders bear a split's name ({', '.join(sorted(splits))}) and some do not ({', '.join(others[:5])}"
            f"{', ...' if len(others) > 5 else ''}); put them into folders of one kind, or `exclude` some"
        )
    return bool(splits)


def shown_path(path: bytes, root: bytes) -> str:
    return key_of(os.path.relpath(path, root))
