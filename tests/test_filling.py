"""Canvases kept as the first epoch makes them: the same batches, read from then on, and nothing lost by a kill."""

from __future__ import annotations

import logging
import subprocess
import sys
import time
from typing import Any

import numpy as np
import pytest

import pannier
from pannier.errors import StoreError, UsageError
from pannier.feeding.rendering import list_renderings, plan_rendering
from tests.test_rendering import random_treatment

TREATMENT = pannier.Treatment(24, turn=9, brightness=0.2)

RAW = {"values": "raw", "dtype": "uint8"}


def epochs(snapshot: pannier.Snapshot, treatment: pannier.Treatment, count: int = 2, **options: Any) -> list[Any]:
    with snapshot.feed("train", treatment, batch_size=4, seed=3, **options) as feed:
        return [(batch.keys, batch.images.copy()) for epoch in feed.epochs(count) for batch in epoch]


def same(one: list[Any], other: list[Any]) -> bool:
    return all(a[0] == b[0] and np.array_equal(a[1], b[1]) for a, b in zip(one, other, strict=True))


@pytest.mark.parametrize(("processes", "fields"), [(0, {}), (2, {}), (0, RAW), (2, RAW)])
def test_the_first_epoch_keeps_what_the_next_ones_read(own: pannier.Snapshot, processes: int, fields: Any) -> None:
    treatment = TREATMENT.with_fields(**fields)
    plan = plan_rendering(own, treatment, split="train")
    with own.feed("train", treatment, batch_size=4, rendered="fill", processes=processes) as feed:
        assert f"{plan.missing} canvases are kept as they are made" in feed.notes[-1]
        assert feed.plan.total_bytes > own.feed("train", treatment, batch_size=4, processes=processes).plan.total_bytes
    expected = epochs(own, treatment, rendered=False)
    assert not list_renderings(own.storage)
    assert same(epochs(own, treatment, rendered="fill", processes=processes), expected)
    assert plan_rendering(own, treatment, split="train").missing == 0
    assert same(epochs(own, treatment, rendered=True), expected)
    (kept,) = list_renderings(own.storage)
    assert plan.missing <= kept.canvases <= (plan.missing if processes < 2 else 2 * plan.missing)
    with own.feed("train", treatment, rendered="fill") as feed:
        assert feed.rendered_records == feed.records
        assert feed.notes[-1].startswith("0 canvases")
    assert not list(pannier.verify(own.store))


def test_any_treatment_with_parts_and_several_splits_fills_to_the_same_batches(own: pannier.Snapshot, scale: int) -> None:
    rng = np.random.default_rng(7)
    for _ in range(4 * scale):
        treatment = random_treatment(rng)
        expected = epochs(own, treatment, rendered=False)
        assert same(epochs(own, treatment, rendered="fill", steps=5), epochs(own, treatment, rendered=False, steps=5))
        with own.feeds(treatment, batch_size=4, seed=3, rendered="fill") as feeds:
            given = [(batch.keys, batch.images.copy()) for epoch in feeds["train"].epochs(2) for batch in epoch]
            assert sum(len(batch) for batch in feeds["val"]) == feeds["val"].records
        assert same(given, expected)
        assert plan_rendering(own, treatment, split="train,val").missing == 0


def test_it_says_what_does_not_fit_and_goes_on_where_the_disk_is_full(
    own: pannier.Snapshot, monkeypatch: pytest.MonkeyPatch, caplog: pytest.LogCaptureFixture
) -> None:
    with pytest.raises(StoreError, match="over the limit of 10 KiB"):
        own.feed("train", TREATMENT, rendered="fill", disk_limit="10KiB")
    with pytest.raises(UsageError, match="rendered = 'all'"):
        own.feed("train", TREATMENT, rendered="all")

    def full(*_: Any) -> None:
        raise StoreError("no space is left")

    expected = epochs(own, TREATMENT, rendered=False)
    monkeypatch.setattr("pannier.store.shards.ShardWriter.add_equal", full)
    with caplog.at_level(logging.WARNING, "pannier"):
        assert same(epochs(own, TREATMENT, rendered="fill"), expected)
    assert "canvases are not kept any more: no space is left" in caplog.text
    assert not own.storage.below("rendered").drafts()


FILLING = """
import sys, pannier
with pannier.open(sys.argv[1]).feed("train", size=24, batch_size=2, rendered="fill", processes=int(sys.argv[2])) as feed:
    print("begun", flush=True)
    for epoch in feed.epochs(500):
        for batch in epoch:
            pass
"""


def test_a_killed_one_loses_nothing(own: pannier.Snapshot, scale: int) -> None:
    rng = np.random.default_rng(3)
    treatment = pannier.Treatment(24)
    expected = epochs(own, treatment, rendered=False)
    for _ in range(scale):
        program = [sys.executable, "-c", FILLING, own.store.path, str(rng.integers(2))]
        with subprocess.Popen(program, stdout=subprocess.PIPE) as process:
            assert process.stdout is not None
            process.stdout.readline()
            time.sleep(rng.random())
            process.kill()
        assert same(epochs(own, treatment), expected)
        assert not any(finding.is_damage for finding in pannier.verify(own.store))
    assert same(epochs(own, treatment, rendered="fill"), expected)
    assert plan_rendering(own, treatment, split="train").missing == 0
