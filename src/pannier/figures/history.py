"""A strand over time: how many records it had by class, snapshot by snapshot, and what each one changed."""

from __future__ import annotations

from collections import Counter
from typing import Any

import numpy as np

from pannier.errors import UsageError
from pannier.figures.style import FAINT, HATCHES, INK, TONES, fitted, new_figure, plain_axes, save_figure, with_plain_texts
from pannier.versions.history import HistoryStep

# the largest classes are drawn by themselves, the others together
SHOWN_CLASSES = 7
MOST_STEPS = 400
_NAMED_STEPS = 24
_OTHERS = "others"
# pixels beside the bars for a class name
_LEGEND_ROOM = 155


@with_plain_texts
def draw_history(steps: list[HistoryStep], name: str, path: str) -> None:
    """Draws the snapshots of a strand, given newest first, oldest at the left. Raises UsageError where there is none."""
    if not steps:
        raise UsageError("there is no snapshot to draw")
    shown = steps[:MOST_STEPS][::-1]
    figure = new_figure()
    classes, sizes = _by_class(shown)
    above, below = plain_axes(figure), plain_axes(figure)
    right = 0.82
    above.set_position((0.08, 0.36, right - 0.08, 0.5))
    below.set_position((0.08, 0.12, right - 0.08, 0.18))
    _draw_sizes(above, sizes, classes)
    _draw_changes(below, shown)
    for axes in (above, below):
        axes.set_xlim(-0.6, len(shown) - 0.4)
    _name_steps(above, below, shown, sizes)
    what = f"{len(shown):,} of {len(steps):,} snapshots" if len(shown) < len(steps) else f"{len(steps):,} snapshots"
    figure.text(0.08, 0.945, f"{name}: {shown[-1].records:,} records", fontsize=17, color=INK, weight="bold")
    days = " to ".join(dict.fromkeys((shown[0].time[:10], shown[-1].time[:10])))
    figure.text(0.08, 0.912, f"{what}, {days}", fontsize=11, color=FAINT)
    save_figure(figure, path)


def _by_class(steps: list[HistoryStep]) -> tuple[list[str], Any]:
    """The classes to draw, smallest numbers of records last, and (classes, steps) numbers."""
    totals: Counter[str] = Counter()
    rows: list[Counter[str]] = []
    for step in steps:
        row: Counter[str] = Counter()
        for label, _, count in step.counts:
            row[label or "no label"] += count
        rows.append(row)
        totals |= row
    largest = [name for name, _ in totals.most_common(SHOWN_CLASSES)]
    rest = [name for name in totals if name not in largest]
    names = sorted(largest) + ([_OTHERS] if rest else [])
    sizes = [[row[name] if name != _OTHERS else sum(row[each] for each in rest) for row in rows] for name in names]
    return names, np.array(sizes, float)


def _draw_sizes(axes: Any, sizes: Any, classes: list[str]) -> None:
    start = np.zeros(sizes.shape[1])
    places = np.arange(sizes.shape[1])
    width = 0.72 if sizes.shape[1] <= 60 else 1.0
    for i, name in enumerate(classes):
        tone, hatch = TONES[i % len(TONES)], HATCHES[i % len(HATCHES)] or ("" if i < len(TONES) else "..")
        look = {"color": tone, "hatch": hatch, "edgecolor": "white", "linewidth": 0.4}
        axes.bar(places, sizes[i], width, bottom=start, label=name, **look)
        start += sizes[i]
    axes.set_ylabel("records", color=INK, fontsize=11)
    axes.set_ylim(0, max(1.0, start.max()) * 1.12)
    axes.set_xticks([])
    handles, names = axes.get_legend_handles_labels()
    names = [fitted(axes.figure, name, _LEGEND_ROOM, 11, middle=True) for name in names]
    axes.legend(handles[::-1], names[::-1], loc="upper left", bbox_to_anchor=(1.01, 1.0), frameon=False, fontsize=11)


def _draw_changes(axes: Any, steps: list[HistoryStep]) -> None:
    """What came above the line, what went below it, and what was changed otherwise as a mark."""
    came = np.array([step.totals.get("added", 0) for step in steps], float)
    went = np.array([step.totals.get("removed", 0) for step in steps], float)
    others = [{**step.totals, "added": 0, "removed": 0} for step in steps]
    other = np.array([sum(totals.values()) for totals in others], float)
    places = np.arange(len(steps))
    axes.bar(places, came, 0.5, color=TONES[0], label="added")
    axes.bar(places, -went, 0.5, color=TONES[4], hatch="//", edgecolor="white", label="removed")
    marked = np.flatnonzero(other)
    axes.plot(marked, other[marked], "D", color=TONES[3], markeredgecolor=INK, markersize=6, label="changed")
    axes.axhline(0, color=FAINT, linewidth=1)
    axes.set_yscale("symlog", linthresh=1)
    axes.set_ylim(-max(1.0, went.max()) * 1.8 if went.any() else 0, max(1.0, came.max(), other.max()) * 1.8)
    axes.yaxis.set_major_formatter(lambda value, _: f"{abs(value):,.0f}")
    axes.set_ylabel("changes", color=INK, fontsize=11)
    axes.legend(loc="upper left", bbox_to_anchor=(1.01, 1.0), frameon=False, fontsize=11)


def _name_steps(above: Any, below: Any, steps: list[HistoryStep], sizes: Any) -> None:
    """Ids below the bars; above them the names that stand there, and what was noted."""
    tops = sizes.sum(axis=0)
    every = max(1, -(-len(steps) // _NAMED_STEPS))
    ticks = list(range(0, len(steps), every))
    below.set_xticks(ticks, [steps[i].id[:6] for i in ticks], rotation=0 if len(ticks) <= 12 else 45, fontsize=9)
    room = int(110 / max(1, len(ticks)))
    for i, step in enumerate(steps):
        if step.names:
            look = {"ha": "center", "va": "bottom", "fontsize": 10, "color": INK, "weight": "bold"}
            above.text(i, tops[i], f"[{', '.join(step.names)}]", **look)
    if room >= 8:
        for i in ticks:
            note = steps[i].note
            shown = note if len(note) <= room else note[: room - 1] + "…"
            look = {"ha": "center", "va": "top", "fontsize": 9, "color": FAINT}
            above.text(i, -0.02, shown, transform=above.get_xaxis_transform(), **look)
