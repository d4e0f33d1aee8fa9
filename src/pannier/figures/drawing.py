"""Whatever a call gave back, as a figure."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any

from pannier.errors import UsageError
from pannier.feeding.statistics import Statistics
from pannier.figures.counts import draw_counts, draw_findings
from pannier.figures.history import draw_history
from pannier.figures.look import draw_look
from pannier.figures.measurement import draw_measurement
from pannier.figures.sheet import MOST, Drawable, draw_conflicts, draw_pairs, draw_sheet
from pannier.figures.statistics import draw_statistics
from pannier.images.seen import Stage
from pannier.measuring.measurement import Measurement
from pannier.packing.pack import PackResult
from pannier.packing.two_sides import MergeResult
from pannier.sources.findings import Findings
from pannier.store.state import State
from pannier.versions.comparing import Comparison
from pannier.versions.doubles import Doubles
from pannier.versions.history import HistoryStep


def draw(what: Any, path: str | Path, *, title: str | None = None) -> None:
    """Draws what a call gave back into a PNG, PDF or SVG, 1280 x 800 pixels.

    A snapshot and what a survey found: classes by splits, sizes. A comparison: pictures that differ. A measurement:
    throughput against memory limit. Statistics: values by channel. A history: records and changes. Stages: a picture after
    every step. Doubles: pairs side by side. What packing or merging gave back: the pictures in conflict. Records, or what a
    survey suspects: a sheet of them. title: above it, in place of its own; snapshots, surveys and measurements have one.
    Raises UsageError for anything else, and where there is nothing to draw.
    """
    file = str(path)
    kinds: dict[type, Callable[[], None]] = {
        State: lambda: draw_counts(what, file),
        Findings: lambda: draw_findings(what, file),
        Measurement: lambda: draw_measurement(what, file),
        PackResult: lambda: _draw_conflicts(
            what.state,
            [(each.key, each.here, each.in_source) for each in what.conflicts],
            file,
            title or f"{len(what.conflicts):,} in conflict: here | in the source",
        ),
        MergeResult: lambda: _draw_conflicts(
            what.state,
            [(each.key, each.ours, each.theirs) for each in what.conflicts],
            file,
            title or f"{len(what.conflicts):,} in conflict: ours | theirs",
        ),
        Doubles: lambda: draw_pairs(what, file, title),
        Comparison: lambda: _draw_comparison(what, file, title),
        Statistics: lambda: draw_statistics(what, file, title=title or f"{what.split or 'all records'}: values by channel"),
        list: lambda: _draw_several(what, file, title),
    }
    drawing = next((draw_it for kind, draw_it in kinds.items() if isinstance(what, kind)), None)
    if drawing is None or (isinstance(what, list) and what and not isinstance(what[0], (Stage, HistoryStep, Drawable))):
        raise UsageError(f"{type(what).__name__}: there is no figure of it")
    drawing()


def _draw_comparison(found: Comparison, path: str, title: str | None) -> None:
    counts = ", ".join(f"{number:,} {kind}" for kind, number in found.counts_in_words.items())
    before, after = (Path(side.name).name for side in (found.before, found.after))
    title = title or f"{before} -> {after}: {counts or 'no record differs'}"
    draw_sheet(list(found.records(MOST, by_kind=True)), path, title=title)


def _draw_conflicts(state: State | None, told: list[tuple[str, Any, Any]], path: str, title: str) -> None:
    """Of what is in conflict the pictures, with what either side says."""
    if state is None or not told:
        raise UsageError("there is no conflict, and no figure of it")
    headlines = [(key, " | ".join("-" if each is None else str(each) for each in sides)) for key, *sides in told]
    draw_conflicts(state, headlines, path, title)


def _draw_several(what: Sequence[Any], path: str, title: str | None) -> None:
    if what and isinstance(what[0], Stage):
        draw_look([(title or "", what)], path, title=title or "after every step")
    elif what and isinstance(what[0], HistoryStep):
        draw_history(list(what), title or "history", path)
    else:
        draw_sheet(what, path, title=title or f"{len(what)} pictures")
