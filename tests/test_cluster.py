"""Packing by the workers of an executor: the same content, whatever the source, and nothing lost with a worker."""

from __future__ import annotations

import multiprocessing
import os
import shutil
import signal
import threading
import time
import zipfile
from collections.abc import Callable, Iterator
from concurrent.futures import Executor, ProcessPoolExecutor, ThreadPoolExecutor
from pathlib import Path
from typing import Any

import numpy as np
import pytest

import pannier
from pannier import executors
from pannier.errors import NotFoundError, PannierError, UsageError
from pannier.packing import pieces
from tests.buckets import Bucket
from tests.conftest import fill

HOW: dict[str, Any] = {"shares": {"train": 70, "val": 30}, "seed": 3}


@pytest.fixture(scope="module")
def heap(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A folder with what real ones have: doubles, a broken picture, an empty one, something that is none."""
    folder = fill(tmp_path_factory.mktemp("heap") / "heap", 24)
    shutil.copy(folder / "plain" / "0001.jpg", folder / "satin" / "again.jpg")
    shutil.copy(folder / "plain" / "0002.jpg", folder / "plain" / "twice.jpg")
    (folder / "twill" / "broken.jpg").write_bytes((folder / "twill" / "0003.jpg").read_bytes()[:700])
    (folder / "twill" / "empty.jpg").write_bytes(b"")
    (folder / "twill" / "notes.txt").write_text("loom 3\n")
    return folder


@pytest.fixture(scope="module")
def pool(bucket_endpoint: tuple[str, Path]) -> Iterator[Executor]:
    from pannier.demo.bucket import environment

    os.environ.update(environment(bucket_endpoint[0]))  # for the workers
    with ProcessPoolExecutor(2, multiprocessing.get_context("spawn")) as executor:
        executor.submit(os.getpid).result()
        for name in environment(""):
            del os.environ[name]
        yield executor


def told(result: pannier.PackResult) -> Any:
    return result.snapshot.content_id, result.added, sorted(map(tuple, result.left_out)), len(result.doubts)


def test_workers_bring_in_what_this_process_would(heap: Path, pool: Executor, tmp_path: Path, bucket: Bucket) -> None:
    with zipfile.ZipFile(tmp_path / "heap.zip", "w") as archive:
        for path in sorted(heap.rglob("*.*")):
            archive.write(path, path.relative_to(heap))
    rows = [f"{path.relative_to(heap)},{path.parent.name}" for path in sorted(heap.rglob("*.*"))]
    table = tmp_path / "heap.csv"
    table.write_text("\n".join(["file,weave", *rows, "plain/none.jpg,plain"]) + "\n")
    ways: list[tuple[Any, dict[str, Any]]] = [
        (heap, {"near": 6}),
        (tmp_path / "heap.zip", {}),
        (table, {"root": heap, "picture": "file", "label": "weave"}),
        ([str(heap / "plain"), str(heap / "satin")], {"longest_side": 40, "unlabeled": "keep"}),
    ]
    for number, (source, said) in enumerate(ways):
        here = pannier.create(tmp_path / f"{number}-a.store").pack(source, **HOW, **said)
        there_at = f"s3://cloth/{number}.store" if number == 1 else tmp_path / f"{number}-b.store"
        steps: list[tuple[int, int]] = []
        how = HOW | said | {"executor": pool, "progress": lambda *each, steps=steps: steps.append(each)}
        there = pannier.create(there_at).pack(source, **how)
        assert told(here) == told(there)
        assert steps[-1][0] == steps[-1][1]
        assert pannier.verify(there_at) == []
        again = there.snapshot.store.pack(source, executor=pool, **HOW, **said)
        assert not again.is_new
        assert not again.new_pictures


@pytest.mark.skipif(os.name != "posix", reason="processes are forked there alone")
@pytest.mark.filterwarnings("ignore:.*fork:DeprecationWarning")
def test_workers_that_were_forked_after_a_bucket_was_asked_say_so(heap: Path, bucket: Bucket) -> None:
    store = pannier.create("s3://cloth/forked.store")
    with (
        ProcessPoolExecutor(2, multiprocessing.get_context("fork")) as executor,
        pytest.raises(UsageError, match=r"was forked from one that had asked a bucket.*spawn"),
    ):
        store.pack(heap, executor=executor)
    with pytest.raises(NotFoundError, match="holds no snapshot yet"):
        store.snapshot()


def test_what_is_stored_is_not_stored_again(heap: Path, pool: Executor, tmp_path: Path) -> None:
    store = pannier.create(tmp_path / "s.store")
    store.pack(heap / "plain", prefix="plain", unlabeled="keep", **HOW)
    result = store.pack(heap, executor=pool, reread=True)
    assert result.new_pictures <= 24 * 2 + 2
    with pytest.raises(UsageError, match="memory"):
        pannier.create("memory://by-others").pack(heap, executor=pool)


def test_pieces_come_in_order_and_no_more_are_held_than_are_given_out() -> None:
    begun, first = list[int](), threading.Event()

    def work(number: int) -> int:
        begun.append(number)
        if number == 0:
            first.wait(60)
        if len(begun) == executors.GIVEN_OUT:
            first.set()
        return -number

    with ThreadPoolExecutor(2) as threads:
        given = ((number, str(number)) for number in range(300))
        done = [*executors.done_by(threads, work, given, in_order=True)]
        assert done == [(number, str(number), -number) for number in range(300)]
        assert sorted(begun[: executors.GIVEN_OUT]) == [*range(executors.GIVEN_OUT)]

        def fails(number: int) -> int:
            raise RuntimeError("no such loom")

        with pytest.raises(RuntimeError, match="no such loom"):
            next(executors.done_by(threads, fails, [(0, None)]))


def dies(piece: pieces.Piece) -> Any:
    os.kill(os.getpid(), signal.SIGKILL)


def test_workers_that_die_leave_the_store_as_it_was(heap: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    store = pannier.create(tmp_path / "s.store")
    store.pack(heap, include="plain/*", **HOW)
    before = store.snapshot().id
    with ProcessPoolExecutor(1, multiprocessing.get_context("spawn")) as executor:
        monkeypatch.setattr(pieces, "bring_in", dies)
        with pytest.raises(PannierError, match="workers of the executor die"):
            store.pack(heap, executor=executor, forget=True)
    monkeypatch.undo()
    assert store.snapshot().id == before
    assert [finding for finding in pannier.verify(store) if finding.is_damage] == []


def test_a_cluster_that_loses_a_worker_does_the_work(heap: Path, tmp_path: Path, run: Callable[..., Any]) -> None:
    distributed = pytest.importorskip("distributed", reason="a cluster: pip install 'pannier[cluster]'")
    here = pannier.create(tmp_path / "a.store").pack(heap, **HOW)
    with distributed.LocalCluster(n_workers=2, threads_per_worker=1, dashboard_address=None) as cluster:
        said = run(
            "pack",
            heap,
            tmp_path / "b.store",
            "--shares",
            "train=70,val=30",
            "--seed",
            3,
            "--cluster",
            cluster.scheduler_address,
        )
        assert said.status == 0, said.err
        assert pannier.open(tmp_path / "b.store").content_id == here.snapshot.content_id
        with distributed.Client(cluster, set_as_default=False) as client:
            store = pannier.create(tmp_path / "c.store")

            def kill() -> None:
                until = time.monotonic() + 60
                while not list((tmp_path / "c.store" / "shards").glob("*.arrow")) and time.monotonic() < until:
                    time.sleep(0.002)
                os.kill(next(iter(cluster.workers.values())).pid, signal.SIGKILL)

            killer = threading.Thread(target=kill)
            killer.start()
            there = store.pack(heap, executor=client.get_executor(pure=False, retries=3), **HOW)
            killer.join()
    assert told(there) == told(here)
    assert [finding for finding in pannier.verify(store) if finding.is_damage] == []
    assert run("pack", heap, tmp_path / "d.store", "--cluster", "loom:1").status in (1, 2)


def test_all_heavy_steps_come_to_the_same_by_workers(
    heap: Path, pool: Executor, tmp_path: Path, bucket: Bucket, run: Callable[..., Any]
) -> None:
    here, there = (pannier.survey(heap, executor=executor) for executor in (None, pool))
    assert here.to_dict() == there.to_dict()
    store = pannier.create(tmp_path / "a.store")
    snapshot = store.pack(heap, **HOW).snapshot
    through = pannier.Treatment(24, margin=0.1)
    assert snapshot.stats("train", through).to_dict() == snapshot.stats("train", through, executor=pool).to_dict()
    assert snapshot.doubles(6, executor=pool).to_dict() == snapshot.doubles(6).to_dict()
    assert snapshot.render(None, through, executor=pool).missing == len({record.sha256 for record in snapshot})
    assert snapshot.render(None, through, preview=True).missing == 0
    with snapshot.feed("train", through, seed=1, augment=True, rendered=True) as rendered:
        first = next(iter(rendered)).images.copy()
    with snapshot.feed("train", through, seed=1, augment=True, rendered=False) as decoded:
        assert np.array_equal(next(iter(decoded)).images, first)
    other = pannier.create("s3://cloth/copied.store")
    done = store.copy("main", other, executor=pool)
    assert (done.snapshot.content_id, done.pictures) == (snapshot.content_id, len({record.sha256 for record in snapshot}))
    assert store.copy("main", other, executor=pool).pictures == 0
    for where in (store, other):
        assert where.verify(executor=pool) == where.verify() == []
    shard = next((store.path / "shards").glob("*.arrow"))
    data = bytearray(shard.read_bytes())
    data[len(data) // 2] ^= 1
    shard.write_bytes(data)
    assert store.verify(executor=pool) == store.verify() != []
    for verb in (lambda made: made.stats(size=8, executor=pool), lambda made: made.render(None, size=8, executor=pool)):
        with pytest.raises(UsageError, match="in memory"):
            verb(pannier.create(f"memory://{id(verb)}").pack(heap).snapshot)
    assert run("stats", tmp_path / "a.store", "--size", 8, "--cluster", "loom:1").status == 1
