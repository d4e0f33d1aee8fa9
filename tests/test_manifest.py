"""Manifests against a plain dictionary: any history of changes reads back, and equal rows have equal ids."""

from __future__ import annotations

import hashlib
import json
import struct
import tarfile
from datetime import datetime
from itertools import pairwise
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import pannier
from pannier.errors import DamageError
from pannier.hashing import text_hash
from pannier.storage.local import LocalStorage
from pannier.storage.memory import MemoryStorage
from pannier.store import manifest as manifests
from pannier.store.content import BUCKETS
from pannier.store.encoding import digests_of
from pannier.store.manifest import Manifest, rows_there
from pannier.store.manifest_files import REMOVED, SCHEMA
from tests import kept_stores

keys = st.integers(0, 60).map(lambda i: f"class{i % 5}/{i:04}.jpg")
values = st.tuples(st.sampled_from(["twill", "satin", None]), st.sampled_from(["train", "val", None]), st.integers(0, 255))
changes = st.dictionaries(keys, st.one_of(st.none(), values), min_size=1, max_size=25)
Rows = dict[str, tuple[str | None, str | None, int]]


def table(changed: dict[str, Any]) -> Any:
    """Manifest rows of changes; None removes a key."""
    ordered = sorted(changed, key=lambda key: (text_hash(key), key.encode()))
    full = [changed[key] or (None, None, 0) for key in ordered]
    fixed = {"byte_count": 10, "width": 4, "height": 3, "format": "jpeg", "mode": "ycbcr", "turn": 1, "progressive": False}
    columns: dict[str, list[Any]] = {
        "hash": [text_hash(key) for key in ordered],
        "key": ordered,
        "label": [label for label, _, _ in full],
        "split": [split for _, split, _ in full],
        "sha256": [bytes([number]) * 32 for _, _, number in full],
        "crc32": [number for _, _, number in full],
    } | {name: [value] * len(ordered) for name, value in fixed.items()}
    arrays = [pa.array(columns[field.name], field.type) for field in SCHEMA]
    arrays.append(pa.array([changed[key] is None for key in ordered]))
    return pa.table(arrays, schema=pa.schema([*SCHEMA, REMOVED]))


def rows_of(manifest: Manifest) -> Rows:
    taken = manifest.lists(np.arange(len(manifest)), ("key", "label", "split", "crc32"))
    return {key: (label, split, crc) for key, label, split, crc in zip(*taken, strict=True)}


@settings(max_examples=60, deadline=None)
@given(first=st.integers(1, 3), history=st.lists(changes, min_size=1, max_size=6), wide=st.booleans())
def test_any_history_of_changes_reads_back(first: int, history: list[dict[str, Any]], wide: bool) -> None:
    storage = MemoryStorage()
    # a wide base lets the changes stay a delta; a small one is written anew each time
    start = {f"base/{i:05}.jpg": ("plain", "train", i % 200) for i in range(3000 if wide else first)}
    expected: Rows = dict(start)
    manifest = manifests.write(storage, Manifest.empty(), table(start))
    for changed in history:
        manifest = manifests.write(storage, manifest, table(changed))
        for key, value in changed.items():
            expected.pop(key, None)
            if value is not None:
                expected[key] = value
        assert wide == (manifest.delta_file is not None)
    assert manifest.base_file is not None
    again = Manifest.read(storage, manifest.base_file, manifest.delta_file)
    for each in (manifest, again):
        assert rows_of(each) == expected
        assert each.hashes.tolist() == sorted(text_hash(key) for key in expected)
        some = np.arange(len(each))[::-2]
        assert each.gather(some, "crc32").tolist() == [crc for (crc,) in zip(*each.lists(some, ["crc32"]), strict=True)]
        assert [row.tobytes() for row in each.gather(some, "sha256")] == next(each.lists(some, ["sha256"]))
        assert {k: v for k, v in each.bucket_digests(list(range(BUCKETS))) if v} == dict(each.digests)
    key = next(iter(expected))
    at = again.find(key, text_hash(key))
    assert at is not None
    assert again.take([at]).column("key")[0].as_py() == key
    assert again.find("none", text_hash("none")) is None
    assert [again.take([row]).column("key")[0].as_py() for row in again.keys_in_order()[:3]] == sorted(expected)[:3]
    at_once = manifests.write(MemoryStorage(), Manifest.empty(), table(dict(expected)))
    assert at_once.content_id == manifest.content_id


def test_keys_whose_hashes_are_alike_are_told_apart(tmp_path: Path) -> None:
    rows = table({f"a/{i}.jpg": ("twill", "train", i) for i in range(4)})
    alike = rows.set_column(0, SCHEMA.field("hash"), pa.array([7, 7, 7, 9], pa.uint64())).sort_by([("key", "ascending")])
    alike = alike.take(pa.array(np.lexsort((np.arange(4), alike.column("hash").to_numpy()))))
    manifest = manifests.write(MemoryStorage(), Manifest.empty(), alike)
    taken = manifest.take(np.arange(4), ["key"]).column(0).to_pylist()
    asked = pa.table(
        {"hash": pa.array([7, 7, 7, 7, 8], pa.uint64()), "key": pa.array([*taken[::-1], "x"], pa.large_string())}
    )
    there = rows_there(manifest, asked).tolist()
    expected = [
        taken.index(key) if key in taken and manifest.hashes[taken.index(key)] == 7 else -1 for key in [*taken[::-1], "x"]
    ]
    assert there == expected
    assert there.count(-1) == 2


def test_a_flipped_label_does_not_pass(tmp_path: Path) -> None:
    storage = LocalStorage(tmp_path)
    manifest = manifests.write(
        storage, Manifest.empty(), table({"a/1.jpg": ("twill", "train", 1), "b/2.jpg": (None, None, 2)})
    )
    assert manifest.base_file is not None
    path = tmp_path / manifest.base_file.path
    path.write_bytes(path.read_bytes().replace(b"twill", b"twilt"))
    with pytest.raises(DamageError, match="checksum"):
        Manifest.read(storage, manifest.base_file, None)


def plainly(key: str, label: str | None, split: str | None, sha256: bytes, side: dict[str, Any]) -> bytes:
    """A row's bytes as docs/format.md has them."""

    def value(of: Any) -> bytes:
        if of is None or isinstance(of, bool):
            return bytes([0 if of is None else 1 + of])
        if isinstance(of, float):
            return b"\4" + (struct.pack(">d", of + 0.0) if of == of else b"\x7f\xf8" + bytes(6))
        if isinstance(of, str):
            return b"\5" + struct.pack(">I", len(of.encode())) + of.encode()
        return (b"\3" if isinstance(of, int) else b"\7") + struct.pack(
            ">q", of if isinstance(of, int) else np.datetime64(of, "us").astype(int)
        )

    told = b"".join(value(name) + value(side[name]) for name in sorted(side) if side[name] is not None)
    return value(key) + value(label) + value(split) + sha256 + told + b"\xff"


def test_the_encoding_of_rows_is_frozen() -> None:
    assert plainly("a", "twill", None, b"\1" * 32, {"b": -0.0}) == (
        b"\5\0\0\0\1a\5\0\0\0\5twill\0" + b"\1" * 32 + b"\5\0\0\0\1b\4" + bytes(8) + b"\xff"
    )
    rng = np.random.default_rng(0)
    texts, when = ["", "z", "für", "a" * 300, None], [datetime(1969, 3, 4, 5), datetime(2026, 1, 2, 3, 4, 5, 678), None]
    drawn = {
        "text": [texts[i] for i in rng.integers(0, 5, 400)],
        "b": [[True, False, None][i] for i in rng.integers(0, 3, 400)],
        "a": [[-0.0, float("nan"), 2.5, None][i] for i in rng.integers(0, 4, 400)],
        "whole": [[-1, 1 << 62, None][i] for i in rng.integers(0, 3, 400)],
        "when": [when[i] for i in rng.integers(0, 3, 400)],
        "none": [None] * 400,
    }
    kinds = (pa.string(), pa.bool_(), pa.float64(), pa.int64(), pa.timestamp("us"), pa.null())
    for side in ([], ["a"], [*drawn]):
        columns = {
            "key": pa.array([f"ü/{i}" for i in rng.permutation(400)], pa.large_string()),
            "label": pa.array([texts[i] for i in rng.integers(0, 5, 400)]).dictionary_encode(),
            "split": pa.array([None] * 400, pa.string()).dictionary_encode(),
            "sha256": pa.array([rng.bytes(32) for _ in range(400)], pa.binary(32)),
        }
        columns |= {name: pa.array(drawn[name], kind) for name, kind in zip(drawn, kinds, strict=True) if name in side}
        table, borders = pa.table(columns), [0, 7, 7, 150, 399, 400]
        rows = [(row["key"].encode(), plainly(*(row.pop(n) for n in [*columns][:4]), row)) for row in table.to_pylist()]
        expected = [
            hashlib.sha256(b"".join(row for _, row in sorted(rows[first:last]))).digest()
            for first, last in pairwise(borders)
        ]
        assert [*digests_of(table, side, borders)] == expected


@pytest.mark.parametrize("kept", sorted((Path(__file__).parent / "data").glob("store-*.json")), ids=lambda path: path.stem)
def test_stores_that_earlier_versions_wrote_are_read_and_added_to(kept: Path, tmp_path: Path) -> None:
    with tarfile.open(kept.with_suffix(".tar.xz")) as archive:
        archive.extractall(tmp_path, filter="data")
    store = pannier.open_store(tmp_path / "s.store")
    assert kept_stores.told(store) == json.loads(kept.read_text())
    for record in store.snapshot():
        assert hashlib.sha256(record.bytes()).hexdigest() == record.sha256
    assert store.snapshot("spring").attachment("results/log.txt").bytes() == b"12 epochs\n"
    assert pannier.verify(store) == []
    assert store.change(where="true", set="loom=9").is_new
    assert store.change(as_of="spring").snapshot.content_id == store.snapshot("spring").content_id
    assert pannier.verify(store) == []
