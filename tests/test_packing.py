"""Packing and snapshots: what comes in, what stays, what is refused."""

from __future__ import annotations

import json
import shutil
from pathlib import Path

import numpy as np
import pytest

import pannier
from pannier.errors import ConflictError, NotFoundError, SourceError, StoreError, UsageError
from pannier.packing import pack as packing
from pannier.store.documents import sealed
from tests.conftest import draw, encoded, fill

SHARES = {"train": 75, "val": 15, "test": 10}


def test_a_snapshot_reads_as_the_design_says(packed: pannier.Snapshot, archive: Path) -> None:
    assert len(packed) == 60
    assert packed.classes == ["plain", "satin", "twill"]
    assert packed.splits == {"train": 42, "val": 12, "test": 6}
    record = packed["twill/0002.jpg"]
    assert record.bytes() == (archive / record.key).read_bytes()
    assert (record.label, record.format, record.byte_count) == ("twill", "jpeg", len(record.bytes()))
    assert record.picture().shape == (*record.size, 3)
    keys = [each.key for each in packed]
    assert keys == sorted(keys, key=str.encode)
    assert (packed[0].key, packed[-1].key) == (keys[0], keys[-1])
    with pytest.raises(IndexError):
        packed[60]
    with pytest.raises(NotFoundError, match="did you mean 'twill/00.2.jpg'"):
        packed["twill/002.jpg"]
    assert pannier.open(f"{packed.store.path}@{packed.id[:8]}").id == packed.id


def test_what_is_there_keeps_label_and_split_and_new_bytes_are_a_change(tmp_path: Path, store: pannier.Store) -> None:
    folder = fill(tmp_path / "a", 20)
    before = store.pack(folder, shares=SHARES, seed=1).snapshot
    fill(folder, 10, first=50)
    (folder / "plain" / "0003.jpg").write_bytes(encoded(draw(99_999)))
    result = store.pack(folder)
    after = result.snapshot
    assert (result.added, result.changed, result.unchanged) == (30, 1, 59)
    assert all(after[record.key].split == record.split for record in before)
    assert after.splits == {"train": 66, "val": 15, "test": 9} or sum(after.splits.values()) == 90
    assert set(result.deviation.values()) == {0}
    assert after.parents == [before.id]
    assert after.document["delta"] is None  # 31 of 60 is more than a delta may hold
    assert pannier.verify(store) == []


def test_classes_that_are_integers_are_numbered_as_numbers(tmp_path: Path, store: pannier.Store) -> None:
    snapshot = store.pack(fill(tmp_path / "a", 2, ("10", "9", "2"))).snapshot
    assert snapshot.classes == ["2", "9", "10"]


def test_split_folders_fix_the_splits(tmp_path: Path, store: pannier.Store) -> None:
    fill(tmp_path / "a" / "train", 5)
    fill(tmp_path / "a" / "Validation", 3, first=30)
    with pytest.raises(UsageError, match="`resplit`"):
        store.pack(tmp_path / "a", shares=SHARES)
    snapshot = store.pack(tmp_path / "a").snapshot
    assert snapshot.splits == {"train": 15, "val": 9}
    assert snapshot["Validation/twill/0030.jpg"].label == "twill"
    resplit = pannier.create(tmp_path / "r.store").pack(tmp_path / "a", shares="train=50,test=50", resplit=True).snapshot
    assert resplit.splits == {"train": 12, "test": 12}


def test_class_names_that_differ_between_splits_stop_packing(tmp_path: Path, store: pannier.Store) -> None:
    fill(tmp_path / "a" / "train", 2, ("herringbone", "rib"))
    fill(tmp_path / "a" / "val", 2, ("herringbon", "rib"), first=10)
    with pytest.raises(SourceError, match=r"'herringbon' \(but 'herringbone'\).*`rename`"):
        store.pack(tmp_path / "a")
    assert store.strands.all_names() == []
    assert store.pack(tmp_path / "a", rename={"herringbon": "herringbone"}).snapshot.classes == ["herringbone", "rib"]


def test_one_picture_in_two_splits_is_refused_and_both_are_named(tmp_path: Path, store: pannier.Store) -> None:
    fill(tmp_path / "a" / "train", 2)
    fill(tmp_path / "a" / "val", 2, first=10)
    shutil.copy(tmp_path / "a" / "train" / "twill" / "0001.jpg", tmp_path / "a" / "val" / "twill" / "x.jpg")
    with pytest.raises(SourceError, match=r"'train/twill/0001.jpg' in train and 'val/twill/x.jpg' in val"):
        store.pack(tmp_path / "a")


def test_a_changed_picture_that_is_a_double_now_follows_it(tmp_path: Path, store: pannier.Store) -> None:
    folder = fill(tmp_path / "a", 20)
    first = store.pack(folder, shares="train=50,test=50").snapshot
    train = next(r.key for r in first if r.split == "train")
    test = next(r.key for r in first if r.split == "test" and r.label == first[train].label)
    shutil.copy(folder / train, folder / test)
    after = store.pack(folder).snapshot
    assert after[train].split == after[test].split == "train"


def test_broken_pictures_are_left_out_and_listed_or_refused(tmp_path: Path, store: pannier.Store) -> None:
    folder = fill(tmp_path / "a", 3)
    whole = (folder / "twill" / "0000.jpg").read_bytes()
    (folder / "twill" / "cut.jpg").write_bytes(whole[: len(whole) // 2])
    before = sorted(path for path in store.path.rglob("*") if path.is_file())
    with pytest.raises(SourceError, match=r"`strict`: 1 picture cannot.*twill/cut.jpg \(cut short\)"):
        store.pack(folder, strict=True)
    assert sorted(path for path in store.path.rglob("*") if path.is_file()) == before
    result = store.pack(folder)
    assert result.snapshot.left_out == [{"key": "twill/cut.jpg", "kind": "broken", "reason": "cut short"}]
    assert len(result.snapshot) == 9


def test_pictures_outside_any_class_are_left_out_or_kept(tmp_path: Path, store: pannier.Store) -> None:
    folder = fill(tmp_path / "a", 2)
    (folder / "loose.jpg").write_bytes(encoded(draw(4242)))
    assert [item.kind for item in store.pack(folder).left_out] == ["no label"]
    kept = store.pack(folder, unlabeled="keep").snapshot
    assert kept["loose.jpg"].label is None
    flat = tmp_path / "flat"
    flat.mkdir()
    (flat / "x.jpg").write_bytes(encoded(draw(1)))
    with pytest.raises(SourceError, match="class folders"):
        store.pack(flat)


def test_deeper_folders_prefixes_and_shards(tmp_path: Path, store: pannier.Store) -> None:
    folder = fill(tmp_path / "a" / "wool", 4).parent
    snapshot = store.pack(folder, label="top", prefix="first", shard_size=8_000).snapshot
    assert snapshot.classes == ["wool"]
    assert snapshot[0].key.startswith("first/wool/plain/")
    assert 2 <= len(store.storage.list("shards")) <= 4
    with pytest.raises(UsageError, match="no column 'perent'; did you mean 'parent'"):
        store.pack(folder, label="perent")


def pack_in_between(store: pannier.Store, source: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """The next pack finds, once its pictures are in, that another one has been committed meanwhile."""
    ingest = packing.ingest

    def ingest_while_another_packs(*arguments: object, **options: object) -> object:
        result = ingest(*arguments, **options)  # type: ignore[arg-type]
        monkeypatch.setattr(packing, "ingest", ingest)
        store.pack(source)
        return result

    monkeypatch.setattr(packing, "ingest", ingest_while_another_packs)


def test_two_packs_at_once_are_laid_on_top_of_each_other(
    tmp_path: Path, store: pannier.Store, monkeypatch: pytest.MonkeyPatch
) -> None:
    mine, theirs = fill(tmp_path / "a", 8), fill(tmp_path / "b", 8, first=40)
    store.pack(fill(tmp_path / "c", 4, first=80), shares=SHARES)
    pack_in_between(store, theirs, monkeypatch)
    snapshot = store.pack(mine).snapshot
    assert len(snapshot) == 12 + 24 + 24
    assert len(store.strands.numbers("main")) == 3
    assert None not in {record.split for record in snapshot}


def test_one_key_with_other_bytes_on_both_sides_is_a_conflict(
    tmp_path: Path, store: pannier.Store, monkeypatch: pytest.MonkeyPatch
) -> None:
    mine, theirs = fill(tmp_path / "a", 2), fill(tmp_path / "b", 2)
    (theirs / "twill" / "0001.jpg").write_bytes(encoded(draw(777)))
    pack_in_between(store, theirs, monkeypatch)
    with pytest.raises(ConflictError, match=r"'twill/0001.jpg' was given other bytes"):
        store.pack(mine)
    assert store.pack(mine).changed == 1


def test_stores_that_are_none_or_newer_are_said(tmp_path: Path, store: pannier.Store) -> None:
    with pytest.raises(NotFoundError, match="there is no store"):
        pannier.open_store(tmp_path / "nothing")
    (tmp_path / "folder").mkdir()
    with pytest.raises(NotFoundError, match="not a store"):
        pannier.open_store(tmp_path / "folder")
    with pytest.raises(UsageError, match="is a store already"):
        pannier.create(store.path)
    with pytest.raises(NotFoundError, match="holds no snapshot yet"):
        pannier.open(store.path)
    (store.path / "pannier.json").write_bytes(sealed({"format": "pannier store", "version": 2}))
    with pytest.raises(StoreError, match="has format 2"):
        pannier.open_store(store.path)


def test_names_that_are_unknown_or_impossible_are_said(packed: pannier.Snapshot, archive: Path) -> None:
    with pytest.raises(NotFoundError, match="'mian'.*did you mean 'main'"):
        packed.store.snapshot("mian")
    with pytest.raises(NotFoundError, match="'trian'.*did you mean 'train'"):
        packed.feed("trian")
    for name in ("Main", "a/b", "abcdef12"):
        with pytest.raises(UsageError):
            packed.store.pack(archive, strand=name)


def test_a_shard_can_be_read_with_arrow_alone(packed: pannier.Snapshot) -> None:
    import pyarrow as pa

    path = next((packed.store.path / "shards").glob("*.arrow"))
    rows = pa.ipc.open_file(path).read_all().to_pylist()
    assert {row["key"] for row in rows} == {record.key for record in packed}
    assert all(row["picture"] == packed[row["key"]].bytes() for row in rows)
    hashes = [int.from_bytes(np.frombuffer(bytes.fromhex(_sha(row["key"])), np.uint8)[:8].tobytes(), "big") for row in rows]
    assert hashes == sorted(hashes)
    assert json.loads((packed.store.path / "pannier.json").read_text())["version"] == 1


def _sha(text: str) -> str:
    import hashlib

    return hashlib.sha256(text.encode()).hexdigest()
