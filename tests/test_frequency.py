"""How often records come: several times, in balance, by weight. Held against counts, over parts, steps and passes."""

from __future__ import annotations

from collections import Counter
from itertools import islice
from typing import Any

import numpy as np
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

import pannier
from pannier.errors import NotFoundError, UsageError
from pannier.feeding.order import Balanced, Fixed, Shuffled, Weighted

quick = settings(deadline=None, suppress_health_check=[HealthCheck.too_slow])
seeds = st.integers(0, 2**64 - 1)


def passed(order: Any, passes: int) -> tuple[list[int], list[tuple[int, int]]]:
    """All records of some passes, and with which numbers they are drawn."""
    records, draws = zip(*(order.at(number, np.arange(order.length)) for number in range(passes)), strict=True)
    listed = np.concatenate(records).tolist()
    return listed, list(zip(listed, np.concatenate(draws).tolist(), strict=True))


@quick
@given(count=st.integers(1, 40), variations=st.integers(1, 4), seed=seeds)
def test_every_record_comes_as_often_as_asked_each_time_with_its_own_draws(count: int, variations: int, seed: int) -> None:
    for order in (Shuffled(count, seed, variations), Fixed(np.arange(count)[::-1], variations)):
        records, drawn = passed(order, 3)
        assert Counter(records) == dict.fromkeys(range(count), 3 * variations)
        assert len({*drawn}) == len(drawn)


@quick
@given(groups=st.lists(st.integers(-1, 4), min_size=1, max_size=50).filter(lambda each: max(each) >= 0), seed=seeds)
def test_groups_come_equally_often_and_their_records_in_turn(groups: list[int], seed: int) -> None:
    order = Balanced(np.array(groups), len(groups), seed)
    records, drawn = passed(order, 5)
    assert all(groups[record] >= 0 for record in records)
    assert len({*drawn}) == len(drawn)
    by_group, sizes = Counter(groups[record] for record in records), Counter(groups)
    assert max(by_group.values()) - min(by_group.values()) <= 1
    fed = [groups[record] for record in records]
    for at in range(0, len(fed) - len(by_group), len(by_group)):
        assert len({*fed[at : at + len(by_group)]}) == len(by_group), "a block has each group once, over passes too"
    for at in range(0, len(fed), len(groups)):
        own = [Counter(fed[at : at + len(groups)])[group] for group in by_group]
        assert max(own) - min(own) <= 2, "as docs/feeding.md says"
    times = Counter(records)
    for group in by_group:
        own = [times[record] for record in range(len(groups)) if groups[record] == group]
        assert max(own) - min(own) <= 1
        assert sum(own) // sizes[group] in (min(own), max(own))


@quick
@given(weights=st.lists(st.integers(0, 9), min_size=1, max_size=40).filter(any), seed=seeds)
def test_records_come_as_often_as_their_weights_say(weights: list[int], seed: int) -> None:
    length = 3 * len(weights)
    order = Weighted(np.array(weights, float), length, seed)
    for number in range(3):
        times = Counter(order.at(number, np.arange(length))[0].tolist())
        assert all(abs(times[i] - length * weight / sum(weights)) < 1 + 1e-9 for i, weight in enumerate(weights))
    _, drawn = passed(order, 3)
    assert len({*drawn}) == len(drawn)


@pytest.mark.parametrize("shuffle", [True, False])
def test_one_of_its_variations_is_plain_if_asked(packed: pannier.Snapshot, shuffle: bool) -> None:
    treatment = pannier.Treatment(16, turn=20, brightness=0.3)
    how: dict[str, Any] = {"batch_size": 5, "shuffle": shuffle, "variations": 3}
    seen: dict[str, list[bytes]] = {}
    with packed.feed("train", treatment, **how, plain=True) as feed:
        for batch in feed:
            for key, image in zip(batch.keys, batch.images, strict=True):
                seen.setdefault(key, []).append(image.tobytes())
    with packed.feed("train", treatment, batch_size=5, augment=False) as feed:
        plain = {key: image.tobytes() for batch in feed for key, image in zip(batch.keys, batch.images, strict=True)}
    assert all(len({*images}) == 3 and images.count(plain[key]) == 1 for key, images in seen.items())


def test_a_feed_of_windows_gives_every_record_once_whatever_makes_it(packed: pannier.Snapshot) -> None:
    how: dict[str, Any] = {"size": 16, "batch_size": 5, "window": 8, "seed": 4}
    with packed.feed("train", workers=1, **how) as feed:
        fed = [batch.keys for epoch in feed.epochs(2) for batch in epoch]
    with packed.feed("train", workers=2, ahead=1, **how) as feed:
        assert fed == [batch.keys for epoch in feed.epochs(2) for batch in epoch]
        position = feed.position
    keys = [key for some in fed for key in some]
    assert len(keys) == 2 * len({*keys}) == 2 * packed.splits["train"]
    with pytest.raises(UsageError, match="window is 8, here it is 9"):
        packed.feed("train", **how | {"window": 9}, position=position)


def test_a_balanced_feed_has_every_class_in_every_few_and_parts_agree(own: pannier.Snapshot) -> None:
    few = own.store.change(where="label = 'twill' AND key > 'twill/0004'", remove=True).snapshot
    how: dict[str, Any] = {"size": 16, "batch_size": 3, "seed": 5, "balance": "class", "workers": 1}
    classes = len({record.label for record in few if record.split == "train"})
    with few.feed("train", steps=20, **how) as feed:
        fed = [(batch.keys, batch.labels.tolist()) for epoch in feed.epochs(2) for batch in epoch]
    labels = [label for _, some in fed for label in some]
    assert all(len({*labels[at : at + classes]}) == classes for at in range(0, len(labels) - classes, classes))
    parts = []
    for part in range(2):
        with few.feed("train", steps=10, part=part, parts=2, **how) as feed:
            parts.append([key for epoch in islice(feed.epochs(), 2) for batch in epoch for key in batch.keys])
    together = [key for pair in zip(*parts, strict=True) for key in pair][: few.splits["train"] // 2 * 2]
    assert together == [key for keys, _ in fed for key in keys][: len(together)]  # a pass of them


def test_weights_and_balance_take_side_columns_and_refuse_what_is_none(own: pannier.Snapshot) -> None:
    told = own.store.change(where="label = 'satin'", set=["often=4", "loom=2", "odd=-1"]).snapshot
    with pytest.raises(UsageError, match="nothing in record .* is no weight"):
        told.feed("train", size=16, weights="often")
    told = told.store.change(where="label <> 'satin'", set=["often=0", "loom=1"]).snapshot
    with told.feed("train", size=16, weights="often", batch_size=4) as feed:
        assert {told[key].label for batch in feed for key in batch.keys} == {"satin"}
    with told.feed("train", size=16, balance="loom", batch_size=4) as feed:
        looms = Counter(told[key].label == "satin" for batch in feed for key in batch.keys)
    assert abs(looms[True] - looms[False]) <= 1
    for wrong, error in (
        ({"balance": "looms"}, NotFoundError),
        ({"weights": "label"}, NotFoundError),
        ({"balance": "loom", "weights": "often"}, UsageError),
        ({"balance": "loom", "shuffle": False}, UsageError),
        ({"variations": 0}, UsageError),
        ({"window": 8, "balance": "loom"}, UsageError),
        ({"window": 8, "shuffle": False}, UsageError),
        ({"plain": True}, UsageError),
    ):
        with pytest.raises(error):
            told.feed("train", size=16, **wrong)


def test_side_columns_come_with_the_batch_as_arrays_of_their_types(own: pannier.Snapshot) -> None:
    told = own.store.change(where="true", set=["whole=7", "part=0.5", "text='a'"]).snapshot
    told = told.store.change(where="label = 'satin'", set=["some=3"]).snapshot
    names = ["whole", "part", "text", "some"]
    with told.feed("train", size=16, columns=names, batch_size=9) as feed:
        for batch in feed:
            for name in names:
                values = [told[key].side[name] for key in batch.keys]
                got = batch.columns[name]
                assert got.shape == (len(batch),)
                assert [None if each != each else each for each in got.tolist()] == values
                assert got.dtype.kind == ("O" if isinstance(values[0] or 1.0, str) else got.dtype.kind)
    with pytest.raises(NotFoundError, match="no side column 'whola'.*did you mean 'whole'"):
        told.feed("train", size=16, columns="whola")


def test_class_weights_make_classes_count_alike(packed: pannier.Snapshot) -> None:
    weights = packed.class_weights("train")
    counts = Counter(record.label for record in packed if record.split == "train")
    assert weights.dtype == np.float32
    totals = [weight * counts[name] for name, weight in zip(packed.classes, weights.tolist(), strict=True) if counts[name]]
    assert totals == pytest.approx([sum(counts.values()) / len(totals)] * len(totals))
