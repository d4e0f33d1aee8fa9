"""The feed's contracts: order, exactly once, equal batches, loans, failure, closing."""

from __future__ import annotations

import gc
import hashlib
import json
import os
import pickle
import random
import signal
import subprocess
import sys
import threading
import time
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any

import numpy as np
import pytest

import pannier
from pannier.errors import DamageError, LimitError, UsageError
from pannier.feeding.feed import Feed
from pannier.feeding.job import FeedJob, job_of
from pannier.feeding.needs import Needs
from pannier.feeding.order import shuffled
from pannier.feeding.plan import make_plan
from pannier.feeding.threads import Threads
from pannier.hashing import fold, text_hash
from pannier.images.chance import draw
from pannier.images.prepare import Preparation
from pannier.memory import release_free_memory, working_bytes
from tests.conftest import draw as drawn_picture
from tests.conftest import encoded, fill

TREATMENT = pannier.Treatment(24, flip="both")


def fingerprint(snapshot: pannier.Snapshot, split: str | None = "train", epochs: int = 2, **options: object) -> str:
    """A digest of everything that a feed gives out."""
    hasher = hashlib.sha256()
    with snapshot.feed(split, TREATMENT, batch_size=8, seed=7, **options) as feed:
        for epoch in feed.epochs(epochs):
            for batch in epoch:
                hasher.update(batch.images.tobytes() + batch.labels.tobytes() + "\n".join(batch.keys).encode())
    return hasher.hexdigest()


def own_threads() -> list[threading.Thread]:
    return [thread for thread in threading.enumerate() if thread.name.startswith("pannier-")]


def test_batches_are_equal_whatever_the_workers_the_ahead_and_the_limit(packed: pannier.Snapshot) -> None:
    expected = fingerprint(packed)
    for options in (
        {"workers": 1, "ahead": 1},
        {"workers": 5},
        {"memory_limit": None},
        {"memory_limit": "24MiB", "ahead": 3},
    ):
        assert fingerprint(packed, **options) == expected
    assert fingerprint(packed, epochs=1) != expected


def test_batches_are_equal_to_the_treatment_of_each_record_alone(packed: pannier.Snapshot) -> None:
    with packed.feed("val", TREATMENT, batch_size=5) as feed:
        for batch in feed:
            for image, key, label in zip(batch.images, batch.keys, batch.labels, strict=True):
                assert np.array_equal(image, TREATMENT(packed[key].bytes()))
                assert packed.classes[label] == packed[key].label


def test_an_epoch_holds_every_record_once_and_epochs_differ(packed: pannier.Snapshot) -> None:
    with packed.feed("train", TREATMENT, batch_size=8) as feed:
        epochs = [[key for batch in epoch for key in batch.keys] for epoch in feed.epochs(3)]
        assert len(feed) == 6
    expected = sorted(record.key for record in packed if record.split == "train")
    assert all(sorted(keys) == expected for keys in epochs)
    assert epochs[0] != epochs[1] != epochs[2]


def test_order_and_draws_are_frozen() -> None:
    hashes = np.array(
        [text_hash(key) for key in ("twill/0042.jpg", "satin/0001.jpg", "plain/0007.png", "rib/1.jpg")], np.uint64
    )
    few, many = (np.arange(count) for count in (6, 5))
    assert [shuffled(few, 6, 7, epoch).tolist() for epoch in range(3)] == FROZEN_ORDER
    assert [shuffled(many, 1_000_000, 7, epoch).tolist() for epoch in range(2)] == FROZEN_PLACES
    assert [f"{value:016x}" for value in draw(hashes, 7, 1, text_hash("flip"), 0).tolist()] == FROZEN_DRAWS
    state = fold(7, 1)
    assert draw(hashes, 7, 1, text_hash("flip"), 0)[0] == _continued(state, int(hashes[0]), text_hash("flip"), 0)


FROZEN_ORDER = [[5, 3, 2, 0, 1, 4], [2, 0, 4, 1, 3, 5], [1, 5, 0, 2, 4, 3]]
FROZEN_PLACES = [[11727, 305034, 322428, 473659, 407330], [259351, 528982, 484118, 340125, 218943]]
FROZEN_DRAWS = ["6a74f6d0318b0e2b", "ce12610514a77cb3", "20ec7d22fb63ae42", "8fd4c3044cdd54d9"]


def _continued(state: int, *words: int) -> int:
    from pannier.hashing import mix

    for word in words:
        state = mix(((state ^ word) + 0x9E3779B97F4A7C15) % 2**64)
    return state


def test_flips_are_drawn_at_one_half_and_for_training_alone(packed: pannier.Snapshot) -> None:
    plain = pannier.Treatment(24)
    with packed.feed("train", TREATMENT, batch_size=60) as feed:
        mirrored = [
            not np.array_equal(image, plain(packed[key].bytes()))
            for epoch in feed.epochs(6)
            for batch in epoch
            for image, key in zip(batch.images, batch.keys, strict=True)
        ]
    assert 0.6 < np.mean(mirrored) < 0.9  # both axes at one half each: three quarters are mirrored somehow
    with packed.feed("val", TREATMENT) as feed:
        assert not feed.augment
    bits = draw(np.arange(20_000, dtype=np.uint64), 1, 2, text_hash("flip"), 0) >> np.uint64(63)
    assert abs(float(bits.mean()) - 0.5) < 0.02


@pytest.mark.parametrize(("last", "sizes"), [("keep", [8, 4]), ("drop", [8])])
def test_the_last_batch_is_kept_or_dropped(packed: pannier.Snapshot, last: str, sizes: list[int]) -> None:
    with packed.feed("val", TREATMENT, batch_size=8, last=last) as feed:
        assert [len(batch) for batch in feed] == sizes
        assert len(feed) == len(sizes)


def test_a_loop_after_a_break_is_the_next_epoch(packed: pannier.Snapshot) -> None:
    with packed.feed("train", TREATMENT, batch_size=8) as feed:
        whole = [[batch.keys for batch in epoch] for epoch in feed.epochs(3)]
    with packed.feed("train", TREATMENT, batch_size=8) as feed:
        for batch in feed:
            assert batch.keys == whole[0][0]
            break
        assert [batch.keys for batch in feed] == whole[1]
        for epoch in feed.epochs(1):
            assert next(epoch).keys == whole[2][0]
        assert next(iter(feed)).epoch == 3


def test_labels_come_in_every_form(tmp_path: Path) -> None:
    folder = fill(tmp_path / "a", 3, ("off", "on"))
    (folder / "loose.jpg").write_bytes((folder / "on" / "0000.jpg").read_bytes() + b"\0")
    snapshot = pannier.create(tmp_path / "s.store").pack(folder, unlabeled="keep").snapshot
    got = {}
    for form in ("number", "one_hot", "name"):
        with snapshot.feed(None, TREATMENT, label_as=form, batch_size=9) as feed:
            got[form] = next(iter(feed)).labels
    assert got["name"] == [None, "off", "off", "off", "on", "on", "on"]
    assert got["number"].tolist() == [-1, 0, 0, 0, 1, 1, 1]
    assert got["number"].dtype == np.int64
    assert got["one_hot"].tolist() == [[0, 0]] + [[1, 0]] * 3 + [[0, 1]] * 3
    with pytest.raises(UsageError, match="label_as"):
        snapshot.feed(None, label_as="binary")
    with snapshot.feed(None, TREATMENT, batch_size=9) as feed:
        images, labels = next(iter(feed))
    assert images.shape[0] == 7
    assert labels.tolist() == got["number"].tolist()


def test_no_treatment_gives_the_encoded_bytes(packed: pannier.Snapshot) -> None:
    with packed.feed("val", batch_size=5) as feed:
        assert {key: data for batch in feed for key, data in zip(batch.keys, batch.images, strict=True)} == {
            record.key: record.bytes() for record in packed if record.split == "val"
        }
        largest = sorted((record.byte_count for record in packed if record.split == "val"), reverse=True)[:5]
        assert feed.plan.batch_bytes == sum(largest)


def test_batches_stay_valid_while_any_view_of_them_is_held(packed: pannier.Snapshot) -> None:
    with packed.feed("train", TREATMENT, batch_size=4, ahead=1) as feed:
        kept = [(batch.images[1:2, :, ::2], batch.images[1:2, :, ::2].copy()) for batch in feed]
        assert feed.meter.working_memory_bytes > feed.plan.total_bytes
        assert all(np.array_equal(view, copy) for view, copy in kept)
        del kept
        gc.collect()
        for batch in feed:
            batch.images[:] = 0  # the buffer is the consumer's while it holds it
    assert np.all(batch.images == 0)


@pytest.mark.parametrize("processes", [0, 1])
def test_batches_are_shared_with_other_array_libraries_as_long_as_they_see_them(
    packed: pannier.Snapshot, processes: int
) -> None:
    import tvm_ffi

    with packed.feed("train", TREATMENT, batch_size=4, ahead=1, processes=processes) as feed:
        kept = []
        for batch in feed:
            assert batch.images.ctypes.data % 64 == 0
            kept.append((tvm_ffi.from_dlpack(batch.images), batch.images.copy()))
            assert np.shares_memory(np.from_dlpack(kept[-1][0]), batch.images)
        del batch
        gc.collect()
        assert all(np.array_equal(np.from_dlpack(tensor), copy) for tensor, copy in kept)
        del kept
        assert sum(len(batch) for batch in feed) == feed.records


def test_a_closed_feed_leaves_nothing_behind(packed: pannier.Snapshot) -> None:
    fingerprint(packed)
    handles = len(os.listdir("/proc/self/fd"))
    for leave in ("close", "break", "exception", "unstarted"):
        feed = packed.feed("train", TREATMENT, batch_size=4)
        try:
            with feed:
                for _ in feed if leave != "unstarted" else ():
                    if leave == "break":
                        break
                    if leave == "exception":
                        raise ZeroDivisionError
        except ZeroDivisionError:
            pass
        feed.close()
        assert own_threads() == []
        with pytest.raises(UsageError, match="closed"):
            next(iter(feed))
    assert len(os.listdir("/proc/self/fd")) == handles


def test_feeds_opened_and_closed_leak_nothing(own: pannier.Snapshot, scale: int) -> None:
    def one(number: int) -> None:
        options: dict[str, Any] = {"batch_size": 4, "rendered": "fill" if number % 7 == 3 else None}
        options["processes"] = int(number % 10 == 9)
        feed = own.feed("train", pannier.Treatment(24, pad=f"#{number % 3:06x}"), **options)
        for _, batch in zip(range(1 + number % 3), feed, strict=False):
            assert len(batch) == 4
        if number % 5:
            feed.close()
        else:
            del feed

    def held() -> tuple[int, int, int]:
        gc.collect()
        release_free_memory()
        leases = len(os.listdir(own.store.path / "leases"))
        return len(os.listdir("/proc/self/fd")), len(own_threads()), leases

    for number in range(10):
        one(number)
    before, level = held(), working_bytes()
    for number in range(20 * scale):
        one(number)
    until = time.monotonic() + 5
    while held() != before and time.monotonic() < until:
        time.sleep(0.05)
    assert held() == before
    assert working_bytes() < level + (4 << 20)


def test_a_forgotten_feed_ends_its_threads(packed: pannier.Snapshot) -> None:
    feed = packed.feed("train", TREATMENT, batch_size=4)
    next(iter(feed))
    del feed
    gc.collect()
    until = time.monotonic() + 5
    while own_threads() and time.monotonic() < until:
        time.sleep(0.01)
    assert own_threads() == []


def test_a_process_ends_although_a_loop_stands_still(packed: pannier.Snapshot) -> None:
    """The interpreter closes the suspended loop when the feed's threads are gone already: waiting for them would hang."""
    program = (
        "import pannier\n"
        f"feed = pannier.open({str(packed.store.path)!r}).feed(None, pannier.Treatment(16), batch_size=4)\n"
        "batches = iter(feed)\n"
        "next(batches)\n"
    )
    assert subprocess.run([sys.executable, "-c", program], timeout=60, check=False).returncode == 0


def test_a_worker_that_dies_without_a_word_is_an_error_not_a_hang(
    packed: pannier.Snapshot, monkeypatch: pytest.MonkeyPatch
) -> None:
    from pannier.feeding import engine

    monkeypatch.setattr(engine, "LIVENESS_SECONDS", 0.05)
    monkeypatch.setattr(engine.Hand, "work", lambda self, run: sys.exit())
    monkeypatch.setattr(threading, "excepthook", lambda _: None)
    with packed.feed(None, TREATMENT) as feed, pytest.raises(pannier.PannierError, match="has died"):
        next(iter(feed))
    assert own_threads() == []


def test_two_loops_over_one_feed_at_once_are_refused(packed: pannier.Snapshot) -> None:
    with packed.feed("train", TREATMENT, batch_size=4) as feed:
        first, second = iter(feed), iter(feed)
        next(first)
        next(second)
        with pytest.raises(UsageError, match="two loops"):
            next(first)


def test_a_damaged_record_stops_the_feed_and_is_named(tmp_path: Path) -> None:
    snapshot = pannier.create(tmp_path / "s.store").pack(fill(tmp_path / "a", 4)).snapshot
    place = snapshot.index.find(np.frombuffer(bytes.fromhex(snapshot["twill/0002.jpg"].sha256), np.uint8).reshape(1, 32))
    shard = next((snapshot.store.path / "shards").glob("*.arrow"))
    with open(shard, "r+b") as file:
        file.seek(int(place.offset[0]) + 100)
        byte = file.read(1)
        file.seek(-1, os.SEEK_CUR)
        file.write(bytes([byte[0] ^ 1]))
    with (
        snapshot.feed(None, TREATMENT, batch_size=4) as feed,
        pytest.raises(DamageError, match=rf"'twill/0002.jpg' \(row {place.row[0]} of shard {shard.stem}\)") as caught,
    ):
        list(feed)
    assert caught.value.key == "twill/0002.jpg"
    assert own_threads() == []


def test_ctrl_c_ends_a_feeding_process_at_once(packed: pannier.Snapshot) -> None:
    program = (
        "import pannier, signal, sys\n"
        "signal.signal(signal.SIGINT, signal.default_int_handler)\n"  # ignored where the tests run in the background
        f"with pannier.open({str(packed.store.path)!r}).feed(None, pannier.Treatment(600)) as feed:\n"
        "    for _ in range(100000):\n"
        "        for batch in feed:\n"
        "            print('.', flush=True)\n"
    )
    child = subprocess.Popen([sys.executable, "-c", program], stdout=subprocess.PIPE, stderr=subprocess.PIPE)
    assert child.stdout is not None
    child.stdout.readline()
    child.send_signal(signal.SIGINT)
    _, errors = child.communicate(timeout=30)
    assert b"KeyboardInterrupt" in errors
    assert child.returncode in (1, 130, -signal.SIGINT)


def test_a_batch_that_ctrl_c_lost_between_queue_and_count_does_not_stop_the_end(packed: pannier.Snapshot) -> None:
    feed = packed.feed(None, TREATMENT, batch_size=8)
    epoch = iter(feed)
    next(epoch)
    maker = feed._shared._maker
    assert isinstance(maker, Threads)
    assert maker._stream is not None
    maker.engine.next_done(maker._stream)  # taken, and never counted
    epoch.close()
    assert sum(len(batch) for batch in feed) == len(packed)
    feed.close()


@pytest.mark.parametrize(
    "options",
    [{"batch_size": 0}, {"batch_size": 2.5}, {"workers": 0}, {"ahead": 0}, {"last": "pad"}, {"label_as": "onehot"}],
)
def test_impossible_options_are_refused_at_once(packed: pannier.Snapshot, options: dict[str, object]) -> None:
    with pytest.raises(UsageError, match=next(iter(options))):
        packed.feed("train", TREATMENT, **options)
    with pytest.raises(UsageError, match="seed"):
        packed.feed("train", TREATMENT, seed=-1)


def test_records_that_an_allocator_serves_are_prepared_on_heavy_lanes_alone(
    tmp_path: Path, store: pannier.Store, monkeypatch: pytest.MonkeyPatch
) -> None:
    """BMP, GIF and progressive JPEG, beside a PNG and a plain JPEG in planned buffers that are as large."""
    folder = fill(tmp_path / "a", 8)
    large = drawn_picture(7, 700, 900)
    for name, kind, options in (("b.bmp", "bmp", {}), ("p.jpg", "jpeg", {"progressive": True}), ("g.gif", "gif", {})):
        (folder / "twill" / name).write_bytes(encoded(large, kind, **options))
    (folder / "twill" / "l.png").write_bytes(encoded(drawn_picture(7, 701, 900), "png"))
    (folder / "twill" / "plain.jpg").write_bytes(encoded(drawn_picture(7, 1300, 1300), "jpeg"))
    snapshot = store.pack(folder).snapshot
    prepared: list[tuple[bool, str]] = []
    into = Preparation.into

    def watched(self: Preparation, data: Any, facts: Any, *rest: Any) -> None:
        prepared.append((facts.height == 700, threading.current_thread().name.rpartition("-")[0]))
        into(self, data, facts, *rest)

    with snapshot.feed(None, pannier.Treatment(700), batch_size=4, workers=2) as feed:
        feed.load()  # which prepares one of each kind, before any thread does
        monkeypatch.setattr(Preparation, "into", watched)
        assert feed.plan.heavy_lanes >= 1
        assert sum(len(batch) for batch in feed) == len(snapshot)
    assert sorted(set(prepared)) == [(False, "pannier-worker"), (True, "pannier-lane")]
    assert sum(allocates for allocates, _ in prepared) == 3


def test_a_feed_s_job_is_plain_data_that_gives_the_same_batches_anywhere(packed: pannier.Snapshot) -> None:
    """Pickled or as JSON, without the snapshot it was made of: what a child process gets."""
    job = job_of(packed, "train", TREATMENT, batch_size=8, seed=7, subset="50%", memory_limit="64MiB")
    digests = []
    for told in (job, pickle.loads(pickle.dumps(job)), FeedJob.from_plain(json.loads(json.dumps(job.to_plain())))):
        with Feed(told, told.open()) as feed:
            digests.append([hashlib.sha256(batch.images.tobytes()).hexdigest() for batch in feed])
    assert digests[0] == digests[1] == digests[2]
    assert digests[0]


def needs(batch_size: int = 32, heavy: int = 0) -> Needs:
    own = np.full(100, 200_000)
    allocated = np.where(np.arange(100) < heavy, 8 << 20, 10_000)
    encoded, ones, kinds = np.arange(50_000, 50_100), np.ones(100, np.int64), np.arange(100)
    return Needs(encoded, own, allocated, np.full(100, 400_000), ones, kinds, encoded, 600_000, batch_size, 3200)


def test_a_plan_is_a_function_of_its_inputs_and_never_over_its_limit() -> None:
    for limit in (None, 10 << 20, 64 << 20, 256 << 20):
        for heavy in (0, 5):
            try:
                plan = make_plan(needs(8, heavy), limit, 4)
            except LimitError as error:
                assert limit is not None
                assert make_plan(needs(8, heavy), error.smallest_limit, 4).total_bytes == error.smallest_limit
                continue
            assert plan == make_plan(needs(8, heavy), limit, 4)
            assert plan.ahead >= 1
            assert bool(plan.heavy_lanes) == bool(heavy)
            assert limit is None or plan.total_bytes <= limit


def test_tiny_pictures_have_one_worker_where_none_are_asked_for(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("pannier.feeding.job.usable_cores", lambda: 4)
    (tmp_path / "a" / "twill").mkdir(parents=True)
    for number in range(3):
        (tmp_path / "a" / "twill" / f"{number}.png").write_bytes(encoded(drawn_picture(number, 32, 32), "png"))
    snapshot = pannier.create(tmp_path / "s.store").pack(tmp_path / "a", near=None).snapshot

    def workers(size: int, rendered: bool = False, asked: int | None = None, **steps: Any) -> int:
        treatment = pannier.Treatment(size, **steps)
        if rendered:
            snapshot.render(None, treatment)
        with snapshot.feed(None, treatment, rendered=rendered, workers=asked) as feed:
            assert sum(len(batch) for batch in feed) == 3
            return feed.plan.workers

    assert (workers(32), workers(40), workers(32, turn=10)) == (1, 4, 4)  # small as it is, there is other work
    assert (workers(100, rendered=True), workers(120, rendered=True)) == (1, 4)
    assert (workers(32, asked=3), workers(100, rendered=True, asked=2)) == (3, 2)


def test_a_limit_too_small_names_what_would_fit(packed: pannier.Snapshot) -> None:
    with pytest.raises(LimitError, match=r"a batch size of \d+ would fit, or a limit of") as caught:
        packed.feed("train", pannier.Treatment(224), batch_size=64, memory_limit="30MiB")
    assert caught.value.batch_size is not None
    packed.feed("train", pannier.Treatment(224), batch_size=caught.value.batch_size, memory_limit="30MiB").close()
    packed.feed("train", pannier.Treatment(224), batch_size=64, memory_limit=caught.value.smallest_limit).close()
    with pytest.raises(LimitError, match=r"record '.*' alone takes .* raise the limit"):
        packed.feed("train", TREATMENT, memory_limit="100KiB")


def test_raced_feeds_give_the_same_bytes(packed: pannier.Snapshot, scale: int, monkeypatch: pytest.MonkeyPatch) -> None:
    """A tiny switch interval and random delays wherever a picture is read."""
    from pannier.store.places import PictureReader

    expected = fingerprint(packed, epochs=1)
    read_into = PictureReader.read_into

    def delayed(self: PictureReader, *arguments: object) -> None:
        if random.random() < 0.2:
            time.sleep(random.random() * 0.002)
        read_into(self, *arguments)  # type: ignore[arg-type]

    monkeypatch.setattr(PictureReader, "read_into", delayed)
    before = sys.getswitchinterval()
    sys.setswitchinterval(1e-6)
    try:
        for i in range(10 * scale):
            assert fingerprint(packed, epochs=1, workers=1 + i % 6, ahead=1 + i % 3) == expected
    finally:
        sys.setswitchinterval(before)


def test_threads_that_meet_on_a_fresh_snapshot_all_get_their_pictures(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """The look-up of pictures is built by whoever asks first, while others ask: none may see it half built."""
    from pannier.store import index

    quick = index._prefixes
    monkeypatch.setattr(index, "_prefixes", lambda sha256: (time.sleep(random.random() * 0.002), quick(sha256))[1])
    store = pannier.create(tmp_path / "s.store")
    for number in range(6):
        store.pack(fill(tmp_path / str(number), 4, first=10 * number), prefix=str(number), shard_size=1 << 14)
    truth = {record.key: record.bytes() for record in store.snapshot()}
    before = sys.getswitchinterval()
    sys.setswitchinterval(1e-6)
    try:
        for _ in range(5):
            snapshot = pannier.open(store.path)  # nothing of it is looked up yet
            with ThreadPoolExecutor(8) as pool:
                found = list(pool.map(lambda key: snapshot[key].bytes(), truth))  # noqa: B023
            assert dict(zip(truth, found, strict=True)) == truth
    finally:
        sys.setswitchinterval(before)
