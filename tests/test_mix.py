"""Several feeds as one: exact shares, positions, one limit."""

from __future__ import annotations

import json
from collections import Counter
from itertools import islice
from typing import Any

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

import pannier
from pannier.errors import LimitError, UsageError
from pannier.feeding.mixing import turns_of


@given(st.lists(st.integers(1, 40), min_size=1, max_size=5))
def test_turns_are_exact_and_evenly_spread(shares: list[int]) -> None:
    turns, whole = turns_of(shares), sum(shares)
    assert Counter(turns) == Counter(dict(enumerate(shares)))
    for at, share in enumerate(shares):
        taken = np.cumsum(np.array(turns) == at)
        assert np.abs(taken - share * np.arange(1, whole + 1) / whole).max() < len(shares)


def mixed(snapshot: pannier.Snapshot, shares: tuple[int, int] = (3, 1), **options: Any) -> pannier.Mix:
    treatment = pannier.Treatment(24, turn=9)
    feeds = [snapshot.feed(split, treatment, batch_size=4, seed=3) for split in ("train", "val")]
    return pannier.mix([*zip(feeds, shares, strict=True)], **options)


def test_a_mix_gives_what_its_feeds_give_each_as_often_as_its_share(packed: pannier.Snapshot) -> None:
    treatment = pannier.Treatment(24, turn=9)
    with mixed(packed) as mix:
        assert len(mix) == 15  # 11 batches of train, a quarter more in all
        given = [(batch.source, batch.keys, batch.images.copy()) for _ in range(3) for batch in mix]
        assert len(given) == 3 * len(mix)
    for source, split in enumerate(("train", "val")):
        own = [each for each in given if each[0] == source]
        with packed.feed(split, treatment, batch_size=4, seed=3) as feed:
            plain = islice((batch for epoch in feed.epochs() for batch in epoch), len(own))
            assert all(b.keys == keys and np.array_equal(b.images, a) for b, (_, keys, a) in zip(plain, own, strict=True))
    assert Counter(source for source, _, _ in given[:44]) == {0: 33, 1: 11}


def test_a_mix_goes_on_exactly_where_another_stood(packed: pannier.Snapshot) -> None:
    with mixed(packed, steps=7) as mix:
        keys = [batch.keys for _ in range(3) for batch in mix]
    for stop in (0, 1, 6, 7, 12):
        with mixed(packed, steps=7) as mix:
            batches = (batch for _ in range(3) for batch in mix)
            assert [batch.keys for batch in islice(batches, stop)] == keys[:stop]
            position = json.loads(json.dumps(mix.position))
        with mixed(packed, steps=7, position=position, memory_limit="40MiB") as mix:
            assert [batch.keys for _ in range(3 - stop // 7) for batch in mix] == keys[stop:]
    for other in ({"shares": (1, 1)}, {"steps": 8}):
        with pytest.raises(UsageError, match="position is of"):
            mixed(packed, **{"steps": 7, "position": position, **other})
    for wrong in ({}, position | {"batches": -1}, position | {"feeds": []}, [1], position["feeds"][0]):
        with pytest.raises(UsageError, match="position"):
            mixed(packed, position=wrong)


def test_one_limit_bounds_all_and_what_cannot_be_mixed_is_said(packed: pannier.Snapshot) -> None:
    with mixed(packed, memory_limit="24MiB") as mix:
        assert sum(feed.plan.total_bytes for feed in mix.feeds) <= 24 << 20
        assert len(list(mix)) == len(mix)
    with pytest.raises(LimitError):
        mixed(packed, memory_limit="4MiB")
    one, other = (packed.feed("val", pannier.Treatment(size)) for size in (16, 24))
    for feeds in ([], [(one, 0)], [(one, 1.5)], [(one, 1), (one, 1)], [(one, 1), (other, 1)], [(one, 9999), (other, 2)]):
        with pytest.raises(UsageError):
            pannier.mix(feeds)
    with pytest.raises(UsageError, match="steps"):
        pannier.mix([(one, 1)], steps=0)
    next(iter(one))
    with pytest.raises(UsageError, match="has begun"):
        pannier.mix([(one, 1)])
    one.close()
