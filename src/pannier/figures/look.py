"""One picture through a treatment: every step side by side with its histogram and numbers, or its variations on a grid."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import Any

import numpy as np

from pannier.figures.style import CHANNELS, DPI, FAINT, GRID, HEIGHT, INK, WIDTH, new_figure, save_figure, with_plain_texts
from pannier.images.seen import Stage

_LEFT, _TOP = 0.025, 0.9
_BINS = 48
_PIXEL = 1 / (HEIGHT * DPI)


@with_plain_texts
def draw_look(rows: Sequence[tuple[str, Sequence[Stage]]], path: str, *, title: str) -> None:
    """A row for each treatment: (its name, its stages)."""
    figure = new_figure()
    figure.text(_LEFT, 0.945, title, fontsize=16, color=INK, weight="bold")
    height = (_TOP - 0.03) / len(rows)
    if rows[0][1][0].picture.shape[2] == 3:
        _explain_lines(figure)
    for i, (name, stages) in enumerate(rows):
        _draw_row(figure, stages, name if len(rows) > 1 else "", _TOP - i * height, height)
    save_figure(figure, path)


def _explain_lines(figure: Any) -> None:
    """Which line of the histograms is which channel."""
    from matplotlib.lines import Line2D

    lines = [Line2D([], [], color=color, linestyle=line, linewidth=1.4) for color, line in CHANNELS]
    place = {"loc": "upper right", "bbox_to_anchor": (1 - _LEFT, 0.985)}
    figure.legend(lines, ["red", "green", "blue"], ncols=3, frameon=False, **place)


def _draw_row(figure: Any, stages: Sequence[Stage], name: str, top: float, height: float) -> None:
    columns = len(stages)
    step = (1 - 2 * _LEFT + 0.012) / columns
    width = step - 0.012
    named = 0.03 if name else 0.0
    if name:
        figure.text(_LEFT, top - 0.022, name, fontsize=12, color=INK, weight="bold")
    tall = height - named
    has_patch = tall > 0.6
    picture = min(width * WIDTH / HEIGHT, tall * (0.36 if has_patch else 0.5))
    for i, stage in enumerate(stages):
        left, y = _LEFT + i * step, top - named
        figure.text(left, y - 0.022, stage.name, fontsize=11, color=INK, weight="bold")
        box = figure.add_axes((left, y - 0.034 - picture, width, picture))
        _show(box, stage.picture)
        y -= 0.034 + picture + 0.026
        for line in _lines(stage, has_patch):
            figure.text(left, y, line, fontsize=9, color=INK if line == stage.shape else FAINT)
            y -= 0.022
        room = max(0.05, y - (top - height) - (0.17 if has_patch else 0.03))
        axes = figure.add_axes((left, y - room + 0.008, width, room))
        _histogram(axes, stage)
        if has_patch:
            _patch(figure, stage, left, y - room - 0.045, width)


def _lines(stage: Stage, is_tall: bool) -> list[str]:
    ends = f"{_number(stage.lowest, stage)} to {_number(stage.highest, stage)}"
    lines = [stage.shape, f"{stage.array.dtype}, {ends}"]
    if is_tall:
        lines.append("mean " + " ".join(map(_number, stage.means)))
        lines.append("std  " + " ".join(map(_number, stage.deviations)))
    return lines


def _number(value: float, stage: Stage | None = None) -> str:
    """Three digits or so; whole numbers where the stage's values are."""
    is_whole = stage is not None and stage.array.dtype == np.uint8
    return f"{value:.0f}" if is_whole or abs(value) >= 20 else f"{value:.2f}".replace("-0.00", "0.00")


def _show(axes: Any, picture: Any) -> None:
    gray = picture.shape[2] == 1
    pixels, cmap = (picture[:, :, 0], "gray") if gray else (picture, None)
    axes.imshow(pixels, cmap=cmap, vmin=0, vmax=255, interpolation="antialiased")
    axes.set_anchor("NW")
    axes.set_xticks([])
    axes.set_yticks([])
    for spine in axes.spines.values():
        spine.set_color(GRID)


def _histogram(axes: Any, stage: Stage) -> None:
    """How often each value is there, a line for each channel; heights are relative to the second highest bin."""
    low, high = stage.lowest, stage.highest
    if stage.array.dtype == np.uint8:
        edges = np.arange(low, high + 2 * _BINS, max(1, math.ceil((high - low + 1) / _BINS)), dtype=float)
        edges = edges[: np.searchsorted(edges, high, side="right") + 1]
    else:
        edges = np.linspace(low, high if high > low else low + 1, _BINS + 1)
    for channel, (color, line) in zip(stage.by_channel, CHANNELS, strict=False):
        counts, _ = np.histogram(channel, edges)
        most = (np.sort(counts)[-2] if len(counts) > 1 else 0) or counts.max() or 1
        heights = np.minimum(counts / most, 1.15)
        single = len(stage.by_channel) == 1
        axes.plot(edges[:-1], heights, line if not single else "-", color=INK if single else color, linewidth=1.2)
    axes.set_ylim(0, 1.2)
    axes.set_yticks([])
    axes.set_xlim(low, high if high > low else low + 1)
    axes.set_xticks([low, high], [_number(low, stage), _number(high, stage)], fontsize=8, color=FAINT)
    axes.get_xticklabels()[0].set_ha("left")
    axes.get_xticklabels()[1].set_ha("right")
    axes.tick_params(length=2, color=FAINT, pad=2)
    for side in ("top", "right", "left"):
        axes.spines[side].set_visible(False)
    axes.spines["bottom"].set_color(FAINT)


def _patch(figure: Any, stage: Stage, left: float, y: float, width: float) -> None:
    """The numbers in the middle of the picture, as they stand in memory."""
    what = "in the middle" if len(stage.by_channel) == 1 else "red, in the middle"
    figure.text(left, y, what, fontsize=8, color=FAINT)
    patch = stage.patch
    step = width / max(4, patch.shape[1])
    for i, row in enumerate(patch):
        for j, value in enumerate(row):
            figure.text(left + j * step, y - 0.022 * (i + 1), _number(float(value), stage), fontsize=8, color=INK)


@with_plain_texts
def draw_variations(pictures: Sequence[Any], words: Sequence[Sequence[tuple[str, str]]], path: str, *, title: str) -> None:
    """Variations of one picture on a grid, with the numbers that were drawn under each."""
    figure = new_figure()
    figure.text(_LEFT, 0.945, title, fontsize=16, color=INK, weight="bold")
    columns, side, lines, size = _grid(len(pictures), max(map(len, words), default=0), pictures[0].shape)
    line = 1.5 * size * DPI / 72 * _PIXEL
    wide = (1 - 2 * _LEFT) / columns
    for i, (picture, drawn) in enumerate(zip(pictures, words, strict=True)):
        left = _LEFT + i % columns * wide
        top = _TOP - i // columns * (side[0] + lines * line + 0.02)
        axes = figure.add_axes((left, top - side[0], side[1], side[0]))
        _show(axes, picture)
        half = math.ceil(len(drawn) / 2) if lines < len(drawn) else len(drawn)
        for j, (name, text) in enumerate(drawn):
            x = left + (0 if j < half else wide * 0.5)
            color = FAINT if text == "-" else INK
            figure.text(x, top - side[0] - line * (j % half + 1), f"{name} {text}", fontsize=size, color=color)
    save_figure(figure, path)


def _grid(count: int, words: int, shape: tuple[int, ...]) -> tuple[int, tuple[float, float], int, float]:
    """(columns, (height, width) of a picture as shares of the figure, lines below it, font size): the largest that fits."""
    best: tuple[float, Any] = (0.0, None)
    size = 9.0 if count <= 24 else 7.0
    for columns in range(1, count + 1):
        rows = math.ceil(count / columns)
        wide = (1 - 2 * _LEFT) / columns
        lines = words if wide < 0.16 else math.ceil(words / 2)
        tall = (_TOP - 0.03) / rows - 0.02 - lines * 1.5 * size * DPI / 72 * _PIXEL
        width = min((wide - 0.012) * WIDTH, tall * HEIGHT * shape[1] / shape[0])
        height = width * shape[0] / shape[1]
        if height > best[0]:
            best = (height, (columns, (height / HEIGHT, width / WIDTH), lines, size))
    return best[1] or (1, (0.2, 0.2), words, size)
