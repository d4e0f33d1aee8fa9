"""The sheet: many pictures with their labels, readable for a few and for hundreds."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace
from itertools import zip_longest
from typing import Any, Protocol, runtime_checkable

import numpy as np

from pannier.errors import NotFoundError, PictureError, UsageError, did_you_mean
from pannier.feeding.feed import Feed
from pannier.figures.style import DPI, FAINT, HEIGHT, INK, WIDTH, fitted, new_figure, save_figure, with_plain_texts
from pannier.hashing import argsort_hashes, checked_seed, fold, fold_each, text_hash
from pannier.images.prepare import Preparation
from pannier.images.treatment import Treatment
from pannier.sources.findings import Findings
from pannier.store.choosing import chosen_rows
from pannier.store.records import Record
from pannier.store.state import State
from pannier.versions.doubles import Doubles

MOST = 240
_TITLE, _MARGIN, _GAP = 70, 24, 10
_PAIRS = 40
# below this side labels can no longer be read
_SMALLEST = 68
_WRONG = (163, 84, 43)


def choose_records(
    snapshot: State,
    split: str | None,
    count: int,
    seed: int,
    subset: str | float | None = None,
    where: str | None = None,
    arrange: str = "class",
) -> list[Record]:
    """Up to `count` records of a split by chance with a seed; `where` is SQL.

    arrange: "class" takes alike from every class, in order of class; "chance" whatever chance gives, in its order.
    """
    if not 1 <= count <= MOST:
        raise UsageError(f"a sheet of {count} pictures: must be 1 to {MOST}")
    rows = chosen_rows(snapshot, split, subset, seed, where=where)
    rows = rows[argsort_hashes(fold_each(fold(checked_seed(seed)), snapshot.manifest.hashes_at(rows)))]
    if arrange == "chance":
        return [snapshot.record(row) for row in rows[:count].tolist()]
    codes, _ = snapshot.manifest.codes("label")
    by_class = [rows[codes[rows] == code].tolist() for code in np.unique(codes[rows])]
    in_turn = [row for turn in zip_longest(*by_class) for row in turn if row is not None][:count]
    records = [snapshot.record(row) for row in in_turn]
    numbers = {name: number for number, name in enumerate(snapshot.classes)}
    return sorted(records, key=lambda record: (numbers.get(record.label or "", len(numbers)), record.key.encode()))


@dataclass(frozen=True)
class Shown:
    """A picture on a sheet as it is after a treatment: `pixels` uint8 (h, w, channels); `mark`: whether it is right."""

    key: str
    label: str | None
    split: str | None
    pixels: Any | None = None
    record: Record | None = None
    headline: str | None = None
    below: str | None = None
    mark: bool | None = None

    def bytes(self) -> bytes:
        """The encoded picture."""
        assert self.record is not None
        return self.record.bytes()


def as_fed(feed: Feed, number: int, epoch: int) -> list[Shown]:
    """One batch of an epoch exactly as a feed gives it, values undone; without a treatment the pictures as stored.

    Raises UsageError where the epoch has no such batch.
    """
    if not 0 <= number < len(feed):
        raise UsageError(f"an epoch has the batches 0 to {len(feed) - 1}, so there is no batch {number}")
    batch = feed.batch_at(epoch, number)
    pictures = [None] * len(batch) if feed.treatment is None else list(feed.treatment.undo(batch.images))
    state = feed.state
    records = [state.record(state.row_of(key)) for key in batch.keys]
    return [Shown(each.key, each.label, each.split, picture, each) for each, picture in zip(records, pictures, strict=True)]


def treated(records: Sequence[Record], treatment: Treatment) -> list[Shown]:
    """Records' pictures through a treatment, without its random steps, values undone."""
    prepared, found = Preparation(treatment), []
    for record in records:
        array = prepared.one(record.bytes(), box=record.box(treatment))
        found.append(Shown(record.key, record.label, record.split, treatment.undo(array), record))
    return found


def with_predictions(pictures: Sequence[Shown], predicted: str, probability: str | None) -> list[Shown]:
    """The same with what a side column says that they are: right ones marked, wrong ones marked otherwise."""
    marked = []
    for picture in pictures:
        assert picture.record is not None
        side = picture.record.side
        for name in (predicted, probability):
            if name is not None and name not in side:
                raise NotFoundError(f"no record has a side column {name!r}{did_you_mean(name, side)}")
        prediction = side[predicted]
        if prediction is None:
            marked.append(picture)
            continue
        is_right = str(prediction) == picture.label
        sure = None if probability is None or side[probability] is None else f"{float(side[probability]):.2f}"
        below = None if is_right else f"is {picture.label or 'unlabelled'}"
        if sure:
            below = f"{sure}, {below}" if below else f"{sure}  {picture.key.rpartition('/')[2]}"
        mark = "\u2713" if is_right else "\u2717"
        marked.append(replace(picture, headline=f"{mark} {prediction}", below=below, mark=is_right))
    return marked


@runtime_checkable
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


def draw_pairs(found: Doubles, path: str, title: str | None = None) -> None:
    """Draws the first pairs of doubles, the two of each close together."""
    shown = []
    for each in found.pairs[:_PAIRS]:
        for key, label, split in ((each.key, each.label, each.split), (each.other, each.other_label, each.other_split)):
            headline = f"{each.likeness:.2f} {label or 'no label'}"
            mark = False if each.straddles or each.is_two_labels else None
            shown.append(Shown(key, label, split, None, found.records[key], headline, None, mark))
    title = title or f"{found.state.title}: {len(shown) // 2} of {len(found.pairs):,} pairs of doubles, worst first"
    draw_sheet(shown, path, title=title, together=2)


def draw_conflicts(state: State, told: Sequence[tuple[str, str]], path: str, title: str) -> None:
    """Draws the records about which two disagree: their keys, and what stands above each picture."""
    shown = []
    for key, headline in dict(reversed(told[:MOST])).items():
        row = state.manifest.find(key, text_hash(key))
        if row is not None:
            record = state.record(row)
            shown.append(Shown(key, record.label, record.split, None, record, headline))
    draw_sheet(shown[::-1], path, title=title)


@with_plain_texts
def draw_sheet(records: Sequence[Drawable], path: str, *, title: str, together: int = 1) -> None:
    """Draws the pictures, whole, as stored or as they were made, with label, key and split below each.

    So many stand close `together`, in one row.
    """
    if not records:
        raise UsageError("there is no picture to draw")
    from pannier.images.treatment import Treatment

    width, height = int(WIDTH * DPI), int(HEIGHT * DPI)
    columns, side, text = _grid(len(records), width - 2 * _MARGIN, height - _TITLE - _MARGIN, together)
    if side < _SMALLEST:  # so many that the sheet grows downward
        columns, text = (width - 2 * _MARGIN + _GAP) // (_SMALLEST + _GAP) // together * together, 34
        side = (width - 2 * _MARGIN + _GAP) // columns - _GAP
        height = _TITLE + math.ceil(len(records) / columns) * (side + text + _GAP) + _MARGIN
    figure = new_figure(WIDTH, height / DPI)
    small = Preparation(Treatment((side, side), fit="contain", values="raw", dtype="uint8", layout="hwc"))
    step_x, step_y = side + _GAP, side + text + _GAP
    start = (width - (columns * step_x - _GAP)) // 2
    canvas = np.full((height, width, 3), 255, np.uint8)
    for i, record in enumerate(records):
        left, top = start + i % columns * step_x - i % together * (_GAP - 2), _TITLE + i // columns * step_y
        field = canvas[top : top + side, left : left + side]
        field[:] = _drawn(small, record, side)
        if getattr(record, "mark", None) is False:
            _frame(field, max(2, side // 40))
        _tell(figure, record, left / width, top + side + 3, side, height)
    figure.figimage(canvas, 0, 0, zorder=-1)
    figure.text(start / width, 1 - 40 / height, title, fontsize=16, color=INK, weight="bold")
    save_figure(figure, path)


def _tell(figure: Any, record: Drawable, x: float, below: int, side: int, height: int) -> None:
    """What stands below a picture, at `x` of the width and `below` pixels of the height."""
    font = max(5.0, min(11.0, side / 13))
    y, where = 1 - below / height, {"ha": "left", "va": "top"}
    headline = fitted(figure, _headline(record), side, font, "bold")
    figure.text(x, y, headline, color=INK, weight="bold", fontsize=font, **where)
    if side >= 60:
        name = record.key.rpartition("/")[2]
        about = getattr(record, "below", None) or (f"{name} {record.split}" if record.split else name)
        line = 1.25 * font * DPI / 72 / height
        figure.text(
            x, y - line, fitted(figure, about, side, font * 0.85, middle=True), color=FAINT, fontsize=font * 0.85, **where
        )


def _headline(record: Drawable) -> str:
    """What is said of a picture: its own headline, or what is suspicious about it, or else its label."""
    own: str | None = getattr(record, "headline", None)
    if own:
        return own
    kind = getattr(record, "kind", None)
    return ": ".join(each for each in (kind, record.label or (None if kind else "no label")) if each)


def _frame(field: Any, thick: int) -> None:
    """A frame and a cut corner: seen without color too."""
    side = len(field)
    field[:thick] = field[-thick:] = _WRONG
    field[:, :thick] = field[:, -thick:] = _WRONG
    corner = np.add.outer(np.arange(side), np.arange(side)[::-1]) < side // 6
    field[corner] = _WRONG


def _drawn(small: Preparation, record: Drawable, side: int) -> Any:
    """The picture, small; where it cannot be read, a gray field with a cross."""
    pixels = getattr(record, "pixels", None)
    try:
        return small.one(record.bytes() if pixels is None else pixels)
    except PictureError:
        field = np.full((side, side, 3), 225, np.uint8)
        at = np.arange(side)
        field[at, at] = field[at, side - 1 - at] = 140
        return field


def _grid(count: int, width: int, height: int, together: int) -> tuple[int, int, int]:
    """(columns, side of a picture, room for text below it), the largest pictures that fit."""
    best = (together, 8, 10)
    for columns in range(together, count + 1, together):
        rows = math.ceil(count / columns)
        side = (width + _GAP) // columns - _GAP
        text = 34 if side >= 60 else 16
        side = min(side, (height + _GAP) // rows - _GAP - text)
        if side > best[1]:
            best = (columns, side, text)
    return best
