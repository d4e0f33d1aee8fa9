"""Kinds of sources: archives, arrays, several at once; patterns; columns that headers give."""

from __future__ import annotations

import io
import os
import subprocess
import tarfile
import warnings
import zipfile
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
from PIL import Image

import pannier
from pannier.errors import NotFoundError, SourceError, UsageError
from tests.conftest import Ended, draw, encoded, fill


def zipped(folder: Path, path: Path, top: str = "") -> Path:
    with zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED) as archive:
        for file in sorted(folder.rglob("*.*")):
            archive.write(file, top + str(file.relative_to(folder)))
    return path


def tarred(folder: Path, path: Path, mode: str) -> Path:
    with tarfile.open(path, mode) as archive:
        archive.add(folder, ".")
    return path


def test_an_archive_is_the_folder_that_it_was_made_of(tmp_path: Path) -> None:
    folder = fill(tmp_path / "swatches", 4)
    (folder / "notes.txt").write_text("no picture")
    archives = [
        zipped(folder, tmp_path / "a.zip"),
        zipped(folder, tmp_path / "b.zip", "swatches/"),
        tarred(folder, tmp_path / "c.tar", "w"),
        tarred(folder, tmp_path / "d.tar.gz", "w:gz"),
        tarred(folder, tmp_path / "e.tar.xz", "w:xz"),
    ]
    content = {pannier.create(tmp_path / "s0").pack(folder).snapshot.content_id}
    for i, archive in enumerate(archives, 1):
        result = pannier.create(tmp_path / f"s{i}").pack(archive)
        content.add(result.snapshot.content_id)
        assert result.skipped == 1
        again = result.snapshot.store.pack(archive)
        assert (again.is_new, again.unchanged) == (False, 12)
    assert len(content) == 1


def test_no_path_in_an_archive_leads_outside_and_odd_members_are_listed(tmp_path: Path, store: pannier.Store) -> None:
    picture = encoded(draw(1))
    path = tmp_path / "odd.tar"
    with tarfile.open(path, "w") as archive:
        for name in ("twill/a.jpg", "../twill/b.jpg", "/twill/c.jpg", "twill/../../d.jpg", "twill/./e.jpg"):
            info = tarfile.TarInfo(name)
            info.size = len(picture)
            archive.addfile(info, io.BytesIO(picture + name.encode()))
        link = tarfile.TarInfo("twill/link.jpg")
        link.type, link.linkname = tarfile.SYMTYPE, "/etc/passwd"
        archive.addfile(link)
        latin = tarfile.TarInfo(os.fsdecode(b"twill/gr\xfcn.jpg"))
        latin.size = len(picture)
        archive.addfile(latin, io.BytesIO(picture))
    result = store.pack(path)
    assert [record.key for record in result.snapshot] == ["twill/a.jpg", "twill/e.jpg", "twill/gr%FCn.jpg"]
    kinds = sorted((item.kind, item.key) for item in result.left_out)
    assert [kind for kind, _ in kinds] == ["link", "unsafe", "unsafe", "unsafe"]


def test_damaged_and_hostile_archives_are_said(tmp_path: Path, store: pannier.Store) -> None:
    whole = zipped(fill(tmp_path / "a", 2), tmp_path / "a.zip")
    content = whole.read_bytes()
    (tmp_path / "cut.zip").write_bytes(content[: len(content) // 2])
    (tmp_path / "text.tar.gz").write_bytes(b"\x1f\x8b no gzip")
    for name in ("cut.zip", "text.tar.gz"):
        with pytest.raises(SourceError, match="cannot be read as an archive"):
            store.pack(tmp_path / name)
    flipped = bytearray(content)
    at = content.index(b"plain/0000.jpg") + 200
    flipped[at] ^= 0xFF
    (tmp_path / "flipped.zip").write_bytes(flipped)
    result = store.pack(tmp_path / "flipped.zip")
    assert [item.key for item in result.left_out] == ["plain/0000.jpg"]
    assert len(result.snapshot) == 5


def test_arrays_are_kept_without_loss(tmp_path: Path, store: pannier.Store) -> None:
    rng = np.random.default_rng(1)
    pictures = {
        "x_train": rng.integers(0, 256, (6, 9, 8, 3), np.uint8),
        "x_test": rng.integers(0, 256, (4, 3, 9, 8), np.uint8),
    }
    labels = {"y_train": np.array([0, 1, 2] * 2), "y_test": np.array([0, 1, 2, 0])}
    for name, save in (("plain.npz", np.savez), ("packed.npz", np.savez_compressed)):
        save(tmp_path / name, **pictures, **labels)
    snapshot = store.pack(tmp_path / "plain.npz", columns="array,index").snapshot
    assert snapshot.splits == {"train": 6, "test": 4}
    assert snapshot.classes == ["0", "1", "2"]
    by_place = {(record.side["array"], record.side["index"]): record for record in snapshot}
    for i in range(6):
        assert np.array_equal(by_place["x_train", i].picture(), pictures["x_train"][i])
    assert np.array_equal(by_place["x_test", 2].picture(), pictures["x_test"][2].transpose(1, 2, 0))
    assert not store.pack(tmp_path / "packed.npz", columns="array,index").is_new
    deep = rng.integers(0, 65536, (3, 5, 6), np.uint16)
    np.save(tmp_path / "deep.npy", deep)
    kept = store.pack(tmp_path / "deep.npy", unlabeled="keep", label="NULL::TEXT", columns="index").snapshot
    (kept,) = (record for record in kept if record.side.get("index") == 1 and "/" not in record.key)
    assert np.array_equal(np.asarray(Image.open(io.BytesIO(kept.bytes()))).astype(np.uint16), deep[1])
    names = {"0": "plain", "1": "twill", "2": "satin"}
    named = pannier.create(tmp_path / "n").pack(
        {"pictures": pictures["x_train"], "weave": labels["y_train"]}, class_names=names
    )
    assert named.snapshot.counts == {("plain", None): 2, ("twill", None): 2, ("satin", None): 2}


@pytest.mark.parametrize(
    ("arrays", "says"),
    [
        ({"x": np.zeros((2, 4, 4), np.float32)}, "holds float32, which no picture file keeps"),
        ({"y": np.zeros(3, np.int64)}, "holds no pictures"),
        ({"x": np.zeros((2, 5, 4, 7), np.uint8)}, "with 1, 3 or 4 channels"),
        ({"x": np.zeros((2, 4, 4), np.uint8), "y": np.zeros(3, np.int64)}, "2 pictures and y 3 values"),
    ],
)
def test_arrays_that_are_no_pictures_are_refused(store: pannier.Store, arrays: dict[str, np.ndarray], says: str) -> None:
    with pytest.raises((UsageError, SourceError), match=says):
        store.pack(arrays)


def test_several_sources_are_one_snapshot_each_with_rules_of_its_own(tmp_path: Path, store: pannier.Store) -> None:
    fill(tmp_path / "looms", 4)
    heap = tmp_path / "heap"
    heap.mkdir()
    for i in range(6):
        (heap / f"{('twill', 'satin')[i % 2]}-{i}.jpg").write_bytes(encoded(draw(900 + i)))
    rows = "\n".join(f"heap/{('twill', 'satin')[i % 2]}-{i}.jpg,{('Twill', 'Satin')[i % 2]}" for i in range(3))
    (tmp_path / "fixed.csv").write_text("file,weave\n" + rows)
    (tmp_path / "all.toml").write_text(
        """
        [[source]]
        path = "looms"
        where = "parent <> 'plain'"
        [[source]]
        path = "heap"
        name = "new"
        label_pattern = "{label}-{number}"
        where = "CAST(number AS INT) >= 3"
        [[source]]
        path = "fixed.csv"
        name = "fixed"
        label = "lower(weave)"
        split_by = "'test'"
        """
    )
    result = store.pack(tmp_path / "all.toml", shares="train=70,val=30", columns="source", allow_missing_classes=True)
    snapshot = result.snapshot
    assert sorted({record.key.split("/")[0] for record in snapshot}) == ["fixed", "looms", "new"]
    assert snapshot.splits["test"] == 3
    assert sum(count for (label, _), count in snapshot.counts.items() if label == "twill") == 4 + 1 + 2
    assert snapshot["new/satin-3.jpg"].side == {"source": "new"}
    assert len([item for item in result.left_out if item.kind == "rule"]) == 4 + 3
    both = pannier.create(tmp_path / "both").pack(
        [tmp_path / "looms", tmp_path / "fixed.csv"], unlabeled="keep", label="NULL"
    )
    assert len(both.snapshot) == 15
    with pytest.raises(UsageError, match="two sources are called 'looms'"):
        store.pack([tmp_path / "looms", str(tmp_path / "looms") + "/"])


@pytest.mark.parametrize(
    ("text", "says"),
    [
        ("[[source]]\npath = 3", "source 1: path: input should be a valid string"),
        ("[[source]]\npath = 'a'\nlabels = 'x'", "labels: extra inputs are not permitted; did you mean 'label'"),
        ("[[source]]\npath = 'nowhere'", "source 1: there is no"),
        ("sources = []", "names no sources"),
        ("[[source", "is no TOML file"),
    ],
)
def test_a_list_of_sources_that_cannot_be_read_is_said(tmp_path: Path, store: pannier.Store, text: str, says: str) -> None:
    (tmp_path / "a").mkdir()
    (tmp_path / "all.toml").write_text(text)
    with pytest.raises((UsageError, NotFoundError), match=says):
        store.pack(tmp_path / "all.toml")


def test_patterns_say_what_is_looked_at(tmp_path: Path, run: Callable[..., Ended]) -> None:
    folder = fill(tmp_path / "a", 3)
    fill(folder / "drafts", 2)
    words = ("pack", folder, tmp_path / "s.store", "--exclude", "drafts/", "--include", "*.jpg", "--include", "**/twill/*")
    done = run(*words)
    assert done.status == 0, done.err
    snapshot = pannier.open(tmp_path / "s.store")
    assert len(snapshot) == 9
    assert {item["kind"] for item in snapshot.left_out} == {"excluded"}
    assert run("pack", folder, tmp_path / "t.store", "--root", "there").err.startswith("pannier: --root is for tables")
    (tmp_path / "two.toml").write_text('[[source]]\npath = "a"\nencoding = "utf-8"\n')
    said = run("pack", tmp_path / "two.toml", tmp_path / "t.store").err
    assert said.startswith("pannier: `encoding` is for tables"), said


def test_headers_give_columns_where_a_rule_names_them(tmp_path: Path, store: pannier.Store) -> None:
    folder = fill(tmp_path / "a", 8)
    exif = Image.Exif()
    exif[306] = "2024:03:09 11:12:13"
    (folder / "twill" / "taken.jpg").write_bytes(encoded(draw(77), exif=exif))
    (folder / "twill" / "cut.jpg").write_bytes(encoded(draw(78))[:30])
    snapshot = store.pack(
        folder, where=["width >= 80", "format = 'jpeg'"], columns="height as tall, year(taken) as year"
    ).snapshot
    assert all(record.size[1] >= 80 and record.format == "jpeg" for record in snapshot)
    assert snapshot["twill/taken.jpg"].side == {"tall": 60, "year": 2024}
    left = {item["key"]: item["reason"] for item in snapshot.left_out}
    assert left["twill/cut.jpg"] == "left out by the condition width >= 80"


def test_a_name_that_is_there_twice_is_lost_and_no_other(tmp_path: Path, store: pannier.Store) -> None:
    with zipfile.ZipFile(tmp_path / "a.zip", "w") as archive, warnings.catch_warnings(action="ignore"):
        for number, name in enumerate(("twill/a.jpg", "twill/b.jpg", "plain/c.jpg", "twill/b.jpg")):
            archive.writestr(name, encoded(draw(number)))
    result = store.pack(tmp_path / "a.zip")
    assert [record.key for record in result.snapshot] == ["plain/c.jpg", "twill/a.jpg"]
    (lost,) = result.left_out
    assert (lost.key, lost.reason) == ("twill/b.jpg", "several files in the archive have this name")


def test_sparse_members_of_a_tar_archive_are_whole(tmp_path: Path, store: pannier.Store) -> None:
    """A picture with a hole of zeros, as `tar --sparse` keeps it: only the pieces beside the hole lie in the archive."""
    pixels = np.zeros((300, 300, 3), np.uint8)
    pixels[:20], pixels[-20:] = draw(1, 20, 300), draw(2, 20, 300)
    picture = encoded(pixels, "bmp")
    (tmp_path / "a" / "twill").mkdir(parents=True)
    file = tmp_path / "a" / "twill" / "x.bmp"
    with open(file, "wb") as sparse:
        for at in range(0, len(picture), 4096):
            piece = picture[at : at + 4096]
            if any(piece):
                sparse.seek(at)
                sparse.write(piece)
        sparse.truncate(len(picture))
    for number, way in enumerate(("gnu", "posix")):
        archive = tmp_path / f"{way}.tar"
        subprocess.run(["tar", "--sparse", f"--format={way}", "-cf", archive, "-C", tmp_path / "a", "twill"], check=True)
        with tarfile.open(archive) as members:
            assert any(info.issparse() for info in members)
        result = store.pack(archive, prefix=f"a{number}")
        assert result.snapshot[f"a{number}/twill/x.bmp"].bytes() == picture
