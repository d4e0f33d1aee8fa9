"""Dealing: exact shares, doubles together, what is settled stays."""

from __future__ import annotations

from collections import Counter, defaultdict
from fractions import Fraction

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from pannier.columns import to_digests
from pannier.errors import UsageError
from pannier.splits import deal, read_shares, targets

SHARES = read_shares("train=75,val=15,test=10")
labels_and_groups = st.lists(st.tuples(st.sampled_from(["a", "b", "c", None]), st.integers(0, 60)), min_size=1, max_size=120)


def digest(number: int) -> bytes:
    return bytes([number]) * 32


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


@settings(max_examples=200, deadline=None)
@given(records=labels_and_groups, seed=st.integers(0, 5))
def test_doubles_stay_together_and_classes_come_out_as_near_as_doubles_allow(
    records: list[tuple[str | None, int]], seed: int
) -> None:
    labels, groups = [label for label, _ in records], [digest(group) for _, group in records]
    dealt = deal(labels, to_digests(groups), [None] * len(labels), SHARES, seed)
    where = defaultdict(set)
    for group, split in zip(groups, dealt.splits, strict=True):
        where[group].add(split)
    assert all(len(splits) == 1 for splits in where.values())
    if max(Counter(groups).values()) == 1:
        assert set(dealt.deviation.values()) <= {0}
    order = sorted(range(len(labels)), key=lambda i: (groups[i], str(labels[i])))
    again = deal([labels[i] for i in order], to_digests(groups[i] for i in order), [None] * len(order), SHARES, seed)
    assert {(labels[i], groups[i], dealt.splits[i]) for i in order} == set(
        zip([labels[i] for i in order], [groups[i] for i in order], again.splits, strict=True)
    )


@settings(max_examples=150, deadline=None)
@given(first=st.integers(0, 80), more=st.integers(0, 80), seed=st.integers(0, 9))
def test_what_has_a_split_keeps_it_and_new_ones_fill_what_is_short(first: int, more: int, seed: int) -> None:
    groups = [digest(i) for i in range(first + more)]
    before = deal(["a"] * first, to_digests(groups[:first]), [None] * first, SHARES, seed).splits
    after = deal(["a"] * (first + more), to_digests(groups), [*before, *[None] * more], SHARES, seed)
    assert after.splits[:first] == before
    assert Counter(after.splits) == +Counter(targets(first + more, SHARES))


def test_another_seed_deals_otherwise() -> None:
    groups = [digest(i) for i in range(100)]
    one, other = (deal(["a"] * 100, to_digests(groups), [None] * 100, SHARES, seed).splits for seed in (1, 2))
    assert one != other


def test_a_new_double_of_what_is_there_goes_where_that_is() -> None:
    digests, elsewhere = to_digests([digest(1), digest(2)]), (to_digests([digest(1)]), ["test"])
    dealt = deal(["a", "a"], digests, [None, None], SHARES, 0, there={("a", "test"): 1}, elsewhere=elsewhere)
    assert dealt.splits[0] == "test"
