"""What is not packed feeds what it feeds when it is, from every kind of source."""

from __future__ import annotations

import shutil
import zipfile
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.parquet as pq
import pytest

import pannier
from pannier.errors import DamageError, LimitError, NotFoundError, UsageError
from tests.conftest import fill

TREATMENT = pannier.Treatment(24, turn=9)
SHARES = {"train": 60, "val": 40}


def epochs(feed: pannier.Feed) -> list[Any]:
    with feed:
        return [(batch.keys, batch.names, batch.labels, batch.images.copy()) for each in feed.epochs(2) for batch in each]


def same(one: list[Any], other: list[Any]) -> bool:
    flat = zip(one, other, strict=True)
    return all(a[:2] == b[:2] and all(map(np.array_equal, a[2:], b[2:])) for a, b in flat)


def sources(tmp_path: Path) -> dict[str, Any]:
    folder = fill(tmp_path / "heap", 6)
    shutil.copy(folder / "plain" / "0000.jpg", folder / "plain" / "again.jpg")
    (folder / "twill" / "broken.jpg").write_bytes((folder / "twill" / "0001.jpg").read_bytes()[:300])
    files = sorted(path for path in folder.rglob("*") if path.is_file())
    with zipfile.ZipFile(tmp_path / "heap.zip", "w", zipfile.ZIP_DEFLATED) as archive:
        for path in files:
            archive.write(path, path.relative_to(folder))
    rows = [{"picture": path.read_bytes(), "label": path.parent.name} for path in files]
    pq.write_table(pa.Table.from_pylist(rows), tmp_path / "heap.parquet")
    return {"folder": folder, "zip": tmp_path / "heap.zip", "parquet": tmp_path / "heap.parquet", "dicts": rows}


@pytest.mark.parametrize("kind", ["folder", "zip", "parquet", "dicts"])
def test_every_source_feeds_what_it_feeds_when_it_is_packed(tmp_path: Path, kind: str) -> None:
    source = sources(tmp_path)[kind]
    packed = pannier.create(tmp_path / "s.store").pack(source, shares=SHARES, seed=3).snapshot
    snapshot = pannier.unpacked(source, shares=SHARES, seed=3)
    assert snapshot.content_id == packed.content_id
    assert snapshot.counts == packed.counts
    assert snapshot.left_out == packed.left_out
    how: dict[str, Any] = {"batch_size": 4, "seed": 5}
    assert same(epochs(snapshot.feed("train", TREATMENT, **how)), epochs(packed.feed("train", TREATMENT, **how)))
    assert all(record.bytes() == packed[record.key].bytes() for record in snapshot)


def test_a_feed_of_a_source_takes_train_or_all_of_it(tmp_path: Path) -> None:
    folder = sources(tmp_path)["folder"]
    packed = pannier.create(tmp_path / "s.store").pack(folder).snapshot
    given = epochs(pannier.feed(folder, size=24, batch_size=4))
    assert same(given, epochs(packed.feed(None, size=24, batch_size=4)))
    split = tmp_path / "split"
    for name, weave in (("train", "plain"), ("val", "satin")):
        shutil.copytree(folder / weave, split / name / "linen")
    with pannier.feed(split, size=24) as feed:
        assert feed.split == "train"
        assert feed.notes == []
    with pannier.feed(split, "val", size=24, processes=1) as feed:
        assert len(next(iter(feed)).keys) == 6
        assert feed.notes == ["threads of this process serve: what is fed is in the memory of this process"]


def test_pictures_themselves_are_a_source(tmp_path: Path) -> None:
    files = sorted(fill(tmp_path / "heap", 3).rglob("*.jpg"))
    by_path = epochs(pannier.feed([str(path) for path in files], size=24, batch_size=2))
    assert sorted(key for keys, *_ in by_path[: len(by_path) // 2] for key in keys)
    assert all(labels.tolist() == [-1] * len(labels) for _, _, labels, _ in by_path)
    by_bytes = epochs(pannier.feed([path.read_bytes() for path in files], size=24, batch_size=2))
    assert sum(map(len, (keys for keys, *_ in by_bytes))) == sum(map(len, (keys for keys, *_ in by_path)))


def test_what_changes_later_is_refused_by_name(tmp_path: Path) -> None:
    folder = sources(tmp_path)["folder"]
    for change in ("longer", "other", "gone"):
        snapshot, path = pannier.unpacked(folder), folder / "satin" / "0003.jpg"
        if not path.exists():
            path = folder / "satin" / "0003.png"
        before = path.read_bytes()
        path.unlink()
        if change != "gone":
            path.write_bytes(before + b"!" if change == "longer" else before[:-20] + bytes(20))
        with pytest.raises(DamageError, match=r"'satin/0003.*' is not what it was when its source was opened: open it anew"):
            epochs(snapshot.feed(None, TREATMENT))
        path.write_bytes(before)


def test_limits_and_bad_input_are_told(tmp_path: Path) -> None:
    folder = sources(tmp_path)["folder"]
    snapshot = pannier.unpacked(folder, workers=2)
    with snapshot.feed(None, TREATMENT, memory_limit="24MiB") as feed:
        packed = pannier.create(tmp_path / "s.store").pack(folder).snapshot.feed(None, TREATMENT, memory_limit="24MiB")
        assert packed.plan.decode_bytes < feed.plan.decode_bytes
        assert feed.plan.total_bytes <= 24 << 20
    with pytest.raises(LimitError):
        snapshot.feed(None, TREATMENT, memory_limit="1MiB")
    with pytest.raises(NotFoundError, match="no folder or file"):
        pannier.feed(tmp_path / "nothing", size=24)
    with pytest.raises(UsageError, match="did you mean 'shares'"):
        pannier.unpacked(folder, share=SHARES)
    with pytest.raises(UsageError, match="batch_size"):
        pannier.feed(folder, size=24, batch_size=0)
