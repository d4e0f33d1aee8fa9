"""A measurement as a figure: throughput with its ceilings, what the work consists of, how long batches are waited for."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np

from pannier.errors import SourceError
from pannier.figures.style import (
    FAINT,
    HATCHES,
    INK,
    TONES,
    log_ticks,
    new_figure,
    plain_axes,
    save_figure,
    with_plain_texts,
)
from pannier.measuring.measurement import Measurement
from pannier.measuring.rows import Trial
from pannier.measuring.settings import source_in_short
from pannier.units import show_bytes

# of the tones those that a thin line can have, the strongest first
_COLORS = tuple(TONES[i] for i in (0, 4, 1, 5, 3, 2))
_MARKS = ("o", "s", "^", "D", "v", "P")
_LINES = ("-", "--", "-.", ":", (0, (5, 1)), (0, (1, 1)))
MOST_LINES = 6
# lines further apart than this are drawn on a logarithmic scale
LOGARITHMIC_FROM = 8

# what may stand along the figure, the first that has several values does
_ALONG = {
    "memory_limit_bytes": "memory limit, enforced by the system",
    "workers": "workers",
    "batch_size": "pictures a batch",
    "processes": "processes, 0 for threads",
    "size": "size of a picture, pixels",
    "ahead": "batches kept ready",
}
_STAGES = {"read": "reading", "decode": "decoding", "prepare": "geometry, values", "hand_over": "handing over"}
_PERCENTILES = {"50": "|", "90": "o", "99": "D", "100": "x"}


@with_plain_texts
def draw_measurement(found: Measurement, path: str) -> None:
    """Rates along what was varied, a line for all else; spread as bars, ceilings as faint lines, failures as crosses.

    Beside it, of the fastest trial of each line, the parts of the threads' work, and the waits for a batch.
    """
    figure = new_figure()
    along = next((name for name in _ALONG if len({getattr(t, name) for t in found.trials}) > 1), "memory_limit_bytes")
    lines = _lines(found, along)
    axes = plain_axes(figure, 111)
    axes.set_position((0.09, 0.11, 0.48, 0.68))
    _draw_rates(axes, found, along, lines)
    fastest = [max(trials, key=lambda trial: trial.rate) for trials in lines.values()]
    shown = [(name, trial) for name, trial in zip(lines, fastest, strict=True) if trial.rate]
    if shown:
        _draw_stages(figure, shown)
        _draw_waits(figure, shown)
    figure.text(0.09, 0.94, "Throughput under memory limits", fontsize=17, color=INK, weight="bold")
    figure.text(0.09, 0.905, _told(found), fontsize=11, color=FAINT)
    save_figure(figure, path)


def _told(found: Measurement) -> str:
    try:
        return found.answer.sentences[0]
    except SourceError:
        return "Every trial failed."


def _lines(found: Measurement, along: str) -> dict[str, list[Trial]]:
    """The trials of each line, by its name: what else was varied. Of many lines those that reach highest."""
    varied = [name for name in ("source", *_ALONG) if name != along and len({getattr(t, name) for t in found.trials}) > 1]
    lines: dict[str, list[Trial]] = {}
    for trial in found.trials:
        name = ", ".join(_worded(each, getattr(trial, each)) for each in varied if each != "ahead")
        lines.setdefault(name or _worded("workers", trial.workers), []).append(trial)
    by_height = sorted(lines, key=lambda name: -max(trial.rate for trial in lines[name]))[:MOST_LINES]
    return {name: trials for name, trials in lines.items() if name in by_height}


def _worded(name: str, value: Any) -> str:
    if name == "memory_limit_bytes":
        return "no limit" if value is None else show_bytes(value)
    if name == "size":
        return "x".join(map(str, value))
    if name == "source":
        return source_in_short(value)
    if name == "batch_size":
        return f"batches of {value}"
    if name == "processes" and not value:
        return "threads"
    one = {"workers": "worker", "processes": "process", "ahead": "ahead"}[name]
    many = {"worker": "workers", "process": "processes", "ahead": "ahead"}[one]
    return f"{value} {one if value == 1 else many}"


def _draw_rates(axes: Any, found: Measurement, along: str, lines: dict[str, list[Trial]]) -> None:
    values = sorted({getattr(trial, along) for trial in found.trials}, key=lambda each: (each is None, each or 0))
    places = {value: place for place, value in enumerate(values)}
    ceilings = {(row.size, row.source, row.workers): row.rate for row in found.ceiling}
    heights = [trial.rate for trials in lines.values() for trial in trials if trial.rate]
    for i, (name, trials) in enumerate(lines.items()):
        shift, color = (i - (len(lines) - 1) / 2) * 0.06, _COLORS[i]
        best: dict[int, Trial] = {}
        for trial in trials:
            at = places[getattr(trial, along)]
            if at not in best or trial.rate > best[at].rate:
                best[at] = trial
        good = {at: trial for at, trial in sorted(best.items()) if trial.rate}
        rates = [trial.pictures_per_second for trial in good.values() if trial.pictures_per_second]
        spread = [[rate.median - rate.low for rate in rates], [rate.high - rate.median for rate in rates]]
        style: dict[str, Any] = {"color": color, "marker": _MARKS[i], "linestyle": _LINES[i], "linewidth": 2}
        style |= {"label": name, "markersize": 8, "capsize": 4}
        axes.errorbar([at + shift for at in good], [rate.median for rate in rates], yerr=spread, **style)
        tops = [ceilings.get((trial.size, trial.source, trial.workers), np.nan) for trial in good.values()]
        heights += [top for top in tops if top == top]
        _draw_ceiling(axes, [*good], tops, color)
        for at, trial in best.items():
            if not trial.rate:
                axes.plot(at + shift, 0.03, marker="x", color=color, markersize=10, transform=axes.get_xaxis_transform())
                words = {"xytext": (0, 12), "textcoords": "offset points", "ha": "center", "color": FAINT, "fontsize": 10}
                axes.annotate(trial.status.replace("_", " "), (at, 0.03), xycoords=axes.get_xaxis_transform(), **words)
    axes.set_xticks(range(len(values)), [_tick(along, value) for value in values])
    axes.set_xlim(-0.5, len(values) - 0.5)
    if heights and max(heights) > LOGARITHMIC_FROM * min(heights):
        axes.set_yscale("log")
        axes.set_ylim(min(heights) / 1.5, max(heights) * 1.5)
        log_ticks(axes.yaxis, lambda value, _: f"{value:,.0f}")
    else:
        axes.set_ylim(0, max(heights, default=1) * 1.12)
        axes.yaxis.set_major_formatter(lambda value, _: f"{value:,.0f}")
    axes.set_xlabel(_ALONG[along], color=INK, fontsize=11)
    axes.set_ylabel("pictures a second: median, 10th to 90th percentile", color=INK, fontsize=11)
    axes.plot([], [], color=INK, linewidth=1, linestyle=(0, (1, 2)), label="ceiling: bare processes")
    columns = 2 if max(map(len, lines)) > 20 else 3
    axes.legend(loc="lower left", bbox_to_anchor=(-0.02, 1.0), ncols=columns, frameon=False, fontsize=10)


def _draw_ceiling(axes: Any, places: Sequence[int], tops: Sequence[float], color: str) -> None:
    """What bare processes do, at each place of a line."""
    for at, top in zip(places, tops, strict=True):
        axes.plot([at - 0.4, at + 0.4], [top, top], color=color, linewidth=1, linestyle=(0, (1, 2)))


def _tick(along: str, value: Any) -> str:
    if along == "memory_limit_bytes":
        return "unlimited" if value is None else show_bytes(value)
    return "x".join(map(str, value)) if along == "size" else str(value)


def _beside(figure: Any, place: tuple[float, float, float, float], title: str, shown: Sequence[tuple[str, Trial]]) -> Any:
    """Axes with a row for each trial, named by its line."""
    axes = plain_axes(figure, 111, grid="x")
    axes.set_position(place)
    axes.set_yticks(range(len(shown)), [name for name, _ in shown], fontsize=10)
    axes.set_ylim(len(shown) - 0.4, -0.6)
    axes.set_title(title, loc="left", fontsize=11, color=INK)
    return axes


def _draw_stages(figure: Any, shown: Sequence[tuple[str, Trial]]) -> None:
    axes = _beside(figure, (0.72, 0.53, 0.25, 0.26), "parts of the threads' work", shown)
    for row, (_, trial) in enumerate(shown):
        left = 0.0
        for i, name in enumerate(_STAGES):
            share, label = trial.stages.get(name, 0.0), _STAGES[name] if not row else None
            style: dict[str, Any] = {"color": TONES[i], "hatch": HATCHES[i], "edgecolor": "white", "linewidth": 0.5}
            axes.barh(row, share, left=left, height=0.6, label=label, **style)
            left += share
    axes.set_xlim(0, 1)
    axes.xaxis.set_major_formatter(lambda value, _: f"{value:.0%}")
    axes.legend(loc="lower left", bbox_to_anchor=(-0.05, 1.08), ncols=2, frameon=False, fontsize=9)


def _draw_waits(figure: Any, shown: Sequence[tuple[str, Trial]]) -> None:
    axes = _beside(figure, (0.72, 0.11, 0.25, 0.26), "waiting for a batch, milliseconds", shown)
    for row, (_, trial) in enumerate(shown):
        waits = {name: max(1e-3, wait) for name, wait in trial.waits_ms.items()}
        axes.plot(list(waits.values()), [row] * len(waits), color=FAINT, linewidth=1)
        for name, wait in waits.items():
            label = ("longest" if name == "100" else f"{name} %") if not row else None
            axes.plot(wait, row, marker=_PERCENTILES[name], color=TONES[0], linestyle="", markersize=8, label=label)
    axes.set_xscale("log")
    shortest, longest = (
        end(max(1e-3, wait) for _, trial in shown for wait in trial.waits_ms.values()) for end in (min, max)
    )
    axes.set_xlim(shortest / 2, longest * 2)
    log_ticks(axes.xaxis, lambda value, _: f"{value:g}")
    axes.legend(loc="lower left", bbox_to_anchor=(-0.05, 1.08), ncols=4, frameon=False, fontsize=9, handletextpad=0.2)
