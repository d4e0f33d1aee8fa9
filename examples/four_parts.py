"""Four processes, each with its part of an epoch: disjoint, complete, equally many batches.

python examples/four_parts.py swatches.store
"""

from __future__ import annotations

import subprocess
import sys
from collections import Counter

import pannier

PARTS = 4


def part(path: str, number: int) -> None:
    """One of the processes; on a cluster, one of the machines. It prints the keys that it was given."""
    snapshot = pannier.open(path)
    with snapshot.feed("train", size=32, batch_size=4, seed=5, part=number, parts=PARTS, last="wrap") as feed:
        for batch in feed:
            print(*batch.keys, sep="\n")


def main(path: str) -> None:
    command = [sys.executable, __file__, path]
    running = [subprocess.Popen([*command, str(number)], stdout=subprocess.PIPE, text=True) for number in range(PARTS)]
    fed = [process.communicate()[0].split("\n")[:-1] for process in running]
    times = Counter(key for keys in fed for key in keys)
    records = pannier.open(path).splits["train"]
    counts, twice = [len(keys) for keys in fed], sum(times.values()) - len(times)
    print(f"{counts} pictures, {len(times)} of {records} records; {twice} twice")


if __name__ == "__main__":
    part(sys.argv[1], int(sys.argv[2])) if len(sys.argv) > 2 else main(sys.argv[1])
