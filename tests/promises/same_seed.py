"""The same seed gives the same batches, whatever the workers, processes or memory limit."""

import hashlib
import random
import sys
import tempfile
from pathlib import Path

from pictures import fill

import pannier

if __name__ == "__main__":
    seed, folder = int(sys.argv[1]), Path(tempfile.mkdtemp())
    fill(folder / "photos", 60, first=1000 * seed)
    snapshot = pannier.create(folder / "s.store").pack(folder / "photos", shares="train=80,val=20").snapshot
    treatment = pannier.Treatment(48, flip="horizontal", turn=12, zoom=[0.8, 1.2], brightness=0.2)
    rng, digests = random.Random(seed), {}
    for trial in range(2):
        limit = rng.choice([None, "auto", "96MiB", "256MiB"])
        how = {"workers": rng.choice([1, 2, 3]), "processes": trial % 2, "ahead": rng.choice([2, 4]), "memory_limit": limit}
        digest = hashlib.sha256()
        with snapshot.feed("train", treatment, batch_size=7, seed=seed, **how) as feed:
            for epoch in feed.epochs(2):
                for batch in epoch:
                    digest.update(batch.images.tobytes() + batch.labels.tobytes() + repr(batch.keys).encode())
        digests[str(how)] = digest.hexdigest()
    assert len({*digests.values()}) == 1, digests
