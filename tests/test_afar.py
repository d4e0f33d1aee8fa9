"""Feeding from afar: the same batches in few requests, kept near by within bounds, whatever the server does."""

from __future__ import annotations

import json
import os
import shutil
import subprocess
import sys
import threading
import time
from collections.abc import Callable
from functools import partial
from http.server import SimpleHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any

import numpy as np
import pytest

import pannier
from pannier.demo.bucket import FAULTS, IGNORES, environment
from pannier.errors import DamageError, NotFoundError, PannierError, StoreError, UsageError
from pannier.storage.cache import Cache, CacheOptions, _taken
from tests.buckets import Bucket
from tests.conftest import fill


@pytest.fixture(scope="module")
def many(tmp_path_factory: pytest.TempPathFactory) -> pannier.Snapshot:
    """Pictures of several sizes, more of them than fit into a few requests."""
    folder = tmp_path_factory.mktemp("many")
    fill(folder / "pictures", 60)
    store = pannier.create(folder / "many.store")
    return store.pack(folder / "pictures", shares={"train": 80, "val": 20}, seed=1).snapshot


@pytest.fixture
def far(bucket: Bucket, many: pannier.Snapshot) -> pannier.Snapshot:
    many.store.copy("main", pannier.create("s3://cloth/many.store"))
    bucket.counts()
    return pannier.open("s3://cloth/many.store")


def fed(snapshot: pannier.Snapshot, epochs: int = 1, **options: Any) -> list[Any]:
    how: dict[str, Any] = {"treatment": pannier.Treatment(24), "batch_size": 8, "seed": 3} | options
    with snapshot.feed("train", **how) as feed:
        return [(batch.keys, batch.images) for epoch in feed.epochs(epochs) for batch in epoch]


def same(one: list[Any], other: list[Any]) -> bool:
    return len(one) == len(other) and all(
        a[0] == b[0] and (np.array_equal(a[1], b[1]) if isinstance(a[1], np.ndarray) else list(a[1]) == list(b[1]))
        for a, b in zip(one, other, strict=True)
    )


@pytest.mark.parametrize(
    "how",
    [
        {},
        {"window": 16},
        {"shuffle": False, "workers": 1},
        {"treatment": None},
        {"processes": 1},
        {"memory_limit": "12MiB", "batch_size": 4},
        {"last": "wrap", "balance": "class"},
    ],
    ids=str,
)
def test_batches_from_afar_are_those_of_the_disk(many: pannier.Snapshot, far: pannier.Snapshot, how: Any) -> None:
    assert same(fed(many, 2, **how), fed(far, 2, **how))


def test_what_is_rendered_afar_is_read_from_afar(bucket: Bucket, many: pannier.Snapshot, far: pannier.Snapshot) -> None:
    far.render(size=24)
    for fields in ({"dtype": "uint8", "values": "raw"}, {}, {"flip": "horizontal"}):
        how = {"treatment": pannier.Treatment(24, **fields)}
        assert same(fed(many, **how), fed(far, rendered=True, **how))


def test_what_lies_together_comes_in_one_request(bucket: Bucket, far: pannier.Snapshot) -> None:
    with far.feed("train", size=24, batch_size=8, window=64, seed=2) as feed:
        assert feed.plan.fetched_bytes > 0
        bucket.counts()
        batches = list(feed)
    assert bucket.counts()["GET"] < len(batches)


def test_what_is_more_than_may_be_asked_for_ahead_comes_all_the_same(
    many: pannier.Snapshot, far: pannier.Snapshot, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("pannier.feeding.job.FETCHED_BYTES", (16 << 10, 0))
    for window in (None, 512):
        assert same(fed(far, 3, window=window), fed(many, 3, window=window))


def test_a_feed_that_is_left_early_reads_on_afterwards(many: pannier.Snapshot, far: pannier.Snapshot) -> None:
    with far.feed("train", size=24, batch_size=8, seed=3) as feed:
        for _ in range(5):
            next(iter(feed))
        assert feed._shared._maker.engine._fetcher._held <= feed.plan.fetched_bytes
        again = [(batch.keys, batch.images) for batch in feed]
    assert len(again) == len(fed(many))


def test_a_second_epoch_that_fits_reads_nothing_from_afar(
    bucket: Bucket, many: pannier.Snapshot, far: pannier.Snapshot, tmp_path: Path
) -> None:
    kept = pannier.open("s3://cloth/many.store", cache=tmp_path / "cache", cache_size="1GiB")
    for how in ({}, {"window": 16}, {"treatment": None}):
        assert same(fed(many, **how), fed(kept, **how))
    bucket.counts()
    with kept.feed("train", size=24, batch_size=8, seed=9) as feed:
        for _ in feed:
            pass
        bucket.counts()
        for _ in feed:
            pass
        assert bucket.counts() == {}
    code = f"import pannier; s = pannier.open('s3://cloth/many.store', cache={str(tmp_path / 'cache')!r})\n"
    code += "print(sum(len(b) for b in s.feed('train', size=24, batch_size=8)))"
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True)
    assert int(done.stdout) == many.splits["train"], done.stderr
    assert bucket.counts().get("GET", 0) < 12  # what names mean now, and no picture


def test_a_cache_that_is_harmed_or_deleted_costs_time_alone(
    bucket: Bucket, many: pannier.Snapshot, far: pannier.Snapshot, tmp_path: Path
) -> None:
    cache = tmp_path / "cache"
    kept = pannier.open("s3://cloth/many.store", cache=cache)
    right = fed(many)
    assert same(right, fed(kept))
    rng = np.random.default_rng(1)
    blocks = sorted(cache.rglob("*.block"))
    assert blocks
    for harm in ("flip", "table", "cut", "empty", "delete", "folder"):
        for block in cache.rglob("*.block"):
            content = bytearray(block.read_bytes())
            if harm == "flip":
                for at in rng.integers(8192, len(content), 4000).tolist():
                    content[at] ^= 1
                block.write_bytes(content)
            elif harm == "table":
                content[4096:8192] = rng.bytes(4096)
                block.write_bytes(content)
            elif harm in ("cut", "empty"):
                block.write_bytes(content[: len(content) // 2 if harm == "cut" else 0])
            elif harm == "delete":
                block.unlink()
        if harm == "folder":
            shutil.rmtree(cache)
        assert same(right, fed(pannier.open("s3://cloth/many.store", cache=cache))), harm
        assert same(right, fed(kept)), harm


def test_a_cache_is_bounded_and_an_epoch_that_is_larger_does_not_defeat_it(
    bucket: Bucket, many: pannier.Snapshot, tmp_path: Path
) -> None:
    store = pannier.create("s3://cloth/small.store")
    store.pack(many.store.path.parent / "pictures", shard_size="64KiB", shares={"train": 100})
    limit = 4 << 20
    kept = pannier.open("s3://cloth/small.store", cache=tmp_path, cache_size=limit)
    fed(kept)
    used = {path: path.stat().st_blocks * 512 for path in tmp_path.rglob("*.block")}
    assert 0 < sum(used.values()) <= limit
    bucket.counts()
    fed(kept)
    first = bucket.counts()["GET"]
    fed(kept)
    assert bucket.counts()["GET"] <= first
    assert set(tmp_path.rglob("*.block")) == set(used)
    for path in tmp_path.glob("*-*"):
        os.utime(path, (0, 0))  # nobody uses it any more: it gives way
    pannier.create("s3://cloth/other.store").pack(many.store.path.parent / "pictures", shares={"train": 100})
    other = pannier.open("s3://cloth/other.store", cache=tmp_path, cache_size=limit)
    fed(other, treatment=pannier.Treatment(16))
    assert set(tmp_path.rglob("*.block")) != set(used)


def test_a_cache_that_is_full_of_what_is_in_use_takes_nothing_more(tmp_path: Path) -> None:
    cache = Cache(CacheOptions(str(tmp_path), 2 * _taken(1 << 20)))
    used = [cache.file(name, lambda: 1 << 20) for name in ("a", "b")]
    for file in used:
        assert file is not None
        os.utime(file.path, (time.time() - 60, time.time() - 60))  # a minute ago is in use
    assert cache.file("c", lambda: 1 << 20) is None
    assert all(file is not None and file.path.exists() for file in used)


def test_a_plan_from_afar_has_what_is_fetched_ahead(far: pannier.Snapshot, many: pannier.Snapshot) -> None:
    how: dict[str, Any] = {"size": 16, "batch_size": 4, "workers": 1, "ahead": 2, "memory_limit": "256MiB"}
    with far.feed("train", **how) as there, many.feed("train", **how) as here:
        assert there.plan.fetched_bytes
        assert there.plan.total_bytes >= here.plan.total_bytes + there.plan.fetched_bytes
    limit = there.plan.total_bytes - 1
    with far.feed("train", **how | {"memory_limit": limit}) as less:
        assert less.plan.fetched_bytes < there.plan.fetched_bytes
        assert less.plan.total_bytes <= limit


def test_a_cache_that_cannot_be_written_is_gone_without(
    many: pannier.Snapshot, far: pannier.Snapshot, tmp_path: Path, caplog: pytest.LogCaptureFixture
) -> None:
    (tmp_path / "file").write_bytes(b"")
    kept = pannier.open("s3://cloth/many.store", cache=tmp_path / "file" / "cache")
    assert same(fed(many), fed(kept))
    assert sum("the cache is not written any more" in record.message for record in caplog.records) == 1
    with pytest.raises(UsageError, match="too small"):
        pannier.open("s3://cloth/many.store", cache=tmp_path, cache_size="1MiB")
    with pytest.raises(UsageError, match="no folder"):
        pannier.open("s3://cloth/many.store", cache_size="1GiB")


@pytest.mark.parametrize("fault", FAULTS)
def test_a_server_that_fails_for_a_while_is_survived(
    bucket: Bucket, many: pannier.Snapshot, far: pannier.Snapshot, fault: str, tmp_path: Path
) -> None:
    bucket.fail(**{fault: 0.05 if fault == "stall" else 0.2})
    assert same(fed(many), fed(far))
    copied = pannier.create("s3://cloth/copied.store")
    snapshot = copied.pack(many.store.path.parent / "pictures", shares={"train": 80, "val": 20}, seed=1).snapshot
    assert snapshot.content_id == many.content_id
    bucket.fail()
    assert not pannier.verify("s3://cloth/copied.store")


def test_a_server_that_ignores_conditions_is_found_out(bucket: Bucket) -> None:
    bucket.fail(**{IGNORES: 1})
    with pytest.raises(StoreError, match="one_writer=True"):
        pannier.create("s3://cloth/one.store")
    assert not list(bucket.folder.iterdir())
    assert "s3://cloth" in repr(pannier.create("s3://cloth/one.store", one_writer=True))


def test_a_server_that_is_gone_is_one_line(
    bucket: Bucket, far: pannier.Snapshot, run: Callable[..., Any], monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("pannier.storage.remote.RETRY_SECONDS", 1)
    monkeypatch.setenv("AWS_ENDPOINT_URL", "http://127.0.0.1:9")
    with pytest.raises(PannierError, match="does not answer") as raised:
        pannier.open("s3://cloth/many.store")
    assert "\n" not in str(raised.value)
    assert len(str(raised.value)) < 300


def test_credentials_appear_nowhere(
    bucket: Bucket, far: pannier.Snapshot, monkeypatch: pytest.MonkeyPatch, run: Callable[..., Any]
) -> None:
    monkeypatch.setenv("AWS_SECRET_ACCESS_KEY", "bobbin-secret")
    monkeypatch.setenv("AWS_ACCESS_KEY_ID", "bobbin-id")
    snapshot = pannier.open("s3://cloth/many.store")
    with snapshot.feed("train", size=24, batch_size=8) as feed:
        told = [repr(feed), repr(snapshot), repr(snapshot.store), repr(snapshot.store.storage), repr(feed.state)]
    told.append(snapshot.docket("train", size=24, values="raw").text())
    done = run("verify", "s3://cloth/none.store")
    told.append(done.err + done.out)
    assert not [text for text in told if "bobbin" in text]


def test_the_cache_is_said_on_the_command_line(bucket: Bucket, far: pannier.Snapshot, tmp_path: Path, run: Any) -> None:
    command = ("feed", "s3://cloth/many.store", "--split", "train", "--size", 24, "--cache", tmp_path / "c", "--digest")
    first = run(*command, "--cache-size", "1GiB", "--json")
    assert first.status == 0, first.err
    assert list((tmp_path / "c").rglob("*.block"))
    assert "PANNIER_CACHE" not in os.environ
    assert json.loads(first.out)["digest"] == json.loads(run(*command, "--json").out)["digest"]
    assert run(*command, "--cache-size", "many").status == 2


def test_verifying_reads_from_afar_and_each_byte_once(
    bucket: Bucket, many: pannier.Snapshot, far: pannier.Snapshot, tmp_path: Path
) -> None:
    kept = pannier.open("s3://cloth/many.store", cache=tmp_path)
    fed(kept)
    bucket.counts()
    assert pannier.verify(kept.store) == []
    assert bucket.counts()["GET"] < 40
    shard = next(path for path in bucket.folder.iterdir() if path.name.startswith("many.store%2Fshards"))
    content = bytearray(shard.read_bytes())
    content[len(content) // 2] ^= 1
    shard.write_bytes(content)
    assert [finding.is_damage for finding in pannier.verify(kept.store)].count(True)


def test_a_store_is_given_out_by_a_web_server(
    bucket: Bucket, many: pannier.Snapshot, tmp_path: Path, run: Callable[..., Any], monkeypatch: pytest.MonkeyPatch
) -> None:
    local = shutil.copytree(many.store.path, tmp_path / "l.store")
    address = f"{bucket.endpoint}/cloth/w.store"
    bucket.put(local, "w.store")
    for variable in environment(bucket.endpoint):
        monkeypatch.delenv(variable)
    with pytest.raises(NotFoundError, match="pannier publish"):
        pannier.open(address)
    pannier.open(local).render(size=24)
    said = run("publish", local)
    assert said.status == 0, said.err
    assert run("publish", local, "--json").status == 0
    assert pannier.verify(local) == []
    bucket.put(local, "w.store")
    there = pannier.open(address)
    assert there.content_id == many.content_id
    assert same(fed(many), fed(there))
    assert same(fed(many), fed(pannier.open(address, cache=tmp_path / "cache"), processes=1))
    assert pannier.verify(address) == []
    there.store.copy("main", pannier.create(tmp_path / "copy.store"))
    assert pannier.open(tmp_path / "copy.store").content_id == many.content_id
    for write in (lambda: there.store.tag("spring"), lambda: there.store.change(where="true", set={"x": 1})):
        with pytest.raises(StoreError, match="read only"):
            write()
    with pytest.raises(NotFoundError, match="published"):
        pannier.create(f"{bucket.endpoint}/cloth/new.store")
    for content in (b"{}", b"[1]", b'{"pannier": "listing 1", "files": {"../x": 1}}', b"[" * 100_000):
        (bucket.folder / "w.store%2Flisting.json").write_bytes(content)
        with pytest.raises(DamageError):
            pannier.open(address)


def test_a_web_server_that_knows_no_ranges_is_said(many: pannier.Snapshot, tmp_path: Path) -> None:
    store = pannier.open_store(shutil.copytree(many.store.path, tmp_path / "l.store"))
    store.publish()
    serving = partial(SimpleHTTPRequestHandler, directory=tmp_path)
    with ThreadingHTTPServer(("127.0.0.1", 0), serving) as server:
        threading.Thread(target=server.serve_forever, daemon=True).start()
        with pytest.raises(StoreError, match="gives out whole files alone; take one that answers ranges"):
            next(iter(pannier.open(f"http://127.0.0.1:{server.server_port}/l.store"))).bytes()
        server.shutdown()


def test_processes_feed_disjoint_parts_of_one_epoch(
    bucket: Bucket, many: pannier.Snapshot, far: pannier.Snapshot, tmp_path: Path
) -> None:
    program = (
        "import sys, pannier\n"
        f"s = pannier.open('s3://cloth/many.store', cache={str(tmp_path)!r})\n"
        "feed = s.feed('train', size=16, batch_size=8, seed=3, part=int(sys.argv[1]), parts=3)\n"
        "print(*[key for batch in feed for key in batch.keys], sep='\\n')\n"
    )
    pipes: dict[str, Any] = {"stdout": subprocess.PIPE, "text": True}
    at_work = [subprocess.Popen([sys.executable, "-c", program, str(part)], **pipes) for part in range(3)]
    keys = [process.communicate(timeout=120)[0].split() for process in at_work]
    assert all(keys)
    assert sorted(key for part in keys for key in part) == sorted(record.key for record in many if record.split == "train")


@pytest.mark.parametrize("left_open", ["feed", "view"])
def test_what_is_left_open_ends_in_silence_and_leaves_no_lease(
    bucket: Bucket, many: pannier.Snapshot, far: pannier.Snapshot, left_open: str
) -> None:
    program = (
        "import pannier\n"
        "s = pannier.open('s3://cloth/many.store')\n"
        f"kept = s.{left_open}('train', size=16)\n"
        "print(kept[0] is not None if hasattr(kept, '__getitem__') else next(iter(kept)).images.shape)\n"
    )
    done = subprocess.run([sys.executable, "-c", program], capture_output=True, text=True, timeout=120, check=False)
    assert (done.returncode, done.stderr) == (0, "")
    assert not far.storage.list("leases")


def test_a_small_limit_says_that_it_cannot_ask_ahead(far: pannier.Snapshot) -> None:
    notes = {}
    for limit in ("8MiB", "64MiB"):
        with far.feed("train", size=16, batch_size=4, workers=1, memory_limit=limit) as feed:
            notes[limit] = [note for note in feed.notes if "from afar" in note]
            assert bool(notes[limit]) == (feed.plan.fetched_bytes < 8 << 20)
    assert "workers wait for the bucket; 24 MiB would do" in notes["8MiB"][0]
    assert not notes["64MiB"]


def test_the_demo_of_a_bucket_takes_every_step(tmp_path: Path, run: Callable[..., Any]) -> None:
    pytest.importorskip("obstore")
    done = run("demo", tmp_path / "there", "--remote", "--swatches", 60)
    assert done.status == 0, done.err
    assert len({line for line in done.out.splitlines() if line.startswith("digest")}) == 1
    assert "every byte is as it was written" in done.out


def test_a_feed_from_afar_is_measured_with_its_link(far: pannier.Snapshot) -> None:
    found = far.measure("train", size=16, workers=1, rounds=1, slice_seconds=0.1)
    assert [trial.status for trial in found.trials] == ["ok"] * 4, "under no limit, and under three"
    assert {trial.source for trial in found.trials} == {"shards"}, "no sample of it is brought here to be rendered"
    assert found.settings["is_far"]
    assert found.reading[0].rate > 0
