"""Stores in a bucket, on a real server that speaks S3: the same content, the same batches, nothing lost by a race."""

from __future__ import annotations

import os
import socket
import subprocess
import sys
import time
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any

import httpx
import numpy as np
import pytest

import pannier
from pannier.errors import NotFoundError, StoreError, UsageError
from pannier.storage.opening import open_storage
from tests.conftest import fill

pytest.importorskip("moto", reason="a server that speaks S3: pip install 'moto[server]'")


@pytest.fixture(scope="module")
def server() -> Iterator[str]:
    with socket.socket() as free:
        free.bind(("127.0.0.1", 0))
        port = free.getsockname()[1]
    process = subprocess.Popen(
        [sys.executable, "-c", f"from moto.server import main; main(['-p', '{port}'])"],
        stdout=subprocess.DEVNULL,
        stderr=subprocess.DEVNULL,
    )
    address, until = f"http://127.0.0.1:{port}", time.monotonic() + 60
    while True:
        try:
            httpx.get(address)
            break
        except httpx.HTTPError:
            assert time.monotonic() < until
            time.sleep(0.1)
    yield address
    process.kill()
    process.wait()


@pytest.fixture
def bucket(server: str, monkeypatch: pytest.MonkeyPatch, request: pytest.FixtureRequest) -> str:
    """An empty bucket, as an address."""
    said = {
        "AWS_ENDPOINT_URL": server,
        "AWS_ACCESS_KEY_ID": "mill",
        "AWS_SECRET_ACCESS_KEY": "loom",
        "AWS_REGION": "us-east-1",
    }
    for name, value in said.items():
        monkeypatch.setenv(name, value)
    name = f"b{abs(hash(request.node.name)):x}"
    assert httpx.put(f"{server}/{name}").status_code == 200
    return f"s3://{name}"


def fed(snapshot: pannier.Snapshot, **options: Any) -> list[Any]:
    with snapshot.feed("train", size=24, batch_size=8, seed=3, **options) as feed:
        return [(batch.keys, batch.images.copy()) for batch in feed]


def test_a_store_in_a_bucket_is_the_store_on_disk(
    bucket: str, archive: Path, packed: pannier.Snapshot, tmp_path: Path
) -> None:
    store = pannier.create(f"{bucket}/a/swatches.store")
    there = store.pack(archive, shares={"train": 70, "val": 20, "test": 10}, seed=3).snapshot
    assert there.content_id == packed.content_id
    here = fed(packed)
    for processes in (0, 1):
        assert all(
            a[0] == b[0] and np.array_equal(a[1], b[1]) for a, b in zip(here, fed(there, processes=processes), strict=True)
        )
    there.store.tag("spring")
    changed = store.change(where="label = 'twill'", set="label=satin").snapshot
    assert not pannier.compare(changed, pannier.open(f"{bucket}/a/swatches.store@spring")).is_same
    assert [step.names for step in pannier.open_store(f"{bucket}/a/swatches.store").history()] == [["main"], ["spring"]]
    assert pannier.verify(store) == []
    back = pannier.create(tmp_path / "back.store")
    store.copy("main", back)
    assert back.snapshot().content_id == changed.content_id
    changed.render("train", pannier.Treatment(24))
    assert len(fed(changed, rendered=True)) == len(here)
    again = pannier.create(f"{bucket}/b")
    again.pack(f"{bucket}/a/swatches.store@spring")
    assert again.snapshot().content_id == packed.content_id


def test_writers_at_once_lose_no_snapshot(bucket: str, tmp_path: Path) -> None:
    store = pannier.create(f"{bucket}/s")
    store.pack(fill(tmp_path / "a", 2))

    def write(number: int) -> None:
        own = pannier.open_store(f"{bucket}/s")
        for step in range(3):
            own.change(where="key LIKE '%0.jpg'", set={f"loom{number}": step})

    with ThreadPoolExecutor(4) as pool:
        list(pool.map(write, range(4)))
    assert len(store.history()) == 1 + 4 * 3
    assert set(store.snapshot()["twill/0000.jpg"].side.values()) == {2}
    assert pannier.verify(store) == []


def test_what_a_bucket_refuses_is_one_line(bucket: str, run: Callable[..., Any], monkeypatch: pytest.MonkeyPatch) -> None:
    for address, error, says in (
        ("s3://nobody-has-this/x", NotFoundError, "no such bucket"),
        ("s3://", UsageError, "give the bucket"),
        ("ftp://mill/x", UsageError, "s3://, gs://, az://"),
    ):
        with pytest.raises(error, match=says):
            pannier.open_store(address)
    storage = open_storage(f"{bucket}/s")
    assert storage.create("a", b"x")
    with pytest.raises(StoreError, match="nothing can be linked"):
        storage.link("a", Path("x"))
    if (child := os.fork()) == 0:
        try:
            storage.read("a")
        except UsageError:
            os._exit(7)
        os._exit(1)
    assert os.waitstatus_to_exitcode(os.waitpid(child, 0)[1]) == 7
    monkeypatch.setenv("AWS_ENDPOINT_URL", "http://127.0.0.1:9")
    assert "does not answer" in run("show", f"{bucket}/s").err
