"""A process killed at any moment leaves the store as it was before or after, and the same command finishes the work."""

import random
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from pictures import fill

import pannier

if __name__ == "__main__":
    seed, folder = int(sys.argv[1]), Path(tempfile.mkdtemp())
    rng, photos, path = random.Random(seed), folder / "photos", folder / "s.store"
    fill(photos, 40, first=1000 * seed)
    before = pannier.create(path).pack(photos, shares="train=80,val=20").snapshot
    fill(photos, 60, first=1000 * seed + 40)
    pack = [sys.executable, "-m", "pannier", "pack", str(photos), str(path)]
    for _ in range(2):
        process = subprocess.Popen(pack, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
        time.sleep(rng.uniform(0.3, 1.6))
        process.kill()
        process.wait()
        now = pannier.open_store(path).snapshot()
        assert len(now) in (40, 100)
        assert {record.key: record.bytes() for record in before}.items() <= {
            record.key: record.bytes() for record in now
        }.items()
    subprocess.run(pack, check=True, stdout=subprocess.DEVNULL)
    after = pannier.open(path)
    assert {record.bytes() for record in after} == {file.read_bytes() for file in photos.glob("*/*")}
    assert not [finding for finding in pannier.verify(path) if finding.is_damage]
