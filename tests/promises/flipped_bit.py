"""A flipped bit is found before a wrong picture is given out."""

import random
import shutil
import sys
import tempfile
from pathlib import Path

from pictures import fill

import pannier

if __name__ == "__main__":
    seed, folder = int(sys.argv[1]), Path(tempfile.mkdtemp())
    rng, path = random.Random(seed), folder / "s.store"
    fill(folder / "photos", 40, first=1000 * seed)
    snapshot = pannier.create(path).pack(folder / "photos", shares="train=80,val=20").snapshot
    true = {record.key: (record.bytes(), record.label, record.split) for record in snapshot}
    with snapshot.feed("train", size=32, batch_size=4, seed=1) as feed:
        batches = [(batch.keys, batch.images.tobytes(), batch.labels.tobytes()) for batch in feed]
    files = [each for kind in ("shards", "manifests", "index", "snapshots", "strands") for each in (path / kind).rglob("*")]
    for number in range(12):
        damaged = folder / f"{number}.store"
        shutil.copytree(path, damaged)
        file = damaged / rng.choice([each for each in files if each.is_file()]).relative_to(path)
        file.chmod(0o600)
        content = bytearray(file.read_bytes())
        content[rng.randrange(len(content))] ^= 1 << rng.randrange(8)
        file.write_bytes(content)
        assert pannier.verify(damaged), f"verify finds no damage in {file.name}"
        try:
            again = pannier.open(damaged)
            assert {record.key: (record.bytes(), record.label, record.split) for record in again} == true, file.name
            with again.feed("train", size=32, batch_size=4, seed=1) as feed:
                assert [(each.keys, each.images.tobytes(), each.labels.tobytes()) for each in feed] == batches, file.name
        except pannier.PannierError:
            pass  # it was found
