"""Statistics of a split: how often each value is there, by channel."""

from __future__ import annotations

import numpy as np

from pannier.feeding.statistics import Statistics
from pannier.figures.style import CHANNELS, FAINT, INK, TONES, new_figure, plain_axes, save_figure, with_plain_texts


@with_plain_texts
def draw_statistics(found: Statistics, path: str, *, title: str) -> None:
    """How often each value is there by channel, with mean and deviation."""
    figure, counts = new_figure(), found.counts
    figure.text(0.07, 0.93, title, fontsize=17, color=INK, weight="bold")
    figure.text(0.07, 0.89, f"{found.through_in_words}; padding counts too", fontsize=11, color=FAINT)
    axes = plain_axes(figure)
    axes.set_position((0.07, 0.1, 0.88, 0.74))
    total = counts.sum(axis=1, keepdims=True)
    names = ("gray",) if len(counts) == 1 else ("red", "green", "blue")
    for row, name, (color, line), m, s in zip(counts / total * 100, names, CHANNELS, found.mean, found.std, strict=False):
        color = INK if len(counts) == 1 else color
        axes.plot(np.arange(256), row, line, color=color, linewidth=1.8, label=f"{name}   mean {m:.4f}   std {s:.4f}")
        axes.axvline(m * 255, color=color, linestyle=line, linewidth=1, alpha=0.7)
    inner = np.sort((counts / total * 100)[:, 1:255].ravel())
    axes.set_ylim(0, max(float(inner[-1]) * 1.25, 1e-9))
    axes.set_xlim(0, 255)
    axes.set_xlabel("value of a pixel", fontsize=11, color=INK)
    axes.set_ylabel("% of the channel's pixels", fontsize=11, color=INK)
    axes.legend(frameon=False, fontsize=12, loc="upper right")
    for at, side in ((0, "left"), (255, "right")):
        share = float((counts / total)[:, at].max() * 100)
        if share > axes.get_ylim()[1]:
            look = {"fontsize": 10, "color": TONES[4], "ha": side, "va": "top", "textcoords": "offset points"}
            axes.annotate(f"{share:.1f} % at {at}", (at, axes.get_ylim()[1]), xytext=(8 if at == 0 else -8, -4), **look)
    save_figure(figure, path)
