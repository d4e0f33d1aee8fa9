"""The page of a comparison: what differs, with pictures before and after."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path

from pannier.errors import NotFoundError
from pannier.pages.writing import thumbnails, write_page
from pannier.versions.comparing import IN_WORDS, Compared, Comparison

MOST_PICTURES = 400


def comparison_page(found: Comparison, path: str | Path) -> int:
    """Writes it: how many bytes it has. Raises UsageError, StoreError."""
    records = list(found.records(MOST_PICTURES, by_kind=True))
    befores = thumbnails([_reader_before(found, each) for each in records])
    afters = thumbnails([_reader_after(each) for each in records])
    by_kind: dict[str, list[tuple[Compared, str, str]]] = {}
    for each, before, after in zip(records, befores, afters, strict=True):
        by_kind.setdefault(each.kind, []).append((each, before, after))
    kinds = [(IN_WORDS.get(kind, kind), found.counts.get(kind, len(shown)), shown) for kind, shown in by_kind.items()]
    return write_page(path, "comparison.html", found=found, kinds=kinds, classes=_classes(found, records))


def _reader_before(found: Comparison, each: Compared) -> Callable[[], bytes]:
    state = found.before.snapshot

    def read() -> bytes:
        if each.kind == "added" or state is None:
            return b""
        try:
            return state.record(state.row_of(each.key_before or each.key)).bytes()
        except NotFoundError:
            return b""

    return read


def _reader_after(each: Compared) -> Callable[[], bytes]:
    return lambda: b"" if each.kind == "removed" else each.bytes()


def _classes(found: Comparison, records: Sequence[Compared]) -> list[tuple[str, int, int]]:
    """Classes whose number of records differs: before and after. Nothing where one side is no snapshot."""
    before, after = found.before.snapshot, found.after.snapshot
    if before is None or after is None:
        return []
    names = list(dict.fromkeys([*before.classes, *after.classes]))

    def count(state: object, name: str) -> int:
        return sum(number for (label, _), number in state.counts.items() if label == name)  # type: ignore[attr-defined]

    rows = [(name, count(before, name), count(after, name)) for name in names]
    return [row for row in rows if row[1] != row[2]]
