"""The sheet: many pictures with their labels, readable for a few and for hundreds."""

from __future__ import annotations

import math
from collections.abc import Sequence
from itertools import zip_longest
from typing import TYPE_CHECKING, Any, Protocol

import numpy as np

from pannier.errors import PictureError, UsageError
from pannier.figures.style import DPI, FAINT, HEIGHT, INK, WIDTH, new_figure, save_figure
from pannier.hashing import argsort_hashes, checked_seed, fold, fold_each

if TYPE_CHECKING:
    from pannier.images.treatment import Treatment
    from pannier.sources.findings import Findings
    from pannier.store.snapshot import Record, Snapshot

MOST = 240
_TITLE, _MARGIN, _GAP = 70, 24, 10


def choose_records(
    snapshot: Snapshot,
    split: str | None,
    count: int,
    seed: int,
    subset: str | float | None = None,
    where: str | None = None,
) -> list[Record]:
    """Up to `count` records of a split by chance with a seed, alike from every class, in order of class; `where` is SQL."""
    if not 1 <= count <= MOST:
        raise UsageError(f"a sheet of {count} pictures: must be 1 to {MOST}")
    rows = snapshot.subset_of(split, subset, seed, where=where)
    rows = rows[argsort_hashes(fold_each(fold(checked_seed(seed)), snapshot.manifest.hashes[rows]))]
    codes, _ = snapshot.manifest.codes("label")
    by_class = [rows[codes[rows] == code].tolist() for code in np.unique(codes[rows])]
    in_turn = [row for turn in zip_longest(*by_class) for row in turn if row is not None][:count]
    records = [snapshot.record(row) for row in in_turn]
    numbers = {name: number for number, name in enumerate(snapshot.classes)}
    return sorted(records, key=lambda record: (numbers.get(record.label or "", len(numbers)), record.key.encode()))


class Drawable(Protocol):
    """What a sheet draws: a picture's bytes, and what is written below it."""

    @property
    def key(self) -> str: ...

    @property
    def label(self) -> str | None: ...

    @property
    def split(self) -> str | None: ...

    def bytes(self) -> bytes: ...


def draw_suspects(findings: Findings, path: str) -> None:
    """The pictures that a survey found suspicious, worst first, with what is suspicious about each."""
    suspects = findings.suspicious(MOST)
    if not suspects:
        raise UsageError(f"{findings.source} holds no suspicious picture, so there is no sheet to draw")
    draw_sheet(suspects, path, title=f"{findings.source}: {len(suspects)} suspicious pictures, worst first")


def draw_sheet(records: Sequence[Drawable], path: str, *, title: str) -> None:
    """Draws the pictures as stored, whole, with label, key and split below each."""
    if not records:
        raise UsageError("there is no picture to draw")
    from pannier.images.treatment import Treatment

    width, height = int(WIDTH * DPI), int(HEIGHT * DPI)
    columns, side, text = _grid(len(records), width - 2 * _MARGIN, height - _TITLE - _MARGIN)
    figure = new_figure()
    small = Treatment((side, side), fit="contain", values="raw", dtype="uint8", layout="hwc")
    step_x, step_y = side + _GAP, side + text + _GAP
    start = (width - (columns * step_x - _GAP)) // 2
    canvas = np.full((height, width, 3), 255, np.uint8)
    font = max(5.0, min(11.0, side / 13))
    letters = max(4, int(side / (font * 0.62 * DPI / 72)))
    for i, record in enumerate(records):
        left, top = start + i % columns * step_x, _TITLE + i // columns * step_y
        canvas[top : top + side, left : left + side] = _drawn(small, record, side)
        where = {"ha": "left", "va": "top", "fontsize": font}
        y = 1 - (top + side + 3) / height
        figure.text(left / width, y, _cut(_headline(record), letters), color=INK, weight="bold", **where)
        if side >= 60:
            name = record.key.rpartition("/")[2]
            line = 1.25 * font * DPI / 72 / height
            about = f"{name} {record.split}" if record.split else name
            figure.text(
                left / width,
                y - line,
                _cut(about, int(letters * 1.1)),
                color=FAINT,
                **where | {"fontsize": font * 0.85},
            )
    figure.figimage(canvas, 0, 0, zorder=-1)
    figure.text(start / width, 1 - 40 / height, title, fontsize=16, color=INK, weight="bold")
    save_figure(figure, path)


def _headline(record: Drawable) -> str:
    """What is said of a picture: its own headline, or what is suspicious about it, or else its label."""
    own: str | None = getattr(record, "headline", None)
    if own:
        return own
    kind = getattr(record, "kind", None)
    return ": ".join(each for each in (kind, record.label or (None if kind else "no label")) if each)


def _drawn(small: Treatment, record: Drawable, side: int) -> Any:
    """The picture, small; where it cannot be read, a gray field with a cross."""
    try:
        return small(record.bytes())
    except PictureError:
        field = np.full((side, side, 3), 225, np.uint8)
        at = np.arange(side)
        field[at, at] = field[at, side - 1 - at] = 140
        return field


def _grid(count: int, width: int, height: int) -> tuple[int, int, int]:
    """(columns, side of a picture, room for text below it), the largest pictures that fit."""
    best = (1, 8, 10)
    for columns in range(1, count + 1):
        rows = math.ceil(count / columns)
        side = (width + _GAP) // columns - _GAP
        text = 34 if side >= 60 else 16
        side = min(side, (height + _GAP) // rows - _GAP - text)
        if side > best[1]:
            best = (columns, side, text)
    return best


def _cut(text: str, letters: int) -> str:
    return text if len(text) <= letters else text[: letters - 1] + "\u2026"
