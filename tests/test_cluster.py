"""Packing by the workers of an executor: the same content, whatever the source, and nothing lost with a worker."""

from __future__ import annotations

import multiprocessing
import os
import re
import shutil
import signal
import socket
import subprocess
import sys
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
        [*executor.map(time.sleep, [1, 1])]  # both of them start now, with the environment of this moment
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
    distributed = pytest.importorskip("distributed", reason="a cluster: pip install distributed")
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


# a path that leads elsewhere in a process that runs in another folder, as on a machine without the mount
HERE = "/proc/self/cwd"
needs_proc = pytest.mark.skipif(not Path(HERE).exists(), reason="needs /proc")


def workers_in(folder: Path, other: Callable[[], None] | None = None) -> ProcessPoolExecutor:
    """Workers whose working directory is another one."""
    return ProcessPoolExecutor(1, multiprocessing.get_context("spawn"), initializer=move_to, initargs=(folder, other))


def move_to(folder: Path, other: Callable[[], None] | None) -> None:
    os.chdir(folder)
    if other is not None:
        other()


def other_pillow() -> None:
    import PIL

    PIL.__version__ = "0.9"


def little_memory() -> None:
    from pannier.sources import checking

    def decode(*_: Any, **__: Any) -> Any:
        raise MemoryError

    checking.decode = decode  # type: ignore[assignment]


@needs_proc
def test_what_a_worker_lacks_is_never_data(heap: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    here, bare = tmp_path / "here", tmp_path / "bare"
    shutil.copytree(heap, here / "heap")
    bare.mkdir()
    monkeypatch.chdir(here)
    store = pannier.create(tmp_path / "s.store")
    source, host = f"{HERE}/heap", r"worker on \S+ \(process \d+\)"
    with workers_in(bare) as blind:
        with pytest.raises(PannierError, match=rf"{host} does not see /proc/self/cwd/heap/\S+: mount it there") as unseen:
            store.pack(source, executor=blind, **HOW)
        with pytest.raises(PannierError, match=host):
            pannier.survey(source, executor=blind)
    for name in ("plain/0000.jpg", str(unseen.value).partition("cwd/heap/")[2].partition(":")[0]):
        (bare / "heap" / name).parent.mkdir(parents=True, exist_ok=True)
        shutil.copy(heap / name, bare / "heap" / name)
    with workers_in(bare) as half_blind:  # sees the file that is asked for, and no other
        for verb in (store.pack, pannier.survey):
            with pytest.raises(PannierError, match=rf"{host} cannot use '/proc/self/cwd/heap/\S+', which this process can"):
                verb(source, executor=half_blind)
    for lack, message in (
        (other_pillow, r"runs PIL 0\.9, and this process"),
        (little_memory, "cannot use .* as much memory"),
    ):
        with workers_in(here, lack) as poor, pytest.raises(PannierError, match=message):
            store.pack(source, executor=poor)
    with pytest.raises(NotFoundError, match="holds no snapshot yet"):
        store.snapshot()
    with workers_in(here) as seeing:
        assert told(store.pack(source, executor=seeing, **HOW)) == told(
            pannier.create(tmp_path / "t.store").pack(source, **HOW)
        )


@needs_proc
def test_stores_that_a_worker_sees_otherwise(heap: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    here, other = tmp_path / "here", tmp_path / "other"
    for folder in (here, other):
        folder.mkdir()
    monkeypatch.chdir(here)
    monkeypatch.setattr(pieces, "LISTING_SECONDS", 0)
    relative = pannier.create("near.store")
    with workers_in(other) as elsewhere:
        snapshot = relative.pack(heap, executor=elsewhere, **HOW).snapshot
        counted = snapshot.stats("train", size=8, executor=elsewhere)
        assert counted.to_dict() == snapshot.stats("train", size=8).to_dict()
        assert snapshot.doubles(6, executor=elsewhere).to_dict() == snapshot.doubles(6).to_dict()
        away = pannier.create(f"{HERE}/away.store")
        pannier.create(other / "away.store")
        with pytest.raises(PannierError, match="that path leads to another disk on one of"):
            away.pack(heap, executor=elsewhere, **HOW)
        assert list((other / "away.store" / "shards").iterdir()), "it stored them where it sees the store"
        away.pack(heap, **HOW)
        assert away.verify(executor=elsewhere) == [], "what a worker does not see is not damage"
        copied = pannier.create(f"{HERE}/copied.store")
        with pytest.raises(PannierError, match="does not see /proc/self/cwd/copied.store"):
            relative.copy("main", copied, executor=elsewhere)
        pannier.create(other / "copied.store")
        with pytest.raises(PannierError, match="leads to another disk"):
            relative.copy("main", copied, executor=elsewhere)


def test_every_worker_of_a_cluster_is_asked_before_any_work(heap: Path, tmp_path: Path, run: Callable[..., Any]) -> None:
    distributed = pytest.importorskip("distributed", reason="a cluster: pip install distributed")
    with distributed.LocalCluster(n_workers=1, threads_per_worker=1, dashboard_address=None) as cluster:
        address = cluster.scheduler_address
        (tmp_path / "old" / "pannier").mkdir(parents=True)
        (tmp_path / "old" / "pannier" / "__init__.py").write_text("__version__ = '0.0'\n")
        command = [sys.executable, "-m", "dask", "worker", address, "--no-nanny", "--no-dashboard"]
        older = subprocess.Popen(
            command, env={**os.environ, "PYTHONPATH": str(tmp_path / "old")}, cwd=tmp_path, stderr=subprocess.DEVNULL
        )
        try:
            with distributed.Client(cluster, set_as_default=False) as client:
                client.wait_for_workers(2, timeout=60)
            said = run("pack", heap, tmp_path / "s.store", "--cluster", address)
        finally:
            older.terminate()
            older.wait(30)
        assert said.status == 1
        assert re.search(r"the worker at tcp://\S+ cannot run this version of pannier", said.err), said.err
        assert len(said.err.strip().splitlines()) == 1
    assert not (tmp_path / "s.store").exists()


def test_a_scheduler_that_dies_is_told_in_one_line(heap: Path, tmp_path: Path) -> None:
    pytest.importorskip("distributed", reason="a cluster: pip install distributed")
    folder = tmp_path / "many"
    for number in range(60):
        shutil.copytree(heap / "plain", folder / f"{number:02}")
    with socket.socket() as free:
        free.bind(("127.0.0.1", 0))
        address = f"tcp://127.0.0.1:{free.getsockname()[1]}"
    dask = [sys.executable, "-m", "dask"]
    quiet = {"stdout": subprocess.DEVNULL, "stderr": subprocess.DEVNULL}
    port = address.rpartition(":")[2]
    scheduler = subprocess.Popen([*dask, "scheduler", "--port", port, "--no-dashboard"], **quiet)
    worker = subprocess.Popen([*dask, "worker", address, "--no-nanny", "--nthreads", "1", "--no-dashboard"], **quiet)
    try:
        command = [sys.executable, "-m", "pannier", "pack", folder, tmp_path / "s.store", "--cluster", address]
        packing = subprocess.Popen(command, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True)
        until = time.monotonic() + 60
        while not list((tmp_path / "s.store").glob("shards/*.arrow")) and time.monotonic() < until:
            time.sleep(0.01)
        scheduler.kill()
        out, err = packing.communicate(timeout=90)
    finally:
        for process in (scheduler, worker):
            process.kill()
            process.wait()
    assert (packing.returncode, out) == (1, "")
    assert re.fullmatch(r"pannier: the cluster's scheduler does not answer any longer.*\n", err), err
