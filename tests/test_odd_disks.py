"""What holds when the ground moves: clocks jump, folders vanish, signals come, disks are full, read-only or odd."""

from __future__ import annotations

import contextlib
import errno
import os
import random
import shlex
import shutil
import signal
import subprocess
import sys
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest

import pannier
from pannier.errors import ConflictError, PannierError, StoreError
from pannier.storage import local
from pannier.store.leases import TIDIER, WRITER, Held
from tests.conftest import fill
from tests.operations import OPERATIONS, make_world, operate, state

pytestmark = pytest.mark.proof


@pytest.fixture(scope="module")
def world(tmp_path_factory: pytest.TempPathFactory) -> Path:
    return make_world(tmp_path_factory.mktemp("world"))


def damage(store: Path) -> list[pannier.Finding]:
    return [finding for finding in pannier.verify(store) if finding.is_damage]


def mounted(mount: str, words: list[object], after: str = "true") -> subprocess.CompletedProcess[str]:
    """A command of `pannier` with a mount that nobody else sees, then one of the shell; skips where that is not allowed."""
    called = shlex.join([sys.executable, "-m", "pannier", *map(str, words)])
    command = ["unshare", "-m", "sh", "-c", f"{mount} || exit 77; {called}; status=$?; {after}; exit $status"]
    ended = subprocess.run(command, capture_output=True, text=True, timeout=300, check=False)
    if ended.returncode == 77 or "unshare failed" in ended.stderr:
        pytest.skip("mounting is not allowed here")
    return ended


def test_a_disk_that_is_mounted_read_only_is_read_and_verified_and_nothing_else(world: Path, tmp_path: Path) -> None:
    store = shutil.copytree(world / "s.store", tmp_path / "s.store")
    held = Held(pannier.open_store(store).storage, WRITER)  # whose age is asked for
    named = shlex.quote(str(store))
    mount = f"mount --bind {named} {named} && mount -o remount,ro,bind {named}"
    calls = (["verify", store], ["tidy", store, "--preview", "--older-than", "0s"], ["feed", store, "--size", 16])
    verify, tidy, feed, pack = (mounted(mount, [*words]) for words in (*calls, ["pack", world / "third", store]))
    held.end()
    assert (verify.returncode, tidy.returncode, feed.returncode) == (0, 0, 0), verify.stderr + tidy.stderr + feed.stderr
    assert pack.returncode == 1
    assert "read-only" in pack.stderr
    assert len(pack.stderr.strip().splitlines()) == 1


def test_a_disk_that_is_really_full_is_said_and_nothing_is_left(world: Path, tmp_path: Path) -> None:
    small = tmp_path / "small"
    small.mkdir()
    mount = f"mount -t tmpfs -o size=64k,mode=0777 tmpfs {shlex.quote(str(small))}"
    for words in (
        ["pack", world / "first", small / "s.store"],
        ["export", world / "s.store", small / "out", "--size", 64, "--arrays"],
        ["export", world / "s.store", small / "out", "--size", 64, "--encode", "png"],
        ["export", world / "s.store", small / "out"],
    ):
        ended = mounted(mount, words, f"find {shlex.quote(str(small))} -type f")
        assert ended.returncode == 1, (words, ended.stdout, ended.stderr)
        assert "the disk is full while writing" in ended.stderr, (words, ended.stderr)
        names = [Path(line).name for line in ended.stdout.splitlines() if line.startswith(str(small))]
        assert not [name for name in names if name.endswith(".new") or name.startswith(".draft-")], (words, names)
        assert "--size" not in words or not names, (words, names)  # the others go on from what is there


def test_a_file_system_without_hard_links_is_named(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """A stand-in: no such file system can be mounted everywhere."""

    def refuse(*_: Any, **__: Any) -> None:
        raise OSError(errno.EPERM, os.strerror(errno.EPERM))

    source = fill(tmp_path / "first", 2)
    monkeypatch.setattr(local.os, "link", refuse)
    with pytest.raises(StoreError, match="has no hard links, which a store needs; put the store on another one"):
        pannier.create(tmp_path / "s.store").pack(source)
    assert not list(tmp_path.rglob(".draft-*"))


@pytest.mark.parametrize("seconds", [-90_000, 90_000])
def test_a_clock_that_jumps_loses_nothing(world: Path, tmp_path: Path, seconds: int) -> None:
    """As if it had jumped since: everything in the store, a writer's lease too, was made at another time."""
    path = shutil.copytree(world / "s.store", tmp_path / "s.store")
    store, before = pannier.open_store(path), state(path)
    pictures = {record.key: record.bytes() for record in store.snapshot()}
    writer = Held(store.storage, WRITER)
    with store.snapshot().feed(None, batch_size=4, workers=1) as feed:
        batches = iter(feed)
        next(batches)
        for file in path.rglob("*"):
            if file.is_file():
                os.utime(file, (time.time() - seconds,) * 2)
        with contextlib.suppress(ConflictError):  # beside a writer whose lease still holds
            store.tidy(older_than="1d", yes=True)
        assert sum(map(len, batches)) == len(pictures) - 4
    if seconds > 0:  # to the store it stood still for too long: it must find out before it publishes anything
        with pytest.raises(ConflictError, match="stood still"):
            writer.check()
    else:
        writer.check()
    writer.end()
    assert state(path) == before
    assert {record.key: record.bytes() for record in store.snapshot()} == pictures
    assert damage(path) == []
    store.pack(world / "third")
    assert damage(path) == []


def test_a_tidier_whose_clock_is_another_waits_for_nobody_for_ever(tmp_path: Path) -> None:
    store = pannier.create(tmp_path / "s.store")
    held = Held(store.storage, TIDIER)
    (file,) = (tmp_path / "s.store" / "leases").iterdir()
    os.utime(file, (time.time() - 90_000,) * 2)
    assert len(store.pack(fill(tmp_path / "first", 2)).snapshot) == 6
    held.end()


@pytest.mark.parametrize("moment", ["read", "written", "fed"])
def test_a_store_that_vanishes_is_an_error_of_ours(world: Path, tmp_path: Path, moment: str) -> None:
    path = shutil.copytree(world / "s.store", tmp_path / "s.store")
    store = pannier.open_store(path)
    snapshot = store.snapshot()

    def vanish(*_: Any) -> None:
        shutil.rmtree(path, ignore_errors=True)

    if moment == "fed":
        with snapshot.feed(None, batch_size=2, workers=1) as feed, contextlib.suppress(PannierError):
            for batch in feed:  # what is open stays readable
                vanish()
                assert len(batch)
    elif moment == "written":
        with pytest.raises(PannierError):
            store.pack(world / "third", progress=vanish)
    calls: list[Callable[[], Any]] = [
        lambda: store.snapshot(),
        lambda: pannier.open_store(path),
        lambda: pannier.open_snapshot(path),
        lambda: pannier.verify(path),
        lambda: store.history(),
        lambda: store.tidy(preview=True),
        lambda: snapshot[0].bytes(),
        lambda: store.change(where="true", set="label=twill"),
    ]
    vanish()
    for call in calls:
        with pytest.raises(PannierError):
            call()


class _Interrupted(Exception):
    pass


@pytest.mark.filterwarnings("ignore::pytest.PytestUnraisableExceptionWarning")  # where it meets a callback of pytest's own
@pytest.mark.parametrize("name", OPERATIONS)
def test_a_signal_that_interrupts_a_call_leaves_before_or_after(world: Path, tmp_path: Path, name: str, scale: int) -> None:
    """A handler that raises, at any moment of a call: nothing half is seen, and nothing is left lying about."""

    def interrupt(*_: Any) -> None:
        raise _Interrupted

    after = shutil.copytree(world / "s.store", tmp_path / "after.store")
    started = time.monotonic()
    operate(name, world, after)
    took = time.monotonic() - started
    before, then = state(world / "s.store"), state(after)
    handler = signal.signal(signal.SIGALRM, interrupt)
    ends = {"before": 0, "after": 0}
    try:
        for number in range(1 if scale == 1 else 2 * scale):
            rng = random.Random(f"{name} {number}")
            store = shutil.copytree(world / "s.store", tmp_path / f"{number}.store")
            signal.setitimer(signal.ITIMER_REAL, rng.uniform(0.002, max(0.01, 1.2 * took)))
            with contextlib.suppress(_Interrupted, PannierError):
                try:
                    operate(name, world, store)
                finally:
                    signal.setitimer(signal.ITIMER_REAL, 0)
            found = state(store)
            assert found in (before, then) or (name == "rename" and found == before | then), number
            ends["after" if found == then else "before"] += 1
            assert damage(store) == [], number
            operate(name, world, store)
            assert state(store) == then, number
            shutil.rmtree(store)
    finally:
        signal.signal(signal.SIGALRM, handler)
    print(f"\n{sum(ends.values())} interruptions of {name!r} by a signal: {ends}")
