"""Engines in processes of their own: the same batches, and nothing left however either side ends."""

from __future__ import annotations

import gc
import logging
import os
import random
import signal
import subprocess
import sys
import threading
import time
from pathlib import Path
from typing import Any

import numpy as np
import pytest

import pannier
from pannier.errors import DamageError, LimitError, PannierError, TreatmentError, UsageError
from tests.conftest import fill
from tests.test_feed import TREATMENT, fingerprint, own_threads

STEP = """
import numpy as np
import pannier

@pannier.own_step("test apart", at="values")
def apart(array):
    print("seen")
    if array.max() > {limit}:
        raise ValueError("too bright")
    return array / 2
"""


def engines_of(feed: pannier.Feed) -> list[int]:
    return list(feed.engines)


def has_ended(pid: int) -> bool:
    try:
        return Path(f"/proc/{pid}/stat").read_bytes().rpartition(b")")[2].split()[0] == b"Z"
    except OSError:
        return True


def all_ended(pids: list[int], seconds: float = 10.0) -> bool:
    until = time.monotonic() + seconds
    while not all(map(has_ended, pids)) and time.monotonic() < until:
        time.sleep(0.01)
    return all(map(has_ended, pids))


def test_batches_are_equal_whatever_makes_them(packed: pannier.Snapshot) -> None:
    expected, steps = fingerprint(packed), fingerprint(packed, steps=5, parts=2, part=1, last="wrap")
    assert fingerprint(packed, processes=1) == expected
    assert fingerprint(packed, processes=1, ahead=1, workers=3, memory_limit="64MiB") == expected
    assert fingerprint(packed, processes=3) == expected
    assert fingerprint(packed, processes=2, steps=5, parts=2, part=1, last="wrap") == steps
    assert own_threads() == []


def test_loops_go_on_where_they_left_and_any_batch_can_be_had(packed: pannier.Snapshot) -> None:
    with packed.feed("train", TREATMENT, batch_size=8, processes=0) as feed:
        whole = [[batch.keys for batch in epoch] for epoch in feed.epochs(3)]
    for count in (1, 2):
        with packed.feed("train", TREATMENT, batch_size=8, processes=count) as feed:
            for batch in feed:
                assert batch.keys == whole[0][0]
                break
            pids = engines_of(feed)
            assert [batch.keys for batch in feed] == whole[1]
            assert feed.batch_at(0, 3).keys == whole[0][3]
            assert [batch.keys for batch in feed] == whole[2]
            first, second = iter(feed), iter(feed)
            next(first)
            next(second)
            with pytest.raises(UsageError, match="two loops"):
                next(first)
            assert engines_of(feed) == pids
            position = feed.position
        assert all_ended(pids)
        with packed.feed("train", TREATMENT, batch_size=8, position=position) as other:
            assert next(iter(other)).epoch == position["epoch"]


def test_batches_stay_valid_while_any_view_of_them_is_held_and_a_consumer_may_keep_all(packed: pannier.Snapshot) -> None:
    for count in (1, 2):
        with packed.feed("train", TREATMENT, batch_size=4, ahead=1, processes=count) as feed:
            kept = [(batch.images[1:2, :, ::2], batch.images[1:2, :, ::2].copy()) for batch in feed]
            assert feed.meter.working_memory_bytes > feed.plan.total_bytes
            assert all(np.array_equal(view, copy) for view, copy in kept)
            del kept
            for _ in range(3):  # what was added goes again
                for batch in feed:
                    batch.images[:] = 0
            maker = feed._shared._maker
            assert maker is not None
            assert maker.buffers <= 2 * count + 2
    gc.collect()
    assert np.all(batch.images == 0)


def test_nothing_is_left_behind(packed: pannier.Snapshot) -> None:
    fingerprint(packed, processes=1)
    gc.collect()  # what others have left
    handles, pids = len(os.listdir("/proc/self/fd")), list[int]()
    for leave in ("close", "break", "exception", "forgotten"):
        feed = packed.feed("train", TREATMENT, batch_size=4, processes=1)
        try:
            for _ in feed:
                pids += engines_of(feed)
                if leave in ("break", "forgotten"):
                    break
                if leave == "exception":
                    raise ZeroDivisionError
        except ZeroDivisionError:
            pass
        if leave != "forgotten":
            feed.close()
            feed.close()
        del feed
        _ = None
        gc.collect()
    assert all_ended(pids)
    assert len(os.listdir("/proc/self/fd")) == handles
    assert not list((packed.store.path / "leases").glob("*"))


@pytest.mark.parametrize("how", [signal.SIGKILL, signal.SIGSTOP, signal.SIGSEGV])
def test_an_engine_that_is_killed_or_stopped_is_said_at_once(packed: pannier.Snapshot, how: signal.Signals) -> None:
    says = {signal.SIGKILL: "was killed", signal.SIGSTOP: "was stopped", signal.SIGSEGV: "signal 11"}[how]
    with packed.feed(None, TREATMENT, batch_size=4, ahead=1, processes=1) as feed:
        batches = (batch for epoch in feed.epochs() for batch in epoch)
        next(batches)
        (pid,) = engines_of(feed)
        os.kill(pid, how)
        started = time.monotonic()
        with pytest.raises(PannierError, match=says):
            list(batches)
        assert time.monotonic() - started < 10
        assert all_ended([pid])


PARENT = """
import os, sys, pannier
feed = pannier.open({store!r}).feed(None, pannier.Treatment(24), batch_size=4, processes=2)
batches = (batch for epoch in feed.epochs() for batch in epoch)
kept = [next(batches)]
print(*feed.engines, flush=True)
for batch in batches:
    pass
"""


@pytest.mark.parametrize("how", [signal.SIGKILL, signal.SIGTERM, signal.SIGINT])
def test_engines_end_with_the_process_that_is_fed(own: pannier.Snapshot, how: signal.Signals, scale: int) -> None:
    for _ in range(scale):
        program = "import signal; signal.signal(signal.SIGINT, signal.default_int_handler)\n" + PARENT
        parent = subprocess.Popen(
            [sys.executable, "-c", program.format(store=str(own.store.path))],
            stdout=subprocess.PIPE,
            stderr=subprocess.PIPE,
            text=True,
        )
        assert parent.stdout is not None
        pids = [int(word) for word in parent.stdout.readline().split()]
        assert len(pids) == 2
        time.sleep(random.random() * 0.2)
        parent.send_signal(how)
        _, errors = parent.communicate(timeout=30)
        assert all_ended(pids)
        assert ("KeyboardInterrupt" in errors) == (how == signal.SIGINT)
        assert "leaked" not in errors
        assert "Fatal" not in errors
        assert how == signal.SIGINT or not errors


def sockets() -> set[int]:
    handles = [(entry.name, os.readlink(entry)) for entry in Path("/proc/self/fd").iterdir() if entry.is_symlink()]
    return {int(name) for name, what in handles if what.startswith("socket:")}


def test_an_engine_whose_answers_nobody_hears_ends_in_order(
    packed: pannier.Snapshot, capfd: pytest.CaptureFixture[str]
) -> None:
    before = sockets()
    with packed.feed(None, TREATMENT, batch_size=4, processes=1) as feed:
        batches = (batch for epoch in feed.epochs() for batch in epoch)
        kept = [next(batches)]
        (pid,), (hears,) = engines_of(feed), sockets() - before
        with open(os.devnull, "rb") as nothing:
            os.dup2(nothing.fileno(), hears)
        kept.clear()  # one more batch is made, and said to nobody
        time.sleep(0.5)
        assert not has_ended(pid)
        with pytest.raises(PannierError, match="closed its output"):
            list(batches)
    assert all_ended([pid])
    assert capfd.readouterr().err == ""


def test_ctrl_c_at_any_moment_leaves_a_feed_that_goes_on(packed: pannier.Snapshot) -> None:
    def handler(*_: object) -> None:
        raise KeyboardInterrupt

    before = signal.signal(signal.SIGALRM, handler)
    try:
        with packed.feed(None, TREATMENT, batch_size=4, processes=1) as feed:
            next(iter(feed))
            for i in range(6):
                signal.setitimer(signal.ITIMER_REAL, 0.002 + 0.007 * i)
                with pytest.raises(KeyboardInterrupt):
                    sum(len(batch) for epoch in feed.epochs() for batch in epoch)
                assert sum(len(batch) for batch in feed) == len(packed)
    finally:
        signal.setitimer(signal.ITIMER_REAL, 0)
        signal.signal(signal.SIGALRM, before)


def test_errors_come_as_they_are(tmp_path: Path) -> None:
    snapshot = pannier.create(tmp_path / "s.store").pack(fill(tmp_path / "a", 4)).snapshot
    with pytest.raises(LimitError, match="would fit"):
        snapshot.feed(None, pannier.Treatment(224), batch_size=64, memory_limit="30MiB", processes=1)
    shard = next((snapshot.store.path / "shards").glob("*.arrow"))
    shard.chmod(0o644)
    with open(shard, "r+b") as file:
        file.seek(shard.stat().st_size // 2)
        file.write(b"\0" * 64)
    with snapshot.feed(None, TREATMENT, batch_size=4, processes=1) as feed, pytest.raises(DamageError) as caught:
        list(feed)
    assert caught.value.key in [record.key for record in snapshot]
    assert own_threads() == []


def test_own_steps_travel_by_module_or_threads_serve(
    packed: pannier.Snapshot, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, caplog: Any, capfd: Any
) -> None:
    (tmp_path / "apart_steps.py").write_text(STEP.format(limit=300))
    monkeypatch.syspath_prepend(tmp_path)
    __import__("apart_steps")
    treatment = TREATMENT.with_fields(own=["test apart"])
    with packed.feed("val", treatment, processes=1) as feed:
        (batch,) = list(feed)
        assert feed.processes == 1
        assert np.array_equal(batch.images, np.stack([treatment(packed[key].bytes()) for key in batch.keys]))
    assert "seen" in capfd.readouterr().err
    (tmp_path / "apart_steps.py").write_text(STEP.format(limit=-1))
    with packed.feed("val", treatment, processes=1) as feed, pytest.raises(TreatmentError, match="too bright") as caught:
        list(feed)
    assert isinstance(caught.value.__cause__, ValueError)
    (tmp_path / "apart_steps.py").write_text("")
    with caplog.at_level(logging.WARNING), packed.feed("val", treatment, processes=1) as feed:
        assert len(list(feed)) == 1
        assert feed.processes == 0
    assert "threads of this process serve: " in caplog.text
    pannier.own_step("test here", at="values", thread_safe=True)(lambda array: array)
    monkeypatch.setitem(sys.modules["tests.test_processes"].__dict__, "__spec__", None)
    with packed.feed("val", TREATMENT.with_fields(own=["test here"]), processes=1) as feed:
        assert feed.processes == 0
        assert "another process cannot import" in feed.notes[0]
    for made in (packed.feed("val", processes=2), packed.feed("val")):
        with made as feed:
            assert feed.processes == 0
            assert sum(len(batch) for batch in feed) == feed.records


def test_a_forked_process_disturbs_nothing(packed: pannier.Snapshot) -> None:
    with packed.feed("train", TREATMENT, batch_size=4, processes=1) as feed:
        expected = [batch.images.copy() for batch in feed]
        batches = feed.epochs(1)
        loop = iter(next(batches))
        batch = next(loop)
        seen = batch.images.copy()
        pid = os.fork()
        if pid == 0:
            code = 1
            try:
                next(loop)
            except UsageError as error:
                code = 0 if "forked" in str(error) else 2
            del batch, loop, batches
            feed.close()
            os._exit(code)
        assert os.waitpid(pid, 0)[1] == 0
        assert np.array_equal(batch.images, seen)
        assert len(list(loop)) == len(expected) - 1


def test_it_starts_from_any_thread_and_any_program(packed: pannier.Snapshot) -> None:
    program = (
        "import pannier\n"
        f"with pannier.open({str(packed.store.path)!r}).feed('val', pannier.Treatment(24), processes=1) as feed:\n"
        "    print(feed.processes, sum(len(batch) for batch in feed))\n"
    )
    done = subprocess.run([sys.executable], input=program, capture_output=True, text=True, timeout=60, check=False)
    assert (done.stdout.split(), done.stderr) == (["1", "12"], "")
    found: list[str] = []
    thread = threading.Thread(target=lambda: found.append(fingerprint(packed, processes=1)))
    thread.start()
    thread.join()
    assert found == [fingerprint(packed)]  # the engine outlives no thread that it was started by, nor ends with it


def test_what_auto_takes_is_stated(packed: pannier.Snapshot, monkeypatch: pytest.MonkeyPatch) -> None:
    from pannier.feeding import plan

    large = 500 * 375 + 1.5 * 224 * 224
    assert plan.processes_for(1 << 30, large, None, 2) == plan.processes_for(1 << 30, None, None, 2) == 1
    assert plan.processes_for(1 << 30, large, 8 << 30, 40) == 3
    assert plan.processes_for(1 << 30, large, 2 << 30, 40) == 2  # a process for each GiB of the limit
    assert plan.processes_for(1 << 30, 3_000, None, 4) == plan.processes_for(1 << 30, 30_000, None, 4) == 4
    assert plan.processes_for(1 << 30, 40_000, None, 4) == 2
    assert plan.processes_for(1 << 20, large, None, 40) == plan.processes_for(1 << 30, large, 64 << 20, 40) == 0
    assert packed.feed("val", TREATMENT).processes == 0
    monkeypatch.setattr(plan, "LONG_EPOCH_BYTES", 1 << 10)
    with packed.feed("val", TREATMENT, memory_limit="1GiB") as feed:
        assert feed.processes == 1
        assert sum(len(batch) for batch in feed) == 12
    for wrong in (-1, 1.5, "many", True, 1000):
        with pytest.raises(UsageError, match="processes"):
            packed.feed("val", TREATMENT, processes=wrong)


def test_raced_engines_give_the_same_bytes(packed: pannier.Snapshot, scale: int) -> None:
    """Tiny switch intervals on this side, buffers that are kept and let go at random."""
    before = sys.getswitchinterval()
    expected = [batch.images.copy() for batch in _fed(packed, 0)]
    sys.setswitchinterval(1e-6)
    try:
        for i in range(4 * scale):
            kept: list[Any] = []
            chance = random.Random(i)
            for at, batch in enumerate(_fed(packed, 1 + i % 2, ahead=1 + i % 3)):
                assert np.array_equal(batch.images, expected[at])
                kept.append((at, batch.images[chance.randrange(2) :]))
                if chance.random() < 0.5:
                    kept.pop(chance.randrange(len(kept)))
            assert all(np.array_equal(view, expected[at][-len(view) :]) for at, view in kept)
    finally:
        sys.setswitchinterval(before)


def _fed(snapshot: pannier.Snapshot, processes: int, **options: Any) -> Any:
    with snapshot.feed("train", TREATMENT, batch_size=4, seed=7, processes=processes, **options) as feed:
        for epoch in feed.epochs(3):
            yield from epoch
