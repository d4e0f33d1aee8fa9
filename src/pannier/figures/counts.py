"""How many records a class has in each split, and how large the pictures are."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from pannier.figures.style import FAINT, HATCHES, INK, TONES, new_figure, plain_axes, save_figure

if TYPE_CHECKING:
    from pannier.store.snapshot import Snapshot

SHOWN_CLASSES = 40


def draw_counts(snapshot: Snapshot, path: str) -> None:
    """Stacked bars by class and split; beside them every picture's width and height."""
    figure = new_figure()
    counts = snapshot.counts
    labels: list[str | None] = [*snapshot.classes]
    if any(label is None for label, _ in counts):
        labels.append(None)
    totals = {label: sum(n for (each, _), n in counts.items() if each == label) for label in labels}
    shown = sorted(labels, key=lambda label: -totals[label])[:SHOWN_CLASSES]
    shown = [label for label in labels if label in shown]
    splits: list[str | None] = [*snapshot.splits]
    if any(split is None for _, split in counts):
        splits.append(None)

    grid = figure.add_gridspec(1, 2, width_ratios=(3, 2), left=0.12, right=0.97, top=0.84, bottom=0.1, wspace=0.22)
    axes = plain_axes(figure, grid[0], grid="x")
    start = np.zeros(len(shown))
    for i, split in enumerate(splits):
        sizes = np.array([counts.get((label, split), 0) for label in shown], float)
        axes.barh(
            np.arange(len(shown)),
            sizes,
            left=start,
            height=0.7,
            color=TONES[i % len(TONES)],
            hatch=HATCHES[i % len(HATCHES)],
            edgecolor="white",
            label=split or "no split",
        )
        start += sizes
    for y, total in enumerate(start):
        axes.text(total + start.max() * 0.01, y, f"{int(total):,}", va="center", color=INK, fontsize=10)
    axes.set_yticks(np.arange(len(shown)), [label or "no label" for label in shown])
    axes.set_ylim(len(shown) - 0.4, -0.6)
    axes.set_xlim(0, start.max() * 1.1 if len(shown) else 1)
    axes.set_xlabel("records", color=INK, fontsize=11)
    axes.legend(loc="lower left", bbox_to_anchor=(-0.01, 1.0), ncols=5, frameon=False, fontsize=11)
    if len(labels) > len(shown):
        axes.set_title(f"the {len(shown)} largest of {len(labels)} classes", loc="right", fontsize=10, color=FAINT)

    sizes_axes = plain_axes(figure, grid[1], grid="both")
    widths, heights = snapshot.manifest.column("width"), snapshot.manifest.column("height")
    keep = np.linspace(0, max(0, len(widths) - 1), min(len(widths), 20_000)).astype(int)
    sizes_axes.plot(widths[keep], heights[keep], "o", markersize=4, alpha=0.35, color=TONES[0], markeredgewidth=0)
    sizes_axes.set_xscale("log", base=2)
    sizes_axes.set_yscale("log", base=2)
    for axis in (sizes_axes.xaxis, sizes_axes.yaxis):
        axis.set_major_formatter(lambda value, _: f"{value:.0f}")
    sizes_axes.set_xlabel("width in pixels", color=INK, fontsize=11)
    sizes_axes.set_ylabel("height in pixels", color=INK, fontsize=11)
    sizes_axes.set_aspect("equal", adjustable="datalim")

    figure.text(0.12, 0.945, f"{snapshot.store.path.name}: {len(snapshot):,} records", fontsize=17, color=INK, weight="bold")
    about = f"snapshot {snapshot.id[:12]}, {snapshot.time}" + (f", {snapshot.note}" if snapshot.note else "")
    figure.text(0.12, 0.912, about, fontsize=11, color=FAINT)
    save_figure(figure, path)
