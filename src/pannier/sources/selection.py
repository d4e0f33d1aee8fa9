"""Which of a source's rows are brought in: with a label, of the classes that are wanted, so many of each."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from pannier.choices import Unlabeled, checked_choice
from pannier.errors import SourceError, UsageError, did_you_mean
from pannier.hashing import fold, fold_each, text_hash
from pannier.kinds import LeftOutKind
from pannier.sources.rows import Chosen, LeftOut, Source, check_same_classes, classes_by_split
from pannier.sources.rules import Rules, rows_without_label

# what a source passed over that is listed with what was left out; the rest is no picture, or only to know
PASSED_OVER = (
    *("missing", "unreadable", "link", "malformed", "no picture", "unsafe", "excluded", "oversized", "hidden"),
    *("unsupported", "empty folder"),
)


@dataclass(frozen=True)
class Selection:
    """What of a source's rows is wanted.

    unlabeled: whether what gets no label is left out or kept. only_classes: no others, where some are named. per_class: at
    most so many of each, chosen by a hash of (seed, key). allow_missing_classes: splits may carry different class names.
    """

    unlabeled: Unlabeled = "leave"
    only_classes: Sequence[str] = ()
    per_class: int | None = None
    seed: int = 0
    allow_missing_classes: bool = False
    classes: Sequence[str] = field(default_factory=tuple)

    def __post_init__(self) -> None:
        checked_choice("unlabeled", self.unlabeled, Unlabeled)
        if self.per_class is not None and self.per_class < 1:
            raise UsageError(f"`per_class` {self.per_class}: must be 1 or more")


def select(source: Source, rules: Rules, rows: Chosen, selection: Selection) -> tuple[Chosen, list[LeftOut]]:
    """The rows to bring in, and what is left out, with the reason. Raises SourceError where nothing is left."""
    refuse_nothing(source, rows)
    if selection.unlabeled == "leave" and rules.are_by_folder and getattr(source, "is_flat", False):
        raise SourceError(
            f"all pictures lie in {source.name} itself, so no folder gives their label: say where it is with "
            "`label_pattern` or `label`, sort them into class folders, or bring them in without labels by `unlabeled` keep"
        )
    left_out = [item for item in source.passed if item.kind in PASSED_OVER] + rows.left_out
    chosen = rows
    if selection.unlabeled == "leave":
        is_in_folders = rules.are_by_folder and source.default_label == "parent"
        reason = "it lies in no class folder" if is_in_folders else "the rule for labels gives it none"
        reason = "its label is empty" if rules.are_by_folder and not is_in_folders else reason
        chosen = _without(chosen, rows_without_label(chosen), "no label", reason, left_out)
        if not len(chosen):
            raise SourceError(f"no picture of {source.name} gets a label: {examples(left_out)}")
    if selection.only_classes:
        chosen = _only(chosen, selection.only_classes, left_out)
    if selection.classes:
        _refuse_other_classes(chosen, selection.classes)
    if selection.per_class is not None:
        rest = _beyond(chosen, selection.per_class, selection.seed)
        chosen = _without(chosen, rest, "rule", f"beyond {selection.per_class} of its class", left_out)
    if (source.fixed_splits or rules.split_by) and not selection.allow_missing_classes:
        classes = classes_by_split(chosen)
        if len(classes) > 1:
            check_same_classes(classes)
    return chosen, left_out


def refuse_nothing(source: Source, rows: Chosen) -> None:
    """Raises SourceError where no row is left."""
    if not len(rows) and rows.funnel:
        raise SourceError(f"no picture of {source.name} is left by `where` {rows.funnel[-1][0]}")
    if not len(rows):
        refused = [item for item in source.passed if item.kind != "skipped"]
        why = examples(refused) if refused else "it holds nothing that is a picture by its content"
        raise SourceError(f"no picture found in {source.name}: {why}")


def examples(items: list[LeftOut]) -> str:
    shown = "; ".join(f"{item.key} ({item.reason})" for item in items[:3])
    return shown + (f"; and {len(items) - 3} more" if len(items) > 3 else "")


def _without(chosen: Chosen, rows: Any, kind: LeftOutKind, reason: str, left_out: list[LeftOut]) -> Chosen:
    if not len(rows):
        return chosen
    left_out += [LeftOut(key, kind, reason) for key in chosen.keys.take(rows).to_pylist()]
    return chosen.take(np.setdiff1d(np.arange(len(chosen)), rows))


def _only(chosen: Chosen, wanted: Sequence[str], left_out: list[LeftOut]) -> Chosen:
    classes = {chosen.labels.names[code] for code in np.unique(chosen.labels.codes).tolist() if code >= 0}
    for name in wanted:
        if name not in classes:
            raise UsageError(f"`only_classes` {name}: the source has no such class{did_you_mean(name, sorted(classes))}")
    flags = np.array([*(name in wanted for name in chosen.labels.names), False], bool)
    others = np.flatnonzero(~flags[chosen.labels.codes] & (chosen.labels.codes >= 0))
    return _without(chosen, others, "rule", "its class is none of those wanted", left_out)


def _refuse_other_classes(chosen: Chosen, classes: Sequence[str]) -> None:
    there = {chosen.labels.names[code] for code in np.unique(chosen.labels.codes).tolist() if code >= 0}
    others = sorted(there - set(classes))
    if others:
        raise UsageError(
            f"`classes` does not name {others[0]!r}, which the source has{did_you_mean(others[0], classes)}: name it, "
            "`rename` it, or leave it out with `only_classes`"
        )


def _beyond(chosen: Chosen, count: int, seed: int) -> Any:
    """The rows after the first `count` of each class, in order of a hash of (seed, key)."""
    hashes = np.fromiter(map(text_hash, chosen.key_texts()), np.uint64, len(chosen))
    order = np.lexsort((fold_each(fold(seed), hashes), chosen.labels.codes))
    labels = chosen.labels.codes[order]
    starts = np.searchsorted(labels, labels, side="left")
    return np.sort(order[(np.arange(len(order)) - starts >= count) & (labels >= 0)])
