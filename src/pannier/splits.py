"""Who goes to which split: dealing by shares and chance, alike in every class, doubles together."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from fractions import Fraction
from typing import Any

import numpy as np

from pannier.columns import Digests, Rows, numbered
from pannier.errors import UsageError
from pannier.hashing import fold, fold_each

Shares = dict[str, Fraction]


def read_shares(shares: str | Mapping[str, float | str | Fraction]) -> Shares:
    """Shares by split, as parts of 1: from {"train": 75, ...} or "train=75,val=15,test=10"; 75, 0.75 or 75% each.

    Raises UsageError where they do not sum up to 100 %.
    """
    if isinstance(shares, str):
        pieces = [piece.partition("=") for piece in shares.split(",") if piece.strip()]
        if not pieces or any(not equals for _, equals, _ in pieces):
            raise UsageError(f"shares {shares!r} cannot be read: write them as train=75,val=15,test=10")
        names = [name.strip() for name, _, _ in pieces]
        if len(set(names)) < len(names):
            raise UsageError(f"shares {shares!r} name a split twice")
        shares = {name.strip(): value.strip() for name, _, value in pieces}
    if not shares:
        raise UsageError("no shares are given: write them as train=75,val=15,test=10")
    numbers = {_checked_split(name): _share(name, value) for name, value in shares.items()}
    total = sum(numbers.values(), Fraction(0))
    whole = 100 if total > 1.5 else 1
    if abs(total - whole) > Fraction(whole, 1_000_000):
        shown = f"{float(total):g}" if whole == 100 else f"{float(total) * 100:g} %"
        raise UsageError(f"the shares sum up to {shown}, not to 100: change one of {', '.join(numbers)}")
    return {name: value / total for name, value in numbers.items()}


def _checked_split(name: str) -> str:
    if not re.fullmatch(r"[A-Za-z0-9_.-]+", name):
        raise UsageError(f"{name!r} is no name for a split: use letters, digits, '-', '_' and '.'")
    return name


def _share(name: str, value: float | str | Fraction) -> Fraction:
    text = str(value).strip()
    try:
        number = Fraction(text.removesuffix("%").strip())
    except (ValueError, ZeroDivisionError):
        number = Fraction(-1)
    if number < 0:
        raise UsageError(f"the share {name}={value} is not a number of 0 or more")
    return number


def targets(count: int, shares: Shares) -> dict[str, int]:
    """`count` records dealt to splits by the rule of Sainte-Laguë, ties to the split named first."""
    # near it already, and surely not past it; the rule deals the rest
    dealt = {name: max(0, int(count * share) - len(shares)) for name, share in shares.items()}
    for _ in range(count - sum(dealt.values())):
        best = max(shares, key=lambda name: shares[name] / (2 * dealt[name] + 1))
        dealt[best] += 1
    return dealt


@dataclass(frozen=True)
class Dealt:
    """The outcome of dealing: the split of every record, and by how many records each class missed its targets."""

    splits: list[str]
    deviation: dict[str | None, int]


def deal(
    labels: Sequence[str | None],
    digests: Digests,
    given: Sequence[str | None],
    shares: Shares,
    seed: int,
    *,
    there: Mapping[tuple[str | None, str | None], int] | None = None,
    elsewhere: tuple[Digests, Sequence[str]] | None = None,
) -> Dealt:
    """A split for every record. `digests` are SHA-256, (n, 32): equal ones stay together. `given` splits are kept.

    `there` counts other records by (class, split) that play a part in the targets; `elsewhere` are digests that have a
    split already. In every class the targets follow the rule of Sainte-Laguë. What has no split yet is taken group by group
    (the largest first, else in order of the hash of (seed, first 8 bytes of SHA-256)) and goes where most is short.
    """
    counts: Counter[tuple[str | None, str | None]] = Counter(there or {})
    counts.update(zip(labels, given, strict=True))
    wanted = _short_by_class(counts, shares)
    others, other_splits = elsewhere if elsewhere is not None else (digests[:0], [])
    groups, firsts = numbered(np.concatenate([others, digests]))
    settled: list[str | None] = [None] * len(firsts)
    for group, split in zip(groups.tolist(), [*other_splits, *given], strict=True):
        settled[group] = settled[group] or split

    names = list(shares)
    result = list(given)
    open_rows = np.array([i for i, split in enumerate(given) if split is None], np.int64)
    for members in _in_turn(groups[len(others) :][open_rows], firsts, np.concatenate([others, digests]), settled, seed):
        own = open_rows[members].tolist()
        best = settled[groups[len(others) + own[0]]]
        if best is None and len(own) == 1:
            best = max(names, key=wanted[labels[own[0]]].__getitem__)
        elif best is None:
            best = _best_for_group([labels[i] for i in own], wanted, names)
        for i in own:
            result[i] = best
            if best in shares:
                wanted[labels[i]][best] -= 1
    return Dealt([split or names[0] for split in result], {label: _largest(short) for label, short in wanted.items()})


def _in_turn(groups: Rows, firsts: Rows, digests: Digests, settled: Sequence[str | None], seed: int) -> Iterator[Rows]:
    """The members of each group, group by group: settled ones first, large ones first, else by hash."""
    sizes = np.bincount(groups, minlength=len(firsts))
    prefixes = np.ascontiguousarray(digests[firsts, :8]).view(">u8").ravel().astype(np.uint64)
    is_open = np.array([split is None for split in settled], bool)
    order = np.lexsort((np.arange(len(firsts)), fold_each(fold(seed), prefixes), -sizes, is_open))
    by_group = np.argsort(groups, kind="stable")
    starts = np.concatenate([[0], np.cumsum(sizes)])
    for group in order[sizes[order] > 0].tolist():
        yield by_group[starts[group] : starts[group + 1]]


def _short_by_class(counts: Mapping[tuple[str | None, str | None], int], shares: Shares) -> dict[str | None, dict[str, int]]:
    """By class and split: how many records are short of the target. What lies in other splits plays no part."""
    totals: Counter[str | None] = Counter()
    for (label, split), count in counts.items():
        totals[label] += count if split is None or split in shares else 0
    short = {label: targets(total, shares) for label, total in totals.items()}
    for (label, split), count in counts.items():
        if split in shares:
            short[label][split] -= count
    return short


def _best_for_group(labels: list[str | None], wanted: Mapping[str | None, Mapping[str, int]], names: list[str]) -> str:
    """The split in which the group's members overfill the least, then the one that is shortest of them."""

    def room(name: str) -> tuple[int, int]:
        after = {label: wanted[label][name] - labels.count(label) for label in set(labels)}
        return (sum(min(0, left) for left in after.values()), min(after.values()))

    return max(names, key=room)


def _largest(short: Mapping[str, int]) -> int:
    return max((abs(value) for value in short.values()), default=0)


def counts_by_class(labels: Any, splits: Any, classes: int, split_count: int) -> Any:
    """Counts of shape (classes + 1, splits + 1) from code arrays; the last row and column are those of -1, no name."""
    labels = np.where(labels < 0, classes, labels).astype(np.int64)
    splits = np.where(splits < 0, split_count, splits).astype(np.int64)
    flat = np.bincount(labels * (split_count + 1) + splits, minlength=(classes + 1) * (split_count + 1))
    return flat.reshape(classes + 1, split_count + 1)
