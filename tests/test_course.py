"""Which places come when: parts, steps, last batches. Held against lists, and against real feeds."""

from __future__ import annotations

import itertools
import json
from collections import Counter
from typing import Any

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

import pannier
from pannier.errors import UsageError
from pannier.feeding.course import Course

TURNED = pannier.Treatment(16, turn=20, brightness=0.2)
counts, sizes, several = st.integers(0, 70), st.integers(1, 9), st.integers(1, 5)


def told(course: Course, epoch: int) -> list[tuple[int, int]]:
    """(pass, place) of an epoch, asked for batch by batch."""
    found = [course.at(epoch, range(batch, batch + 1)) for batch in range(course.batches)]
    return [pair for each in found for pair in zip(each.passes.tolist(), each.places.tolist(), strict=True)]


@settings(deadline=None, suppress_health_check=[HealthCheck.too_slow])
@given(count=counts, size=sizes, parts=several, epoch=st.integers(0, 3))
def test_parts_are_disjoint_and_make_up_the_whole(count: int, size: int, parts: int, epoch: int) -> None:
    courses = [Course(count, size, part=part, parts=parts) for part in range(parts)]
    together = [pair for course in courses for pair in told(course, epoch)]
    assert sorted(together) == [(epoch, place) for place in range(count)]
    assert [course.pictures for course in courses] == [len(told(course, epoch)) for course in courses]
    for course in courses:
        assert told(course, epoch) == [
            tuple(map(int, pair)) for pair in zip(*course.at(epoch, range(course.batches)), strict=True)
        ]


@settings(deadline=None, suppress_health_check=[HealthCheck.too_slow])
@given(count=st.integers(1, 70), size=sizes, parts=several, last=st.sampled_from(["drop", "wrap"]))
def test_parts_have_equally_many_whole_batches_where_none_may_be_smaller(
    count: int, size: int, parts: int, last: str
) -> None:
    courses = [Course(count, size, last, part=part, parts=parts) for part in range(parts)]
    for course in courses:
        if course.records:
            assert course.batches == courses[0].batches
            assert course.pictures == len(told(course, 0)) == course.batches * size
    times = Counter(place for course in courses for _, place in told(course, 0))
    if last == "drop":
        assert set(times.values()) <= {1}
    elif all(course.records for course in courses):
        assert set(times) == set(range(count))


@settings(deadline=None, suppress_health_check=[HealthCheck.too_slow])
@given(count=st.integers(1, 40), size=sizes, steps=st.integers(1, 20), parts=st.integers(1, 3))
def test_epochs_of_so_many_steps_go_on_where_the_one_before_ended(count: int, size: int, steps: int, parts: int) -> None:
    course = Course(count, size, steps=steps, part=parts - 1, parts=parts)
    if not course.records:
        assert course.batches == 0
        return
    fed = [pair for epoch in range(4) for pair in told(course, epoch)]
    own = range(parts - 1, count, parts)
    endless = ((number, place) for number in itertools.count() for place in own)
    assert fed == list(itertools.islice(endless, 4 * steps * size))


def test_fed_parts_make_up_an_epoch_and_steps_cross_its_border(packed: pannier.Snapshot) -> None:
    how = {"size": 16, "batch_size": 4, "seed": 3, "workers": 1}
    with packed.feed("train", **how) as feed:
        whole = [[key for batch in epoch for key in batch.keys] for epoch in feed.epochs(3)]
    parts = []
    for part in range(3):
        with packed.feed("train", part=part, parts=3, **how) as feed:
            parts.append([key for batch in feed for key in batch.keys])
            assert feed.pictures_per_epoch == len(parts[-1])
    assert [key for each in itertools.zip_longest(*parts) for key in each if key is not None] == whole[0]
    with packed.feed("train", steps=7, **how) as feed:
        stepped = [[key for batch in epoch for key in batch.keys] for epoch in feed.epochs(4)]
    assert [len(each) for each in stepped] == [28] * 4
    assert [key for each in stepped for key in each] == [key for each in whole for key in each][:112]


@pytest.mark.parametrize("how", [{}, {"steps": 5}, {"part": 1, "parts": 2, "last": "wrap"}, {"shuffle": False}])
def test_a_feed_goes_on_exactly_where_another_stood(packed: pannier.Snapshot, how: dict[str, Any]) -> None:
    said = {"treatment": TURNED, "batch_size": 4, "seed": 3, **how}
    with packed.feed("train", workers=1, ahead=1, **said) as feed:
        fed = [
            (batch.keys, batch.images.tobytes(), json.dumps(feed.position)) for epoch in feed.epochs(3) for batch in epoch
        ]
    for at in (0, 1, len(fed) // 3, len(fed) // 2, len(fed) - 2):
        with packed.feed("train", workers=2, position=json.loads(fed[at][2]), **said) as feed:
            assert json.dumps(feed.position) == fed[at][2]
            rest = [batch for _, epoch in zip(range(3), feed.epochs(), strict=False) for batch in epoch]
            assert [(batch.keys, batch.images.tobytes()) for batch in rest][: len(fed) - at - 1] == [
                each[:2] for each in fed[at + 1 :]
            ]


def test_a_position_of_another_feed_is_refused_and_says_what_differs(packed: pannier.Snapshot) -> None:
    with packed.feed("train", size=16, batch_size=4, seed=3) as feed:
        position = feed.position
    for changed, says in (
        ({"seed": 4}, "its seed is 3, here it is 4"),
        ({"batch_size": 5}, "its batch_size is 4"),
        ({"size": 17}, "its treatment is"),
        ({"split": "val"}, "its split is 'train', here it is 'val'"),
        ({"variations": 2}, "its variations is 1"),
        ({"variations": 2, "plain": True}, "its variations is 1"),
    ):
        with pytest.raises(UsageError, match=says):
            packed.feed(**{"split": "train", "size": 16, "batch_size": 4, "seed": 3, "position": position, **changed})
    for wrong in (
        {},
        position | {"batch": 99},
        position | {"epoch": True},
        position | {"epoch": 10**30},
        position | {"batch": 10**30},
        position | {"of": 3},
        position | {"position": 9},
    ):
        with pytest.raises(UsageError):
            packed.feed("train", size=16, batch_size=4, seed=3, position=wrong)


def test_a_position_tells_whether_one_variation_is_plain(packed: pannier.Snapshot) -> None:
    how: dict[str, Any] = {"treatment": pannier.Treatment(16, flip="horizontal"), "batch_size": 4, "variations": 2}
    with packed.feed("train", **how, plain=True) as feed:
        position = feed.position
    with pytest.raises(UsageError, match="its plain is True, here it is False"):
        packed.feed("train", **how, position=position)


def test_impossible_parts_are_refused(packed: pannier.Snapshot) -> None:
    for wrong in ({"part": 2, "parts": 2}, {"part": -1}, {"parts": 0}, {"steps": 0}, {"part": True, "parts": 2}):
        with pytest.raises(UsageError, match=r"part|steps"):
            packed.feed("train", size=16, **wrong)
    with pytest.raises(UsageError, match="leave `steps`, `parts` and `position` out"):
        packed.arrays("train", size=16, parts=2)
