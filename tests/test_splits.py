"""Dealing: exact shares, doubles together, what is settled stays."""

from __future__ import annotations

from collections import Counter, defaultdict
from fractions import Fraction

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from pannier.dealing.shares import Dealing, DealingOptions, read_shares
from pannier.dealing.splits import Dealt, deal, fair_part, targets
from pannier.errors import UsageError
from pannier.hashing import mix

SHARES = read_shares("train=75,val=15,test=10")
labels_and_groups = st.lists(st.tuples(st.sampled_from(["a", "b", "c", None]), st.integers(0, 60)), min_size=1, max_size=120)


@pytest.mark.parametrize("text", ["train=75,val=15,test=10", "train=0.75,val=0.15,test=0.1", "train=75%,val=15%,test=10%"])
def test_shares_are_read_in_every_way(text: str) -> None:
    assert read_shares(text) == {"train": Fraction(3, 4), "val": Fraction(3, 20), "test": Fraction(1, 10)}


@pytest.mark.parametrize("text", ["train=75,val=15", "train=-1,val=101", "train=a", "train", "", "a=50,a=50", "tr ain=100"])
def test_shares_that_make_no_sense_are_refused(text: str) -> None:
    with pytest.raises(UsageError):
        read_shares(text)


@given(count=st.integers(0, 3000), numbers=st.lists(st.integers(1, 50), min_size=1, max_size=5))
def test_targets_follow_sainte_lague(count: int, numbers: list[int]) -> None:
    shares = {f"s{i}": Fraction(n, sum(numbers)) for i, n in enumerate(numbers)}
    dealt = targets(count, shares)
    assert sum(dealt.values()) == count
    highest_refused = max(shares[name] / (2 * seats + 1) for name, seats in dealt.items())
    lowest_taken = min((shares[name] / (2 * seats - 1) for name, seats in dealt.items() if seats), default=highest_refused)
    assert lowest_taken >= highest_refused


def dealt(
    labels: list[str | None], groups: list[int], given: list[str | None], dealing: Dealing, **options: object
) -> Dealt:
    count = max(groups, default=-1) + 1
    settled: list[str | None] = [None] * count
    for group, split in zip(groups, given, strict=True):
        settled[group] = settled[group] or split
    turn = np.array([mix(group) for group in range(count)], np.uint64)
    is_open = [split is None for split in given]
    return deal(labels, given, is_open, np.array(groups, np.int64), settled, turn, dealing, **options)


@settings(max_examples=500, deadline=None)
@given(records=labels_and_groups, seed=st.integers(0, 5))
def test_groups_stay_together_and_classes_come_out_as_near_as_groups_allow(
    records: list[tuple[str | None, int]], seed: int
) -> None:
    labels, groups = [label for label, _ in records], [group for _, group in records]
    found = dealt(labels, groups, [None] * len(labels), Dealing(SHARES, seed))
    where = defaultdict(set)
    for group, split in zip(groups, found.splits, strict=True):
        where[group].add(split)
    assert all(len(splits) == 1 for splits in where.values())
    largest = max(Counter(groups).values())
    if largest == 1:
        assert set(found.deviation.values()) <= {0}
    order = sorted(range(len(labels)), key=lambda i: (groups[i], str(labels[i])))
    again = dealt([labels[i] for i in order], [groups[i] for i in order], [None] * len(order), Dealing(SHARES, seed))
    assert [found.splits[i] for i in order] == again.splits


@settings(max_examples=500, deadline=None)
@given(sizes=st.lists(st.integers(1, 9), min_size=1, max_size=40), seed=st.integers(0, 5), parts=st.integers(2, 5))
def test_a_class_misses_its_shares_by_less_than_its_largest_group(sizes: list[int], seed: int, parts: int) -> None:
    groups = [group for group, size in enumerate(sizes) for _ in range(size)]
    shares = {f"s{i}": Fraction(i + 1, parts * (parts + 1) // 2) for i in range(parts)}
    found = dealt(["a"] * len(groups), groups, [None] * len(groups), Dealing(shares, seed))
    assert found.deviation["a"] < max(sizes)


@settings(max_examples=500, deadline=None)
@given(first=st.integers(0, 80), more=st.integers(0, 80), seed=st.integers(0, 9))
def test_what_has_a_split_keeps_it_and_new_ones_fill_what_is_short(first: int, more: int, seed: int) -> None:
    dealing = Dealing(SHARES, seed)
    before = dealt(["a"] * first, list(range(first)), [None] * first, dealing).splits
    after = dealt(["a"] * (first + more), list(range(first + more)), [*before, *[None] * more], dealing)
    assert after.splits[:first] == before
    assert Counter(after.splits) == +Counter(targets(first + more, SHARES))


@settings(max_examples=200, deadline=None)
@given(sizes=st.lists(st.integers(1, 60), min_size=1, max_size=4), wanted=st.integers(1, 40), seed=st.integers(0, 3))
def test_a_count_is_met_to_the_record_alike_in_every_class(sizes: list[int], wanted: int, seed: int) -> None:
    labels = [f"c{c}" for c, size in enumerate(sizes) for _ in range(size)]
    dealing = Dealing(read_shares("train=80,val=20"), seed, {"test": wanted})
    if wanted > len(labels):
        with pytest.raises(UsageError, match=f"`counts` test={wanted}: there are only"):
            dealt(labels, list(range(len(labels))), [None] * len(labels), dealing)
        return
    found = dealt(labels, list(range(len(labels))), [None] * len(labels), dealing)
    by_class = Counter((label, split) for label, split in zip(labels, found.splits, strict=True))
    assert sum(count for (_, split), count in by_class.items() if split == "test") == wanted
    fair = targets(wanted, {f"c{c}": Fraction(size) for c, size in enumerate(sizes)})
    assert {label: by_class[label, "test"] for label in fair} == fair
    assert set(found.deviation.values()) <= {0}


def test_another_seed_deals_otherwise() -> None:
    one, other = (dealt(["a"] * 100, list(range(100)), [None] * 100, Dealing(SHARES, seed)).splits for seed in (1, 2))
    assert one != other


@settings(max_examples=100, deadline=None)
@given(sizes=st.lists(st.integers(1, 200), min_size=1, max_size=5), seed=st.integers(0, 9))
def test_a_fair_part_is_fair_in_every_class_and_lies_in_a_larger_one(sizes: list[int], seed: int) -> None:
    labels = np.repeat(np.arange(len(sizes), dtype=np.int32), sizes)
    hashes = np.array([mix(i) for i in range(len(labels))], np.uint64)
    small, large = (fair_part(labels, hashes, Fraction(part, 100), seed) for part in (10, 35))
    assert set(small) <= set(large)
    for c, size in enumerate(sizes):
        assert (labels[small] == c).sum() == max(1, int(size / 10 + 0.5))


@pytest.mark.parametrize(
    ("said", "says"),
    [
        ({"shares": "a=50,b=50", "folds": 3}, "three ways of dealing"),
        ({"carve": "val=15%"}, "belong together"),
        ({"carve": "train=15%", "of": "train"}, "carve less than all"),
        ({"carve": "val=100%", "of": "train"}, "carve less than all"),
        ({"folds": 1}, "must be 2 or more"),
        ({"counts": "test=many"}, "give a number of records"),
        ({"counts": "test=5"}, "says nothing of the rest"),
        ({"counts": "test=5", "shares": "train=90,test=10"}, "a count and a share"),
        ({"near": 40}, "0 to 12"),
    ],
)
def test_dealing_that_makes_no_sense_is_refused(said: dict[str, object], says: str) -> None:
    with pytest.raises(UsageError, match=says):
        DealingOptions(**said).read_dealing().upon(Dealing())
