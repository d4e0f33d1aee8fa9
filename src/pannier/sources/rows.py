"""The seam between sources and everything after them: a table of columns, pictures that are read by row, rules."""

from __future__ import annotations

import hashlib
from collections import Counter
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass, field
from typing import Any, NamedTuple, Protocol

import numpy as np
import pyarrow as pa

from pannier.columns import NameColumn
from pannier.errors import SourceError
from pannier.kinds import LeftOutKind

ROWS_AT_ONCE = 4096
# 80 bits: among a thousand million pictures two are alike by chance once in a million datasets
KEY_DIGITS = 20


class Row(NamedTuple):
    """One picture that a source offers: its row in the source's table, its key, how many bytes it has."""

    number: int
    key: str
    byte_count: int


class FileStamp(NamedTuple):
    """A file as it is now: its absolute path, how many bytes it has, when it was last changed (in nanoseconds)."""

    path: bytes
    byte_count: int
    stamp: int


class LeftOut(NamedTuple):
    """Something that is not brought in, and why; `reason` says more than its `kind`."""

    key: str
    kind: LeftOutKind
    reason: str


class Reads(Protocol):
    """As much of a source as reading and checking its pictures needs."""

    def read(self, row: Row, most: int | None = None) -> bytes: ...

    def file(self, row: Row) -> FileStamp | None: ...


class Source(Reads, Protocol):
    """A kind of source: a class that knows its pictures as a table, and reads them.

    `table` has a row a picture; its columns are what rules may use. `keys` are the rows' keys, an Arrow array of strings,
    unless a rule gives others; `byte_counts` says of some rows how many bytes their pictures have, 0 where not known.
    `default_label` is the column that gives labels unless a rule does. `passed` is what was seen and is no row.
    `read` gives a picture's bytes, at most the first `most` of them; `file` tells the file that they are from, None where
    they are from none that could be told from another by its stamp. Safe between threads.
    """

    @property
    def name(self) -> str: ...

    @property
    def fixed_splits(self) -> bool: ...

    @property
    def passed(self) -> list[LeftOut]: ...

    @property
    def default_label(self) -> str | None: ...

    def table(self) -> Any: ...

    def keys(self) -> Any: ...

    def byte_counts(self, numbers: Any) -> np.ndarray[Any, np.dtype[np.int64]]: ...


def reads_at_once(source: Reads) -> int:
    """How many of a source's pictures are best on their way at once: one from near by, many from a bucket."""
    return int(getattr(source, "reads_at_once", 1))


@dataclass(frozen=True)
class Chosen:
    """Rows of a source with their labels and splits, column by column: some 100 bytes of memory a row.

    `numbers` are rows of the source's table; `keys` is an Arrow array of strings; `side` a table of side columns;
    `raw_labels` are labels before renaming. `funnel` tells how many rows each condition left, `left_out` which it did not.
    """

    numbers: np.ndarray[Any, np.dtype[np.int64]]
    keys: Any
    labels: NameColumn
    splits: NameColumn
    side: Any | None = None
    raw_labels: NameColumn | None = None
    funnel: list[tuple[str, int]] = field(default_factory=list)
    left_out: list[LeftOut] = field(default_factory=list)

    def __len__(self) -> int:
        return len(self.numbers)

    def take(self, rows: Any) -> Chosen:
        side = None if self.side is None else self.side.take(pa.array(rows))
        raw = None if self.raw_labels is None else self.raw_labels.take(rows)
        own = (self.numbers[rows], self.keys.take(rows), self.labels.take(rows), self.splits.take(rows))
        return Chosen(*own, side, raw, self.funnel, self.left_out)

    def rows(self, source: Source) -> Iterator[Row]:
        """The rows one by one; how many bytes each has is asked of the source shortly before."""
        for at in range(0, len(self), ROWS_AT_ONCE):
            numbers = self.numbers[at : at + ROWS_AT_ONCE]
            columns = (numbers.tolist(), self.keys[at : at + ROWS_AT_ONCE].to_pylist(), source.byte_counts(numbers).tolist())
            yield from map(Row._make, zip(*columns, strict=True))

    def key_texts(self) -> Iterator[str]:
        for at in range(0, len(self), ROWS_AT_ONCE):
            yield from self.keys[at : at + ROWS_AT_ONCE].to_pylist()


def content_keys(contents: Iterable[Any], ending: str = "") -> list[str]:
    """Keys of pictures that have no name: the first digits of each one's SHA-256; equal ones get -2, -3 and so on.

    So a picture keeps its key wherever it stands the next time.
    """
    seen: Counter[str] = Counter()
    keys = []
    for content in contents:
        key = hashlib.sha256(content).hexdigest()[:KEY_DIGITS]
        seen[key] += 1
        keys.append(f"{key}{ending}" if seen[key] == 1 else f"{key}-{seen[key]}{ending}")
    return keys


def classes_by_split(chosen: Chosen) -> dict[str, set[str]]:
    """The class names that each split carries."""
    pairs = np.unique(np.stack([chosen.splits.codes, chosen.labels.codes]), axis=1)
    classes: dict[str, set[str]] = {}
    for split, label in pairs.T.tolist():
        if split >= 0 and label >= 0:
            classes.setdefault(chosen.splits.names[split], set()).add(chosen.labels.names[label])
    return classes


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
            + ". Say what is meant with `rename` old=new, or allow it with `allow_missing_classes`"
        )


def _common(classes: Mapping[str, set[str]]) -> set[str]:
    return set.intersection(*classes.values())
