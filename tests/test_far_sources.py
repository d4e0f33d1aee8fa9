"""Sources in a bucket: folders, archives, tables and arrays give what they give on a disk."""

from __future__ import annotations

import csv
import os
import shutil
import zipfile
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any
from urllib.parse import quote

import numpy as np
import pytest

import pannier
from pannier.errors import NotFoundError
from pannier.storage.objects import Objects
from tests.buckets import Bucket
from tests.conftest import Ended, draw, encoded, fill


@pytest.fixture
def raw(tmp_path: Path) -> Path:
    """What a mill has delivered: class folders with other things among them, an archive, a table, arrays."""
    folder = fill(tmp_path / "raw" / "cloth", 12)
    (folder / "twill" / "notes.txt").write_text("dry")
    (folder / "twill" / "named like one.jpg").write_text("no picture")
    (folder / "satin" / "empty.jpg").write_bytes(b"")
    (folder / ".thumbs").mkdir()
    shutil.copy(folder / "plain" / "0001.jpg", folder / ".thumbs" / "1.jpg")
    shutil.copy(folder / "plain" / "0002.jpg", folder / "plain" / "Köper 50%.jpg")
    with zipfile.ZipFile(folder.parent / "cloth.zip", "w") as archive:
        for path in sorted(folder.rglob("*.jpg")):
            archive.write(path, path.relative_to(folder.parent))
    rows = [(f"cloth/{path.parent.name}/{path.name}", path.parent.name) for path in sorted(folder.glob("*/0*.*"))]
    with open(folder.parent / "labels.csv", "w", newline="") as file:
        csv.writer(file).writerows([("path", "weave"), *((path.removeprefix("cloth/"), weave) for path, weave in rows)])
    rows += [("cloth/gone.jpg", "twill")]
    with open(folder.parent / "t.csv", "w", newline="") as file:
        csv.writer(file).writerows([("photo", "weave"), *rows])
    np.savez(folder.parent / "some.npz", x=np.stack([draw(i) for i in range(6)]), y=np.arange(6) % 2)
    return folder.parent


@pytest.fixture
def sent(bucket: Bucket, raw: Path) -> str:
    """The same in the bucket."""
    for path in raw.rglob("*"):
        if path.is_file():
            bucket.folder.mkdir(parents=True, exist_ok=True)
            there = bucket.folder / quote(f"raw/{path.relative_to(raw).as_posix()}", safe="")
            shutil.copy(path, there)
            os.utime(there, (1e9, 1e9))  # what was changed a moment ago is read again
    bucket.counts()
    return "s3://cloth/raw"


@pytest.mark.parametrize(
    ("named", "how"),
    [
        ("cloth", {}),
        ("cloth/", {"include": "*.jpg", "exclude": "satin/", "hidden": True}),
        ("cloth.zip", {"unlabeled": "keep"}),
        ("t.csv", {"label": "weave"}),
        ("some.npz", {}),
        ("cloth", {"labels": "labels.csv", "label": "weave", "where": "width > 60", "unlabeled": "keep"}),
    ],
    ids=str,
)
def test_they_give_what_they_give_on_a_disk(sent: str, raw: Path, tmp_path: Path, named: str, how: dict[str, Any]) -> None:
    def packed(root: str, name: str) -> pannier.PackResult:
        said = how | ({"labels": f"{root}/{how['labels']}"} if "labels" in how else {})
        return pannier.create(tmp_path / name).pack(f"{root}/{named}", **said)

    near, far = packed(str(raw), "near.store"), packed(sent, "far.store")
    assert far.snapshot.content_id == near.snapshot.content_id
    assert far.snapshot.recipes[0]["source"] == [f"{sent}/{named}".rstrip("/")]
    # what is named like a picture is looked into when it is read: then it is another kind of trouble, or a rule's
    told = [{item.key for item in each.left_out} - {"twill/named like one.jpg"} for each in (near, far)]
    assert told[0] == told[1]
    again = far.snapshot.store.pack(f"{sent}/{named}")
    assert (again.is_new, again.unchanged) == (False, len(far.snapshot))


def test_what_was_read_is_not_read_again_and_what_changed_is(sent: str, bucket: Bucket, tmp_path: Path) -> None:
    store = pannier.create(tmp_path / "s.store")
    first = store.pack(f"{sent}/cloth").snapshot
    assert bucket.counts()["GET"] >= len(first)
    store.pack(f"{sent}/cloth")
    assert bucket.counts()["GET"] <= 6
    store.pack(f"{sent}/t.csv", label="weave", prefix="t")
    assert bucket.counts()["HEAD"] <= 2 * len(first) + 10
    (bucket.folder / quote("raw/cloth/twill/0001.jpg", safe="")).write_bytes(encoded(draw(999)))
    assert store.pack(f"{sent}/cloth").changed == 1


def test_survey_feed_and_workers_of_an_executor_read_there_too(
    sent: str, raw: Path, tmp_path: Path, run: Callable[..., Ended]
) -> None:
    near, far = (run("survey", f"{root}/cloth", *how) for root, how in ((raw, ()), (sent, ())))
    assert far.out.replace(sent, str(raw)).splitlines()[2:6] == near.out.splitlines()[2:6]
    assert "37 usable pictures" in run("survey", f"{sent}/cloth", "--quick").out
    with pannier.feed(f"{sent}/cloth", size=16, seed=1) as one, pannier.feed(raw / "cloth", size=16, seed=1) as other:
        assert all(np.array_equal(a.images, b.images) for a, b in zip(one, other, strict=True))
    with ThreadPoolExecutor(2) as executor:
        by_pieces = pannier.create(tmp_path / "1").pack(f"{sent}/cloth", executor=executor).snapshot
    assert by_pieces.content_id == pannier.create(tmp_path / "2").pack(raw / "cloth").snapshot.content_id
    listed = tmp_path / "sources.toml"
    listed.write_text(f'[[source]]\npath = "{sent}/cloth"\n[[source]]\npath = "raw/cloth.zip"\nname = "zipped"\n')
    both = pannier.create(tmp_path / "3").pack(listed, unlabeled="keep").snapshot
    assert {record.key.partition("/")[0] for record in both} == {"cloth", "zipped"}


def test_a_server_that_fails_leaves_no_picture_out(sent: str, bucket: Bucket, raw: Path, tmp_path: Path) -> None:
    store = pannier.create(tmp_path / "s.store")
    bucket.fail(**{"503": 0.1, "reset": 0.1, "cut": 0.05})
    expected = pannier.create(tmp_path / "near.store").pack(raw / "cloth").snapshot
    assert store.pack(f"{sent}/cloth").snapshot.content_id == expected.content_id
    bucket.fail()
    with pytest.raises(NotFoundError, match="there is no folder or file s3://cloth/elsewhere"):
        store.pack("s3://cloth/elsewhere")


def test_a_file_over_the_memory_limit_is_not_even_fetched(
    sent: str, bucket: Bucket, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    with open(bucket.folder / quote("raw/cloth/twill/huge.jpg", safe=""), "wb") as file:
        file.truncate(40 << 20)
    read, fetched = Objects.read, list[str]()
    monkeypatch.setattr(Objects, "read", lambda self, path, most=None: fetched.append(path) or read(self, path, most))
    packed = pannier.create(tmp_path / "s.store").pack(f"{sent}/cloth", memory_limit="64MiB")
    assert {item.key: item.kind for item in packed.left_out}["twill/huge.jpg"] == "oversized"
    assert "raw/cloth/twill/0001.jpg" in fetched
    assert "raw/cloth/twill/huge.jpg" not in fetched
