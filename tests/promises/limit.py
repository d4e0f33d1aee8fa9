"""A memory limit holds, or is refused before the first batch: seen from the process's own size."""

import random
import sys
import tempfile
import threading
from pathlib import Path

import psutil
from pictures import fill

import pannier

if __name__ == "__main__":
    seed, folder = int(sys.argv[1]), Path(tempfile.mkdtemp())
    fill(folder / "photos", 80, first=1000 * seed)
    snapshot = pannier.create(folder / "s.store").pack(folder / "photos", shares="train=80,val=20").snapshot
    limit = random.Random(seed).choice([32, 48, 64, 96])
    process, peak, ended = psutil.Process(), 0, threading.Event()
    level = process.memory_info().rss

    def look() -> None:
        global peak
        while not ended.wait(0.005):
            peak = max(peak, process.memory_info().rss)

    watcher = threading.Thread(target=look)
    watcher.start()
    try:
        treatment = pannier.Treatment(128, flip="horizontal", turn=10)
        with snapshot.feed("train", treatment, batch_size=16, memory_limit=f"{limit}MiB") as feed:
            for epoch in feed.epochs(2):
                for _ in epoch:
                    pass
            libraries = feed.library_bytes
    except pannier.LimitError as error:
        assert "raise the limit" in str(error) or "batch" in str(error)
        libraries = peak = 0
    ended.set()
    watcher.join()
    assert peak - level - libraries <= limit << 20, f"{(peak - level - libraries) / 2**20:.1f} of {limit} MiB"
