"""Throughput against memory limit, with the machine's ceiling."""

from __future__ import annotations

from typing import Any

from pannier.figures.style import FAINT, INK, TONES, new_figure, plain_axes, save_figure, with_plain_texts
from pannier.measuring.rows import Measurement
from pannier.units import show_bytes

_MARKS = ("o", "s", "^", "D", "v")
_LINES = ("-", "--", "-.", ":", "-")


@with_plain_texts
def draw_measurement(found: Measurement, path: str) -> None:
    """A line for each number of workers; spread as bars, ceilings as faint lines, what did not fit as a cross."""
    figure = new_figure()
    axes = plain_axes(figure, 111)
    figure.subplots_adjust(left=0.09, right=0.86, top=0.84, bottom=0.12)
    limits = sorted({trial.memory_limit_bytes for trial in found.trials}, key=lambda each: (each is None, each or 0))
    places = {limit: place for place, limit in enumerate(limits)}
    top = max([0.0, *(_draw_workers(axes, found, i, places) for i in range(len(found.ceiling)))])
    style = {"ha": "center", "color": FAINT, "fontsize": 10, "xytext": (0, 12), "textcoords": "offset points"}
    for trial in found.trials:
        if trial.status != "ok":
            axes.annotate(trial.status.replace("_", " "), (places[trial.memory_limit_bytes], 0), **style)
    axes.set_xticks(range(len(limits)), ["unlimited" if limit is None else show_bytes(limit) for limit in limits])
    axes.set_xlim(-0.5, len(limits) - 0.5)
    axes.set_ylim(0, top * 1.12 or 1)
    axes.set_xlabel("memory limit, enforced by the system", color=INK, fontsize=11)
    axes.set_ylabel("pictures a second", color=INK, fontsize=11)
    axes.legend(loc="lower left", bbox_to_anchor=(-0.01, 1.0), ncols=5, frameon=False, fontsize=11)
    said = {name.replace("_", " "): value for name, value in found.settings.items() if value is not None}
    about = ", ".join(f"{name} {value}" for name, value in said.items())
    figure.text(0.09, 0.945, "Throughput under a memory limit", fontsize=17, color=INK, weight="bold")
    figure.text(0.09, 0.912, f"{about}; median, 10th to 90th percentile", fontsize=11, color=FAINT)
    save_figure(figure, path)


def _draw_workers(axes: Any, found: Measurement, i: int, places: dict[int | None, int]) -> float:
    """The line of one number of workers with its ceiling, and the highest rate that is in it."""
    ceiling, color = found.ceiling[i], TONES[i % len(TONES)]
    trials = [trial for trial in found.trials if trial.workers == ceiling.workers]
    good = [(places[t.memory_limit_bytes], t.pictures_per_second) for t in trials if t.pictures_per_second]
    shift, top = (i - (len(found.ceiling) - 1) / 2) * 0.06, 0.0
    if good:
        xs, ys = [x + shift for x, _ in good], [rate.median for _, rate in good]
        spread = [[rate.median - rate.low for _, rate in good], [rate.high - rate.median for _, rate in good]]
        style: dict[str, Any] = {"color": color, "marker": _MARKS[i % len(_MARKS)], "linestyle": _LINES[i % len(_LINES)]}
        style |= {"linewidth": 2, "markersize": 9, "capsize": 5}
        name = f"{ceiling.workers} worker" + ("s" if ceiling.workers > 1 else "")
        axes.errorbar(xs, ys, yerr=spread, label=name, **style)
        top = max(rate.high for _, rate in good)
    if ceiling.pictures_per_second:
        height = ceiling.pictures_per_second.median
        axes.axhline(height, color=color, linewidth=1, linestyle=(0, (1, 2)))
        text = f"ceiling of\n{ceiling.workers} bare process" + ("es" if ceiling.workers > 1 else "")
        axes.annotate(text, (1.01, height), xycoords=("axes fraction", "data"), va="center", color=INK, fontsize=10)
        top = max(top, height)
    failed = [places[trial.memory_limit_bytes] + shift for trial in trials if trial.status != "ok"]
    if failed:
        axes.plot(failed, [0] * len(failed), marker="x", linestyle="", color=color, markersize=10, clip_on=False)
    return top
