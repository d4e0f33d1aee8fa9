"""Feeds of several splits at once: one engine, by turns, and the batches that each gives by itself."""

from __future__ import annotations

import dataclasses
import json
import logging
import threading
import time
from typing import Any

import numpy as np
import pytest

import pannier
from pannier.errors import LimitError, NotFoundError, UsageError

TREATMENT = pannier.Treatment(24, turn=9)


def alone(snapshot: pannier.Snapshot, split: str, epochs: int = 1, **options: Any) -> list[Any]:
    with snapshot.feed(split, TREATMENT, batch_size=4, seed=3, **options) as feed:
        return [(batch.keys, batch.images.copy()) for epoch in feed.epochs(epochs) for batch in epoch]


def same(batch: pannier.Batch, expected: Any) -> bool:
    return batch.keys == expected[0] and np.array_equal(batch.images, expected[1])


@pytest.mark.parametrize("processes", [0, 2])
def test_each_gives_what_it_gives_alone_also_in_the_middle_of_anothers_epoch(
    packed: pannier.Snapshot, processes: int
) -> None:
    train, val = alone(packed, "train", 2), alone(packed, "val")
    before, given = threading.active_count(), 0
    with packed.feeds(TREATMENT, batch_size=4, seed=3, processes=processes, memory_limit="64MiB") as feeds:
        assert [*feeds] == [*packed.splits]
        for epoch in feeds["train"].epochs(2):
            for batch in epoch:
                assert same(batch, train[given])
                given += 1
                if given % 5 == 2:
                    assert all(same(*pair) for pair in zip(feeds["val"], val, strict=True))
            assert sum(len(batch) for batch in feeds["test"]) == feeds["test"].records
        assert len(feeds["test"].engines) == processes
        assert given == feeds["train"].meter.batches == len(train)
        assert feeds["val"].meter.stages
    assert threading.active_count() == before


def test_one_limit_is_for_all_and_positions_go_on(packed: pannier.Snapshot) -> None:
    one = packed.feed("train", TREATMENT, batch_size=4, memory_limit="32MiB")
    with packed.feeds(TREATMENT, batch_size=4, seed=3, memory_limit="32MiB", steps=7) as feeds:
        assert feeds.plan == feeds["val"].plan
        assert feeds.plan.total_bytes - feeds.plan.order_bytes <= one.plan.total_bytes
        assert len(feeds["train"]) == 7
        assert len(feeds["val"]) == -(-feeds["val"].records // 4)
        rest, others_rest = iter(feeds["train"]), iter(feeds["val"])
        for epoch in (rest, rest, others_rest):
            next(epoch)
        position = json.loads(json.dumps(feeds.position))
        with packed.feeds(TREATMENT, batch_size=4, seed=3, steps=7, position=position) as others:
            for name, left in {"train": rest, "val": others_rest}.items():
                assert [batch.keys for batch in others[name]] == [batch.keys for batch in left]
    with pytest.raises(LimitError):
        packed.feeds(TREATMENT, memory_limit="1MiB")
    with pytest.raises(UsageError, match="other splits"):
        packed.feeds(TREATMENT, splits="train", position=position)
    with pytest.raises(UsageError, match="give what `feeds.position` was"):
        packed.feeds(TREATMENT, position=position["feeds"]["train"])


def test_closing_one_leaves_the_others_the_engine(packed: pannier.Snapshot) -> None:
    before, val = threading.active_count(), alone(packed, "val")
    feeds = packed.feeds(TREATMENT, splits=["train", "val"], batch_size=4, seed=3)
    next(iter(feeds["train"]))
    feeds["train"].close()
    assert all(same(*pair) for pair in zip(feeds["val"], val, strict=True))
    with pytest.raises(UsageError, match="closed"):
        next(iter(feeds["train"]))
    feeds["val"].close()
    assert threading.active_count() == before
    feeds = packed.feeds(TREATMENT, batch_size=4)
    next(iter(feeds["train"]))
    del feeds
    until = time.monotonic() + 30  # they are told to end, and nobody waits for them
    while threading.active_count() > before and time.monotonic() < until:
        time.sleep(0.01)
    assert threading.active_count() == before


def test_what_cannot_be_is_said(packed: pannier.Snapshot) -> None:
    with pytest.raises(NotFoundError, match="no split 'vall' in this snapshot; did you mean 'val'"):
        packed.feeds(TREATMENT, splits="train,vall")
    with pytest.raises(UsageError, match="each split once"):
        packed.feeds(TREATMENT, splits=["val", "val"])
    with pytest.raises(UsageError, match="`balance` is of 'train' alone"):
        packed.feeds(TREATMENT, splits="val", balance="class")
    feeds = packed.feeds(TREATMENT, balance="class")
    with pytest.raises(NotFoundError, match="no feed of 'trian' among these; did you mean 'train'"):
        feeds["trian"]
    with pytest.raises(UsageError, match="by turns"):
        pannier.mix([(feeds["train"], 1), (feeds["val"], 1)])


def test_loops_in_several_threads_take_turns(packed: pannier.Snapshot) -> None:
    given: dict[str, list[bool]] = {"train": [], "val": []}

    def loop(feeds: Any, split: str) -> None:
        expected = alone(packed, split)
        given[split] = [same(*pair) for pair in zip(feeds[split], expected, strict=True)]

    with packed.feeds(TREATMENT, batch_size=4, seed=3) as feeds:
        threads = [threading.Thread(target=loop, args=(feeds, split)) for split in given]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()
    assert all(map(all, given.values()))
    assert [len(each) for each in given.values()] == [11, 3]


def test_the_meter_tells_where_the_time_and_memory_went(packed: pannier.Snapshot, caplog: pytest.LogCaptureFixture) -> None:
    for processes in (0, 1):
        caplog.clear()
        with (
            caplog.at_level(logging.INFO, "pannier"),
            packed.feed("train", TREATMENT, batch_size=4, processes=processes, log_every=1e-6) as feed,
        ):
            kept = [batch.images for epoch in feed.epochs(3) for batch in epoch]
            meter, count = feed.meter, len(kept)
            del kept
            assert (meter.buffers_out, feed.meter.buffers_out) == (count, 0)
        assert [*meter.stages] == ["read", "decode", "prepare", "hand_over"]
        assert sum(meter.stages.values()) == pytest.approx(1)
        assert 0 <= meter.stalled_share <= 1
        assert 0 < meter.memory_bytes <= meter.peak_memory_bytes
        assert len(caplog.messages) == meter.batches == count
        assert caplog.messages[-1].startswith("feed of train: 126 pictures in ")
        assert "decoding" in meter.in_words
    held_up = dataclasses.replace(meter, processes=0, stalled_share=0.5, waiting_share=0.6)
    assert "for 50% of their time" in held_up.advice
    assert not dataclasses.replace(held_up, waiting_share=0.1).advice
    with pytest.raises(UsageError, match="log_every"):
        packed.feed("train", TREATMENT, log_every=0)
