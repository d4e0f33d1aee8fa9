"""Who goes to which split: dealing by shares and chance, alike in every class, groups together."""

from __future__ import annotations

import math
from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from fractions import Fraction
from typing import TypeVar

import numpy as np

from pannier.array_types import Flags
from pannier.columns import Codes, Rows
from pannier.dealing.shares import Dealing
from pannier.errors import UsageError
from pannier.hashing import Hashes, fold, fold_each

T = TypeVar("T")


def targets(count: int, shares: Mapping[T, Fraction]) -> dict[T, int]:
    """`count` records dealt by the rule of Sainte-Laguë, ties to what is named first: exact to the record.

    Shares need not sum up to 1. Each gets its quota rounded; then one record at a time is given or taken back.
    """
    total = sum(shares.values(), Fraction(0))
    if not total:
        return dict.fromkeys(shares, 0)
    dealt = {name: math.floor(count * share / total + Fraction(1, 2)) for name, share in shares.items()}
    names = list(shares)
    while (rest := count - sum(dealt.values())) > 0:
        dealt[max(names, key=lambda name: shares[name] / (2 * dealt[name] + 1))] += 1
    for _ in range(-rest):
        held = [name for name in reversed(names) if dealt[name]]
        dealt[min(held, key=lambda name: shares[name] / (2 * dealt[name] - 1))] -= 1
    return dealt


@dataclass(frozen=True)
class Dealt:
    """The outcome of dealing: the split of every record, and by how many records each class missed its targets.

    `largest`: by class that missed them the number of its largest group, and how many records that has.
    """

    splits: list[str | None]
    deviation: dict[str | None, int]
    largest: dict[str | None, tuple[int, int]]


def deal(
    labels: Sequence[str | None],
    given: Sequence[str | None],
    is_open: Sequence[bool] | Flags,
    groups: Rows,
    settled: Sequence[str | None],
    turn: Hashes,
    dealing: Dealing,
    *,
    there: Mapping[tuple[str | None, str | None], int] | None = None,
) -> Dealt:
    """Gives a split to every record that `is_open`; the others keep what is `given`.

    groups: the number of each record's group, whose members go together; by that number, `settled` is the split that a
    group is in already, `turn` a hash. `there`: how many further records lie in which (class, split). Groups are dealt one
    by one, settled ones first, then large ones, then by a hash of (seed, turn): each to the split in which it overfills its
    classes the least, then to the one that is shortest of it; ties to the split named first. So a class misses its targets
    by less than its largest group where all groups are of one class, and by nothing where there are none. Shares are of
    what remains: groups that are settled in other splits go there, and count for none.
    Raises UsageError where there are not as many records as `dealing.counts` asks for.
    """
    is_open = np.asarray(is_open, bool)
    counts: Counter[tuple[str | None, str | None]] = Counter(there or {})
    counts.update((label, split) for label, split, each in zip(labels, given, is_open, strict=True) if not each)
    names = [*dealing.open_counts, *dealing.open_shares]
    result: list[str | None] = list(given)
    open_rows = np.flatnonzero(is_open)
    takes_part = [split is None or split in names for split in settled]
    remaining = Counter(labels[row] for row in open_rows.tolist() if takes_part[groups[row]])
    wanted = _short_by_class(counts, remaining, dealing)
    for members in _in_turn(groups[open_rows], settled, turn, dealing.seed):
        own = open_rows[members].tolist()
        best = settled[groups[own[0]]]
        if best is None and len(own) == 1:
            best = max(names, key=wanted[labels[own[0]]].__getitem__)
        elif best is None:
            best = _best_for_group(Counter(labels[i] for i in own), wanted, names)
        for i in own:
            result[i] = best
            if best in names:
                wanted[labels[i]][best] -= 1
    deviation = {label: _most(short) for label, short in wanted.items()}
    missed = {label for label, miss in deviation.items() if miss}
    sizes = np.bincount(groups, minlength=len(settled))
    largest: dict[str | None, tuple[int, int]] = {}
    for row in open_rows.tolist():
        group, size = int(groups[row]), int(sizes[groups[row]])
        if labels[row] in missed and size > largest.get(labels[row], (-1, 1))[1]:
            largest[labels[row]] = (group, size)
    return Dealt(result, deviation, largest)


def _in_turn(groups: Rows, settled: Sequence[str | None], turn: Hashes, seed: int) -> Iterator[Rows]:
    """The members of each group, group by group: settled ones first, large ones first, else by hash."""
    sizes = np.bincount(groups, minlength=len(settled))
    is_open = np.array([split is None for split in settled], bool)
    order = np.lexsort((np.arange(len(settled)), fold_each(fold(seed), turn), -sizes, is_open))
    by_group = np.argsort(groups, kind="stable")
    starts = np.concatenate([[0], np.cumsum(sizes)])
    for group in order[sizes[order] > 0].tolist():
        yield by_group[starts[group] : starts[group + 1]]


def _short_by_class(
    counts: Mapping[tuple[str | None, str | None], int], opened: Mapping[str | None, int], dealing: Dealing
) -> dict[str | None, dict[str, int]]:
    """By class and split: how many records are short of the target. What lies in other splits plays no part."""
    shares, fixed = dealing.open_shares, dealing.open_counts
    totals: Counter[str | None] = Counter(opened)
    for (label, split), count in counts.items():
        totals[label] += count if split in shares or split in fixed else 0
    short: dict[str | None, dict[str, int]] = {label: {} for label in totals}
    left = Counter(totals)
    in_order = sorted(totals, key=lambda label: (label is None, label or ""))
    for split, count in fixed.items():
        if count > sum(left.values()):
            raise UsageError(f"`counts` {split}={count}: there are only {sum(left.values()):,} records to deal")
        for label, part in targets(count, {label: Fraction(left[label]) for label in in_order}).items():
            short[label][split] = part
            left[label] -= part
    for label in totals:
        short[label] |= targets(left[label], shares)
    for (label, split), count in counts.items():
        if split is not None and split in short.get(label, {}):
            short[label][split] -= count
    return short


def _best_for_group(
    group: Mapping[str | None, int], wanted: Mapping[str | None, Mapping[str, int]], names: list[str]
) -> str:
    """The split in which the group's members overfill the least, then the one that is shortest of them."""

    def room(name: str) -> tuple[int, int]:
        after = [wanted[label][name] - count for label, count in group.items()]
        return (sum(min(0, left) for left in after), min(after))

    return max(names, key=room)


def _most(short: Mapping[str, int]) -> int:
    return max((abs(value) for value in short.values()), default=0)


def fair_part(labels: Codes, hashes: Hashes, share: Fraction, seed: int) -> Rows:
    """Row numbers, in order, of a part that is fair in every class: by hash of (seed, key), so a smaller lies in a larger.

    A class gets its share rounded, one at least; -1 is the class of what has no label.
    """
    turn = fold_each(fold(seed), hashes)
    order = np.lexsort((turn, labels))
    starts = np.flatnonzero(np.r_[True, np.diff(labels[order]) != 0]) if len(order) else np.empty(0, np.int64)
    stops = np.r_[starts[1:], len(order)]
    parts = [
        order[start : start + max(1, math.floor((stop - start) * share + Fraction(1, 2)))]
        for start, stop in zip(starts.tolist(), stops.tolist(), strict=True)
    ]
    return np.sort(np.concatenate(parts)) if parts else order
