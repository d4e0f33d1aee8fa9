"""Whatever a call gave back, as a page."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import Any

from pannier.errors import UsageError
from pannier.figures.sheet import Drawable
from pannier.images.treatment import Treatment
from pannier.measuring.measurement import Measurement
from pannier.pages.labeling import doubles_to_label, drawable_to_label, labeling_page
from pannier.pages.of_comparison import comparison_page
from pannier.pages.of_runs import runs_page
from pannier.pages.of_snapshot import snapshot_page
from pannier.store.state import State
from pannier.versions.comparing import Comparison
from pannier.versions.doubles import Doubles


def report(
    what: Any,
    path: str | Path,
    *,
    title: str | None = None,
    treatment: Treatment | None = None,
    classes: Sequence[str] | None = None,
) -> int:
    """Writes a page of what a call gave back: one HTML file that needs nothing else. How many bytes it has.

    A snapshot: what is in it, where it comes from, how to feed it; with a treatment also its values. A measurement, or
    several by name: answer, figure, table, machine. A comparison: pictures before and after. Doubles, and records or what a
    survey suspects (a list): a page for labeling them by eye, which saves a table for `Store.change(from_=...)`; classes:
    those to choose from, by default what the pictures have; title: above it.
    Raises UsageError for anything else, and where there is nothing to show; StoreError where the disk refuses.
    """
    if isinstance(what, State):
        return snapshot_page(what, path, treatment=treatment)
    if isinstance(what, Measurement):
        return runs_page({title or "measured": what}, path)
    if isinstance(what, dict) and what and all(isinstance(each, Measurement) for each in what.values()):
        return runs_page(what, path)
    if isinstance(what, Comparison):
        return comparison_page(what, path)
    if isinstance(what, Doubles):
        named = title or f"{len(what.pairs):,} pairs that look alike"
        return labeling_page(doubles_to_label(what), classes or what.state.classes, path, title=named)
    if isinstance(what, list) and what and all(isinstance(each, Drawable) for each in what):
        pictures = drawable_to_label(what)
        names = classes or sorted({each.label for each in pictures if each.label is not None})
        return labeling_page(pictures, names, path, title=title or f"{len(pictures):,} pictures")
    raise UsageError(f"{type(what).__name__}: there is no page of it")
