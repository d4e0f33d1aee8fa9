"""Duplicates, near-duplicates and groups stay in one split, and a picture keeps its split when the dataset grows."""

import random
import shutil
import sys
import tempfile
from collections import defaultdict
from pathlib import Path

from pictures import fill, picture

import pannier

if __name__ == "__main__":
    seed, folder = int(sys.argv[1]), Path(tempfile.mkdtemp())
    rng, photos = random.Random(seed), folder / "photos"
    store, splits, versions = pannier.create(folder / "s.store"), {}, defaultdict(set)
    for delivery in range(3):
        first = 1000 * seed + 40 * delivery
        fill(photos, 40, first=first)
        for number in rng.sample(range(1000 * seed, first + 40), 10):
            original = next(photos.glob(f"*/im {number:04}.*"))
            name = f"{original.stem} again {delivery}"
            if rng.random() < 0.5:
                shutil.copy(original, original.with_name(name + original.suffix))
            else:
                image = picture(number)
                image.resize((image.width * 3 // 4, image.height * 3 // 4)).save(
                    original.with_name(name + ".jpg"), quality=80
                )
        how = {"shares": "train=70,val=15,test=15", "near": 6} if not delivery else {}
        snapshot = store.pack(photos, **how).snapshot
        for record in snapshot:
            assert splits.setdefault(record.key, record.split) == record.split, "a picture has changed its split"
    for record in snapshot:
        versions[record.key.rpartition("/")[2][:7]].add(record.split)
    exact = defaultdict(set)
    for record in snapshot:
        exact[record.sha256].add(record.split)
    assert all(len(each) == 1 for each in exact.values()), "a duplicate is in two splits"
    apart = [pair for pair in snapshot.doubles(6).pairs if pair.split != pair.other_split]
    assert not apart, "near-duplicates are in two splits"
    assert not pannier.verify(store)
