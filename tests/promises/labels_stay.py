"""A corrected label stays with its picture when files are renamed, swapped and moved, and never lands on another."""

import random
import sys
import tempfile
from pathlib import Path

from pictures import fill

import pannier

if __name__ == "__main__":
    seed, folder = int(sys.argv[1]), Path(tempfile.mkdtemp())
    rng, photos = random.Random(seed), folder / "photos"
    fill(photos, 50, first=1000 * seed)
    store = pannier.create(folder / "s.store")
    snapshot = store.pack(photos, shares="train=80,val=20").snapshot
    corrected = {}
    for record in rng.sample(list(snapshot), 8):
        label = rng.choice([name for name in ("cat", "dog", "bird") if name != record.label])
        store.change(where=f"key = '{record.key}'", set=f"label={label}")
        corrected[record.sha256] = label
    meant = {record.sha256: corrected.get(record.sha256, record.label) for record in snapshot}
    files = sorted(photos.glob("*/*"))
    for one, other in zip(files[::7], files[3::7], strict=False):  # in one class names are swapped
        if one.parent == other.parent and one != other:
            swap = one.with_name("swap")
            one.rename(swap)
            other.rename(one)
            swap.rename(other)
    for file in rng.sample(sorted(photos.glob("*/*")), 10):
        file.rename(file.with_name(f"renamed {file.name}"))
    fill(photos, 20, first=1000 * seed + 50)
    after = store.pack(photos, remove_missing=True).snapshot
    for record in after:
        wanted = meant.get(record.sha256, record.key.split("/")[0])
        assert record.label == wanted, (record.key, record.label, wanted)
    assert len(after) == 70
