"""Stores in a bucket: whatever becomes of a request, and whoever writes at once, nothing is lost, nothing there twice."""

from __future__ import annotations

import json
import os
import random
import shutil
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

import pannier
from pannier.demo.bucket import environment
from pannier.errors import PannierError
from tests.buckets import Bucket
from tests.conftest import fill
from tests.operations import OPERATIONS, make_world, operate, state

pytestmark = pytest.mark.proof

# what becomes of one answer: refused, the connection closed before or after the work is done, done twice
ONCE = ("503", "reset", "lost", "twice")
FOR_GOOD = ("503", "reset", "lost")


@pytest.fixture(scope="module")
def world(tmp_path_factory: pytest.TempPathFactory) -> Path:
    return make_world(tmp_path_factory.mktemp("world"))


@pytest.fixture(scope="module")
def forked(bucket_endpoint: tuple[str, Path]) -> Iterator[subprocess.Popen[str]]:
    pipes: dict[str, Any] = {"stdin": subprocess.PIPE, "stdout": subprocess.PIPE, "text": True}
    pipes["env"] = os.environ | environment(bucket_endpoint[0])
    with subprocess.Popen([sys.executable, "-m", "tests.forked"], **pipes) as child:
        yield child


def damage(store: str) -> list[pannier.Finding]:
    return [finding for finding in pannier.verify(store) if finding.is_damage]


def ends_of(name: str, world: Path, bucket: Bucket) -> tuple[dict[str, Any], dict[str, Any], int]:
    """What a user sees before and after an operation, and how many requests it takes."""
    after = world / f"after {name}"
    if not after.exists():
        shutil.copytree(world / "s.store", after)
        operate(name, world, after)
    there = bucket.put(world / "s.store")
    bucket.counts()
    operate(name, world, there)
    return state(world / "s.store"), state(after), sum(bucket.counts().values())


def is_one_of(found: dict[str, Any], name: str, before: dict[str, Any], after: dict[str, Any]) -> bool:
    return found in (before, after) or (name == "rename" and found == before | after)


@pytest.mark.parametrize("name", OPERATIONS)
def test_any_request_that_fails_leaves_before_or_after(
    bucket: Bucket, world: Path, scale: int, name: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    before, after, requests = ends_of(name, world, bucket)
    rng, times = random.Random(name), min(len(FOR_GOOD), -(-scale // 10))
    jobs = [(at, how, False) for at in range(1, requests + 1) for how in rng.sample(ONCE, times)]
    jobs += [(at, how, True) for at in range(1, requests + 1) for how in rng.sample(FOR_GOOD, times)]
    chosen = rng.sample(jobs, 2) if scale == 1 else jobs  # at full scale every request fails, for a while and for good
    ends = {"before": 0, "after": 0}
    for at, how, for_good in chosen:
        there, is_done = bucket.put(world / "s.store"), False
        with monkeypatch.context() as patch:
            if for_good:
                patch.setattr("pannier.storage.remote.RETRIES", 1)
            bucket.fail_at(at, how, for_good=for_good)
            try:
                operate(name, world, there)
                is_done = True
            except PannierError as error:
                assert for_good, (at, how, error)
                assert len(str(error)) < 400
                assert "http" not in str(error)
        bucket.fail()
        found = state(there)
        assert found == after if is_done else is_one_of(found, name, before, after), (at, how, for_good)
        ends["after" if found == after else "before"] += 1
        assert damage(there) == [], (at, how, for_good)
        operate(name, world, there)
        assert state(there) == after, (at, how, for_good)
    print(f"\n{len(chosen)} failures over {requests} requests of {name!r}: {ends}")


@pytest.mark.parametrize("name", OPERATIONS)
def test_an_operation_killed_at_any_request_leaves_before_or_after(
    bucket: Bucket, world: Path, forked: subprocess.Popen[str], scale: int, name: str
) -> None:
    before, after, requests = ends_of(name, world, bucket)
    rng = random.Random(name)
    jobs = [(at, rng.choice(("before", "after"))) for at in range(1, requests + 1)]
    chosen = rng.sample(jobs, 1) if scale == 1 else jobs  # at full scale at every request
    ends = {"before": 0, "after": 0}
    for at, moment in chosen:
        there = bucket.put(world / "s.store")
        job = {"operation": name, "world": str(world), "store": there, "server": bucket.endpoint}
        assert forked.stdin is not None
        assert forked.stdout is not None
        forked.stdin.write(json.dumps(job | {"kill_at": at, "moment": moment}) + "\n")
        forked.stdin.flush()
        answer = json.loads(forked.stdout.readline())
        assert answer["signal"] == 9 or answer["exit"] == 0, answer  # it may need a request less
        bucket.fail()
        found = state(there)
        assert is_one_of(found, name, before, after), (at, moment)
        ends["after" if found == after else "before"] += 1
        assert damage(there) == [], (at, moment)
        operate(name, world, there)
        assert state(there) == after, (at, moment)
    print(f"\n{len(chosen)} kills over {requests} requests of {name!r}: {ends}")


def test_writers_at_once_on_one_bucket_lose_no_snapshot(bucket: Bucket, tmp_path: Path, scale: int) -> None:
    writers, rounds = (4, 2) if scale == 1 else (16, 5 * scale)
    store = pannier.create("s3://cloth/w.store")
    store.pack(fill(tmp_path / "a", 4))
    program = (
        "import sys, pannier\n"
        "store = pannier.open_store('s3://cloth/w.store')\n"
        f"for i in range({rounds}):\n"
        "    store.change(where='true', set={f'by_{sys.argv[1]}': i}, note=f'{sys.argv[1]} {i}')\n"
    )
    at_work = [subprocess.Popen([sys.executable, "-c", program, str(i)]) for i in range(writers)]
    assert [process.wait(900 * scale) for process in at_work] == [0] * writers
    notes = [step.note for step in store.history()][:-1]
    assert sorted(notes) == sorted(f"{writer} {i}" for writer in range(writers) for i in range(rounds))
    sides = [set(record.side.items()) for record in store.snapshot()]
    assert all(side == {(f"by_{w}", rounds - 1) for w in range(writers)} for side in sides)
    assert damage("s3://cloth/w.store") == []
    print(f"\n{writers} writers at once in one bucket, {rounds} snapshots each: every one is there, none twice")
