"""How many pictures a class has in each split, and how large they are; readable for one class and for 150."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np

from pannier.figures.style import (
    FAINT,
    HATCHES,
    INK,
    TONES,
    fitted,
    new_figure,
    plain_axes,
    save_figure,
    text_width,
    with_plain_texts,
)
from pannier.sources.findings import Findings
from pannier.store.state import State

# classes in one column of bars, and the most that are drawn
CLASSES_A_COLUMN = 50
MOST_CLASSES = 200
SHOWN_PICTURES = 20_000

Counts = Mapping[tuple[str | None, str | None], int]


def draw_counts(snapshot: State, path: str) -> None:
    """A snapshot's records by class and split; beside them every picture's width and height."""
    about = f"snapshot {snapshot.id[:12]}, {snapshot.time}" + (f", {snapshot.note}" if snapshot.note else "")
    title = f"{snapshot.title}: {len(snapshot):,} records"
    sizes = np.stack([snapshot.manifest.column("width"), snapshot.manifest.column("height")])
    _draw(snapshot.counts, snapshot.classes, list(snapshot.splits), sizes, title, about, path)


def draw_findings(findings: Findings, path: str) -> None:
    """A surveyed source's usable pictures by class and split; beside them their widths and heights."""
    harmful = [problem for problem in findings.problems if problem.is_harmful]
    about = "; ".join(f"{problem.kind}: {problem.count:,}" for problem in harmful) or "nothing that harms training was found"
    sizes = np.stack([findings.table.column(name).to_numpy() for name in ("width", "height")])
    title = f"{findings.source}: {findings.pictures:,} pictures"
    _draw(findings.counts, findings.classes, findings.splits, sizes, title, about, path)


def draw_sizes(snapshot: State, path: str) -> None:
    """Every picture's width and height alone, small."""
    figure = new_figure(4.6, 4.4)
    sizes = np.stack([snapshot.manifest.column("width"), snapshot.manifest.column("height")])
    _sizes(plain_axes(figure, grid="both"), sizes, (0.17, 0.14, 0.8, 0.83))
    save_figure(figure, path)


@with_plain_texts
def _draw(
    counts: Counts, classes: Sequence[str], known_splits: Sequence[str], sizes: Any, title: str, about: str, path: str
) -> None:
    figure = new_figure()
    labels: list[str | None] = [*classes, *([None] if any(label is None for label, _ in counts) else [])]
    splits: list[str | None] = [*known_splits, *([None] if any(split is None for _, split in counts) else [])]
    totals = {label: sum(counts.get((label, split), 0) for split in splits) for label in labels}
    kept = set(sorted(labels, key=lambda label: -totals[label])[:MOST_CLASSES])
    shown = [label for label in labels if label in kept]
    columns = max(1, math.ceil(len(shown) / CLASSES_A_COLUMN))
    rows = math.ceil(len(shown) / columns) if shown else 1
    bars, scatter = (0.62, 0.28) if columns == 1 else (0.78, 0.15)
    width, font = (bars - 0.03) / columns, min(11.0, 380 / rows)
    longest = max((text_width(figure, label or "no label", font) for label in shown), default=0)
    beside = min(longest / figure.bbox.width + 0.01, 0.55 * width)  # for class names, of each column's width
    left = 0.03 + beside
    for column in range(columns):
        axes = plain_axes(figure, grid="x")
        axes.set_position((left + column * width, 0.1, width - beside - 0.02 * (columns > 1), 0.74))
        own = shown[column * rows : (column + 1) * rows]
        names = [fitted(figure, label or "no label", beside * figure.bbox.width - 8, font, middle=True) for label in own]
        _bars(axes, counts, own, names, splits, max(totals.values(), default=1), rows)
        if column == 0 and splits != [None]:
            axes.legend(loc="lower left", bbox_to_anchor=(-0.01, 1.0), ncols=6, frameon=False, fontsize=11)
    if len(labels) > len(shown):
        figure.text(0.97, 0.945, f"the {len(shown)} largest of {len(labels)} classes", ha="right", fontsize=10, color=FAINT)
    _sizes(plain_axes(figure, grid="both"), sizes, (0.97 - scatter, 0.1, scatter, 0.74))
    figure.text(0.03, 0.945, title, fontsize=17, color=INK, weight="bold")
    figure.text(0.03, 0.912, about, fontsize=11, color=FAINT)
    save_figure(figure, path)


def _bars(
    axes: Any,
    counts: Counts,
    labels: Sequence[str | None],
    names: Sequence[str],
    splits: Sequence[str | None],
    largest: int,
    rows: int,
) -> None:
    """Stacked bars of some classes, which are written as `names`, in `rows` of room."""
    start = np.zeros(len(labels))
    for i, split in enumerate(splits):
        sizes = np.array([counts.get((label, split), 0) for label in labels], float)
        tone, hatch = TONES[i % len(TONES)], HATCHES[i % len(HATCHES)] if rows <= 30 else ""
        look = {"color": tone, "hatch": hatch, "edgecolor": "white", "label": split or "no split"}
        axes.barh(np.arange(len(labels)), sizes, left=start, height=0.7, **look)
        start += sizes
    font = min(11.0, 380 / rows)
    for y, total in enumerate(start):
        axes.text(total + largest * 0.01, y, f"{int(total):,}", va="center", color=INK, fontsize=font * 0.9)
    axes.set_yticks(np.arange(len(labels)), names)
    axes.tick_params(axis="y", labelsize=font, length=0)
    axes.set_ylim(rows - 0.4, -0.6)
    axes.set_xlim(0, largest * 1.15)
    axes.set_xlabel("pictures", color=INK, fontsize=11)


def _sizes(axes: Any, sizes: Any, place: tuple[float, float, float, float]) -> None:
    """Widths and heights, a dot a picture."""
    axes.set_position(place)
    count = sizes.shape[1]
    keep = np.linspace(0, max(0, count - 1), min(count, SHOWN_PICTURES)).astype(int)
    axes.plot(sizes[0][keep], sizes[1][keep], "o", markersize=4, alpha=0.35, color=TONES[0], markeredgewidth=0)
    axes.set_xscale("log", base=2)
    axes.set_yscale("log", base=2)
    for axis in (axes.xaxis, axes.yaxis):
        axis.set_major_formatter(lambda value, _: f"{value:.0f}")
    axes.set_xlabel("width in pixels", color=INK, fontsize=11)
    axes.set_ylabel("height in pixels", color=INK, fontsize=11)
    if count:
        limits = (sizes.min() / 1.2, sizes.max() * 1.2)
        axes.set_xlim(*limits)
        axes.set_ylim(*limits)
    axes.set_box_aspect(1)
