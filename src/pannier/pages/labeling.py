"""Labeling by eye: a page of pictures whose classes are chosen in the browser; it saves a table that `change` takes."""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from pannier.errors import NotFoundError, UsageError, did_you_mean
from pannier.figures.sheet import Drawable
from pannier.pages.writing import TEMPLATES, module, thumbnails, write_page
from pannier.store.choosing import chosen_rows
from pannier.store.state import State
from pannier.versions.doubles import Doubles

MOST_PICTURES = 20_000


@dataclass(frozen=True)
class ToLabel:
    """A picture on such a page. hint: what it may be instead; note: why it is there; group: one number, one group."""

    key: str
    label: str | None
    read: Callable[[], bytes]
    hint: str | None = None
    group: int | None = None
    note: str | None = None


def labeling_page(
    pictures: Sequence[ToLabel], classes: Sequence[str], path: str | Path, *, title: str, address: str = "STORE"
) -> int:
    """Writes it: how many bytes it has. address: of the store that the table is for. Raises UsageError, StoreError."""
    if not pictures:
        raise UsageError("no picture is chosen: there is nothing to look at")
    if len(pictures) > MOST_PICTURES:
        raise UsageError(f"a page of {len(pictures):,} pictures: {MOST_PICTURES:,} are the most; choose them with `where`")
    small = thumbnails([each.read for each in pictures])
    items = [_item(each, picture) for each, picture in zip(pictures, small, strict=True)]
    told = hashlib.sha256("\n".join(each.key for each in pictures).encode()).hexdigest()
    return write_page(
        path,
        "labeling.html",
        title=title,
        address=address,
        records={"id": f"pannier labeling {told[:16]}", "classes": list(classes), "items": items},
        preact=module("vendor/preact.mjs"),
        htm=module("vendor/htm.mjs"),
        script=(TEMPLATES / "labeling.js").read_text(encoding="utf-8"),
    )


def _item(each: ToLabel, small: str) -> dict[str, Any]:
    item: dict[str, Any] = {"key": each.key, "label": each.label, "small": small}
    told = {name: getattr(each, name) for name in ("hint", "group", "note")}
    return item | {name: value for name, value in told.items() if value is not None}


def to_label(
    state: State, split: str | None = None, *, where: str | None = None, predicted: str | None = None
) -> list[ToLabel]:
    """The records of a split for which an SQL expression holds; with `predicted`, a side column, those it says otherwise of.

    Raises NotFoundError, UsageError.
    """
    if predicted is not None and predicted not in state.manifest.side_columns:
        raise NotFoundError(f"no side column {predicted!r}{did_you_mean(predicted, state.manifest.side_columns)}")
    chosen = []
    for row in chosen_rows(state, split, None, 0, where=where).tolist():
        record = state.record(row)
        hint = record.side[predicted] if predicted is not None else None
        if predicted is None or (hint is not None and str(hint) != record.label):
            chosen.append(ToLabel(record.key, record.label, record.bytes, None if hint is None else str(hint)))
    return sorted(chosen, key=lambda each: (each.hint or "", each.label or "", each.key.encode()))


def drawable_to_label(pictures: Sequence[Drawable]) -> list[ToLabel]:
    """Records, or what a survey suspects or a comparison found."""
    return [ToLabel(each.key, each.label, each.bytes, note=getattr(each, "kind", None)) for each in pictures]


def doubles_to_label(found: Doubles) -> list[ToLabel]:
    """Pairs of near doubles side by side."""
    return [
        ToLabel(key, found.records[key].label, found.records[key].bytes, group=number)
        for number, pair in enumerate(found.pairs)
        for key in (pair.key, pair.other)
    ]
