"""The seam between sources and everything after them: rows with columns, and rules over the columns."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from types import MappingProxyType
from typing import Any, Protocol

from pannier.errors import SourceError, UsageError, did_you_mean

Columns = Mapping[str, Any]
Rule = Callable[[Columns], Any]

NO_COLUMNS: Columns = MappingProxyType({})


@dataclass(frozen=True, slots=True)
class Row:
    """One picture that a source offers: its key, how many bytes it has, and what the source knows of it."""

    key: str
    byte_count: int
    columns: Columns


@dataclass(frozen=True, slots=True)
class LeftOut:
    """Something that is not brought in, and why: `kind` is a word, `reason` says more.

    Kinds: "broken", "empty", "oversized", "unsupported", "unreadable", "link", "no label"; "skipped" for what is no picture,
    "name" for a name that had to be changed.
    """

    key: str
    kind: str
    reason: str


class Source(Protocol):
    """A kind of source is a class that yields rows. `columns` are what rules may use; `passed` fills while rows come."""

    @property
    def name(self) -> str: ...

    @property
    def columns(self) -> Sequence[str]: ...

    @property
    def fixed_splits(self) -> bool: ...

    @property
    def passed(self) -> list[LeftOut]: ...

    def rows(self) -> Iterator[Row]: ...

    def read(self, row: Row) -> bytes: ...


@dataclass(frozen=True)
class Rules:
    """What makes labels and splits of a source's columns."""

    label: Rule
    split: Rule
    rename: Mapping[str, str] = field(default_factory=dict)

    def label_of(self, row: Row) -> str | None:
        value = self.label(row.columns)
        return None if value is None else self.rename.get(str(value), str(value))

    def split_of(self, row: Row) -> str | None:
        value = self.split(row.columns)
        return None if value is None else str(value)


def column_rule(name: str, source: Source) -> Rule:
    """The rule that is one column's value."""
    if name not in source.columns:
        raise UsageError(f"the source has no column {name!r} for labels{did_you_mean(name, source.columns)}")
    return lambda columns: columns[name]


def no_value(_: Columns) -> None:
    return None


def read_rename(rename: str | Mapping[str, str] | list[str] | None) -> dict[str, str]:
    """Renames from {"old": "new"}, "old=new" or several of those."""
    if rename is None:
        return {}
    if isinstance(rename, Mapping):
        return dict(rename)
    pieces = [rename] if isinstance(rename, str) else rename
    pairs = [piece.partition("=") for piece in pieces]
    for (old, equals, new), piece in zip(pairs, pieces, strict=True):
        if not equals or not old.strip() or not new.strip():
            raise UsageError(f"{piece!r} cannot be read: write a class to rename as old=new")
    return {old.strip(): new.strip() for old, _, new in pairs}


def check_same_classes(classes: Mapping[str, set[str]]) -> None:
    """Raises SourceError where splits carry different class names; near misses are pointed out."""
    import difflib

    everything = set().union(*classes.values())
    lines = []
    for split, names in classes.items():
        for missing in sorted(everything - names):
            near = difflib.get_close_matches(missing, sorted(names - _common(classes)), n=1, cutoff=0.7)
            lines.append(f"{split} has no {missing!r}" + (f" (but {near[0]!r})" if near else ""))
    if lines:
        raise SourceError(
            "the splits carry different class names: "
            + "; ".join(lines)
            + ". Say what is meant with --rename old=new, or allow it with --allow-missing-classes"
        )


def _common(classes: Mapping[str, set[str]]) -> set[str]:
    return set.intersection(*classes.values())
