"""The page of a snapshot: what is in it, what was left out, where it comes from, how to open and feed it."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np

from pannier.columns import numbered
from pannier.errors import NotFoundError
from pannier.feeding.statistics import measure_values
from pannier.figures.counts import draw_sizes
from pannier.figures.sheet import choose_records
from pannier.figures.statistics import draw_statistics
from pannier.images.explaining import explained
from pannier.images.treatment import Treatment
from pannier.packing.recipe import as_command
from pannier.pages.writing import figure, thumbnails, write_page
from pannier.sources.findings import HARMFUL
from pannier.store.left_out import read_left_out
from pannier.store.records import Record
from pannier.store.state import OpenedStore, State
from pannier.versions.comparing import compare
from pannier.versions.history import history

# so much is shown of each; of the rest it is said how much there is
MOST_CLASSES, MOST_STEPS, MOST_EXAMPLES = 200, 30, 8
PICTURES_A_CLASS, MOST_PICTURES = 6, 240


def snapshot_page(state: State, path: str | Path, *, address: str = "", treatment: Treatment | None = None) -> int:
    """Writes it: how many bytes it has. address: as which it is opened. treatment: whose statistics are shown too.

    Raises UsageError, StoreError.
    """
    store = OpenedStore.on(state.storage)
    return write_page(
        path,
        "snapshot.html",
        state=state,
        address=address or f"{state.storage.address}@{state.id[:12]}",
        picture_bytes=int(state.manifest.column("byte_count").sum()) if len(state) else 0,
        counts=_counts(state),
        sizes=figure(lambda file: draw_sizes(state, file), "png") if len(state) else "",
        samples=_samples(state),
        harms=_harms(state),
        left_out=_left_out(state),
        commands=[as_command(each, state.storage.address, state.dealing) for each in state.recipes],
        statistics=None if treatment is None or not len(state) else _statistics(state, treatment),
        steps=history(store, state.id)[:MOST_STEPS],
        changes=_changes(store, state),
    )


def _counts(state: State) -> dict[str, Any]:
    """Records by class and split, as a table."""
    splits: list[str | None] = [*state.splits, *([None] if any(split is None for _, split in state.counts) else [])]
    labels: list[str | None] = [*state.classes, *([None] if any(label is None for label, _ in state.counts) else [])]
    rows = [(label, [state.counts.get((label, split), 0) for split in splits]) for label in labels]
    largest = max((sum(numbers) for _, numbers in rows), default=1) or 1
    totals = [sum(numbers[at] for _, numbers in rows) for at in range(len(splits))]
    shown = {"rows": rows[:MOST_CLASSES], "more": len(rows) - MOST_CLASSES}
    return {"splits": splits, "largest": largest, "totals": totals, **shown}


def _samples(state: State) -> list[tuple[str | None, list[tuple[Record, str]]]]:
    """Some pictures of every class, by class."""
    count = min(MOST_PICTURES, PICTURES_A_CLASS * max(1, len(state.classes) + 1), len(state))
    records = choose_records(state, None, count, 0) if count else []
    by_class: dict[str | None, list[tuple[Record, str]]] = {}
    for record, small in zip(records, thumbnails([record.bytes for record in records]), strict=True):
        by_class.setdefault(record.label, []).append((record, small))
    return list(by_class.items())


def _left_out(state: State) -> list[tuple[str, bool, list[Any]]]:
    """What was left out, by kind: what harms training first; with how many, and examples."""
    harmful = {concern.name for concern in HARMFUL}
    by_kind: dict[str, list[Any]] = {}
    for item in read_left_out(state.storage, state.document["left_out"]):
        by_kind.setdefault(item["kind"], []).append(item)
    kinds = sorted(by_kind.items(), key=lambda pair: (pair[0] not in harmful, -len(pair[1])))
    return [(kind, kind in harmful, items) for kind, items in kinds]


def _harms(state: State) -> list[tuple[str, list[str]]]:
    """Pictures that stand under two labels or in two splits: each with its keys and what they say."""
    manifest = state.manifest
    numbers, _ = numbered(manifest.pictures(np.arange(len(manifest))))
    doubled = np.flatnonzero(np.bincount(numbers)[numbers] > 1) if len(numbers) else np.empty(0, np.int64)
    found = []
    for what in ("label", "split"):
        codes = manifest.codes(what)[0][doubled]
        pairs = np.unique(np.stack([numbers[doubled], codes])[:, codes >= 0], axis=1)
        for number in np.flatnonzero(np.bincount(pairs[0]) > 1).tolist() if pairs.size else ():
            records = [state.record(row) for row in doubled[numbers[doubled] == number].tolist()]
            said = [f"{each.key} ({getattr(each, what) or 'none'})" for each in sorted(records, key=lambda each: each.key)]
            found.append((f"one picture {'under two labels' if what == 'label' else 'in two splits'}", said))
    return found


def _statistics(state: State, treatment: Treatment) -> dict[str, Any]:
    split = "train" if "train" in state.splits else None
    found = measure_values(state, split, treatment)
    drawn = figure(lambda file: draw_statistics(found, file, title=f"{split or 'all records'}: values by channel"))
    return {"figure": drawn, "words": explained(treatment), "found": found, "split": split}


def _changes(store: OpenedStore, state: State) -> dict[str, Any] | None:
    """How it differs from the snapshot before it, if there is one."""
    if not state.parents:
        return None
    try:
        before = store.state_of(state.parents[0])
    except NotFoundError:  # tidied away
        return None
    found = compare(before, state)
    return {"before": before, "counts": found.counts_in_words, "records": list(found.records(MOST_EXAMPLES, by_kind=True))}
