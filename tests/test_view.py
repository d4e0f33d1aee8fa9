"""Records by index: what a feed gives of them, from any thread and any process."""

from __future__ import annotations

import multiprocessing
import pickle
from concurrent.futures import ProcessPoolExecutor, ThreadPoolExecutor
from pathlib import Path

import numpy as np
import pytest

import pannier

TREATMENT = pannier.Treatment(16, turn=20, brightness=0.2)


def test_a_view_gives_what_a_feed_gives(packed: pannier.Snapshot) -> None:
    view = packed.view("train", TREATMENT, seed=3)
    assert view.keys == sorted(view.keys)
    assert len(view) == packed.splits["train"]
    with packed.feed("train", TREATMENT, seed=3, batch_size=8) as feed:
        for number, epoch in enumerate(feed.epochs(2)):
            view = view.at_epoch(number)
            for batch in epoch:
                places = [view.keys.index(key) for key in batch.keys]
                images, labels = view[places]
                assert np.array_equal(images, batch.images)
                assert labels.tolist() == batch.labels.tolist()
                one, label = view[places[0]]
                assert np.array_equal(one, batch.images[0])
                assert label == batch.labels[0]


def test_places_are_those_of_a_sequence(packed: pannier.Snapshot) -> None:
    view = packed.view("val", size=16)
    whole, numbers = view[:]
    assert np.array_equal(view[-1][0], whole[-1])
    assert np.array_equal(view[2:9:3][0], whole[2:9:3])
    assert [label for _, label in view] == numbers.tolist()
    with pytest.raises(IndexError):
        view[len(view)]


def test_threads_and_processes_get_the_same(packed: pannier.Snapshot) -> None:
    view = packed.view("train", TREATMENT, seed=3)
    whole = view[:][0]
    with ThreadPoolExecutor(4) as pool:
        assert np.array_equal([one for one, _ in pool.map(view.__getitem__, range(len(view)))], whole)
    assert np.array_equal(pickle.loads(pickle.dumps(view))[:][0], whole)
    with ProcessPoolExecutor(2, multiprocessing.get_context("spawn")) as pool:
        assert np.array_equal([one for one, _ in pool.map(view.__getitem__, (0, 5, 9))], whole[[0, 5, 9]])


def test_damage_is_said_with_shard_row_and_key(own: pannier.Snapshot) -> None:
    view = own.view("train", size=16)
    for shard in (Path(own.store.path) / "shards").iterdir():
        shard.chmod(0o644)
        content = bytearray(shard.read_bytes())
        for at in range(2000, len(content) - 2000, 97):
            content[at] ^= 0xFF
        shard.write_bytes(content)
    with pytest.raises(pannier.DamageError, match="record '.*' .row"):
        view[:]
