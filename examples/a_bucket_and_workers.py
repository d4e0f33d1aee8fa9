"""A store in a bucket: packed by workers, fed by two machines that share an epoch and a cache, copied near.

python examples/a_bucket_and_workers.py archive/

The bucket's server is a stand-in here and the machines are processes. Elsewhere endpoint and credentials come from the
environment as usual, and `executor` is that of a cluster.
"""

from __future__ import annotations

import os
import subprocess
import sys
import tempfile
from collections.abc import Iterator
from concurrent.futures import ProcessPoolExecutor
from contextlib import contextmanager
from multiprocessing import get_context
from pathlib import Path

import pannier

STORE = "s3://cloth/swatches.store"
MACHINES = 2


@contextmanager
def a_bucket(folder: Path) -> Iterator[None]:
    """The bucket "cloth" of a server on this machine, whose answers take 20 ms."""
    (folder / "cloth").mkdir(parents=True)
    command = [sys.executable, "-m", "pannier.demo.bucket", str(folder), "--latency", "0.02"]
    with subprocess.Popen(command, stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True) as server:
        assert server.stdout is not None
        os.environ["AWS_ENDPOINT_URL"] = server.stdout.readline().strip()
        os.environ |= {"AWS_REGION": "here", "AWS_ACCESS_KEY_ID": "mill", "AWS_SECRET_ACCESS_KEY": "loom"}
        yield
        server.terminate()


def machine(number: int, cache: str) -> None:
    """One of the machines: its part of the epoch, each picture read from the bucket once for all of them."""
    snapshot = pannier.open(STORE, cache=cache)
    with snapshot.feed("train", size=96, batch_size=16, seed=7, part=number, parts=MACHINES, window=64) as feed:
        print(sum(len(images) for images, _ in feed))


def main(archive: str) -> None:
    with tempfile.TemporaryDirectory() as folder, a_bucket(Path(folder) / "buckets"):
        store = pannier.create(STORE)
        with ProcessPoolExecutor(2, get_context("spawn")) as executor:
            packed = store.pack(archive, shares="train=75,val=25", executor=executor).snapshot
        print(f"{len(packed)} records of {len(packed.classes)} classes in {STORE}")

        command = [sys.executable, __file__, f"{folder}/cache"]
        running = [subprocess.Popen([*command, str(each)], stdout=subprocess.PIPE, text=True) for each in range(MACHINES)]
        fed = [int(process.communicate()[0]) for process in running]
        print(f"{fed} pictures fed to {MACHINES} machines, {packed.splits['train']} in train")

        near = pannier.create(Path(folder) / "near.store")
        store.copy("main", near)
        same = near.snapshot().content_id == packed.content_id
        print(f"copied near, the same content: {same}; {sum(each.is_damage for each in pannier.verify(near))} damaged")


if __name__ == "__main__":
    machine(int(sys.argv[2]), sys.argv[1]) if len(sys.argv) > 2 else main(sys.argv[1])
