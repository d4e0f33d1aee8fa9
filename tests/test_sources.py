"""Folders as they really are, and what a survey says of them."""

from __future__ import annotations

import os
import shutil
from pathlib import Path

import pytest

import pannier
from pannier.errors import NotFoundError, SourceError, UsageError
from pannier.sources.folders import FolderSource
from pannier.sources.rules import Rules
from pannier.sources.several import choose
from tests.conftest import draw, encoded, fill


def put(path: Path, data: bytes | None = None) -> Path:
    path.parent.mkdir(parents=True, exist_ok=True)
    path.write_bytes(encoded(draw(hash(path.name) % 1000)) if data is None else data)
    return path


def test_pictures_are_told_by_content_and_all_else_is_skipped(tmp_path: Path) -> None:
    put(tmp_path / "a" / "picture.txt")
    put(tmp_path / "a" / "text.jpg", b"not a picture at all")
    put(tmp_path / "a" / "empty.png", b"")
    source = FolderSource(tmp_path)
    assert source.table().column("path").to_pylist() == ["a/empty.png", "a/picture.txt"]
    assert [(item.key, item.kind) for item in source.passed] == [("a/text.jpg", "broken")]


def test_columns_count_below_the_split_folder(tmp_path: Path) -> None:
    for split in ("Training", "valid", "TEST"):
        put(tmp_path / split / "woven" / "twill" / f"{split}.jpg")
    rows = {row["path"]: row for row in FolderSource(tmp_path).table().to_pylist()}
    columns = rows["Training/woven/twill/Training.jpg"]
    assert (columns["split"], columns["top"], columns["parent"], columns["stem"]) == (
        "train",
        "woven",
        "twill",
        "Training",
    )
    assert {columns["split"] for columns in rows.values()} == {"train", "val", "test"}


def test_mixed_layouts_are_refused_and_both_kinds_named(tmp_path: Path) -> None:
    put(tmp_path / "train" / "a" / "1.jpg")
    put(tmp_path / "twill" / "2.jpg")
    with pytest.raises(SourceError, match=r"split's name \(train\) and some do not \(twill\)"):
        FolderSource(tmp_path)


def test_odd_names_and_links_are_said_and_survived(tmp_path: Path) -> None:
    root = tmp_path / "root"
    put(root / "a" / "1.jpg")
    put(tmp_path / "outside" / "2.jpg")
    (root / "a" / "out.jpg").symlink_to(tmp_path / "outside" / "2.jpg")
    (root / "a" / "loop").symlink_to(root / "a")
    (root / "a" / "dangling.jpg").symlink_to(root / "nothing")
    raw = os.fsencode(root) + b"/a/\xff.jpg"
    with open(raw, "wb") as file:
        file.write(encoded(draw(1)))
    put(root / "a" / "e\u0301.jpg")
    source = FolderSource(root)
    assert source.table().column("path").to_pylist() == ["a/%FF.jpg", "a/1.jpg", "a/\u00e9.jpg"]
    assert {item.kind for item in source.passed} == {"link", "name", "unreadable"}
    assert all(source.read(row) for row in choose(source, Rules()).rows(source))


def test_two_names_of_one_unicode_form_are_refused(tmp_path: Path) -> None:
    put(tmp_path / "a" / "e\u0301.jpg")
    put(tmp_path / "a" / "\u00e9.jpg")
    with pytest.raises(SourceError, match="two pictures have one key"):
        FolderSource(tmp_path)


@pytest.mark.parametrize(("make", "error"), [("nothing", NotFoundError), ("file", UsageError), ("empty", SourceError)])
def test_a_source_that_is_none_is_said(tmp_path: Path, make: str, error: type[Exception]) -> None:
    path = tmp_path / "source"
    if make == "file":
        path.write_text("x")
    elif make == "empty":
        path.mkdir()
    with pytest.raises(error):
        pannier.survey(path)


def test_a_survey_counts_and_finds_what_harms(tmp_path: Path) -> None:
    fill(tmp_path / "train", 4)
    fill(tmp_path / "val", 4, first=20)
    (tmp_path / "val" / "satin").rename(tmp_path / "val" / "satine")
    shutil.copy(tmp_path / "train" / "twill" / "0001.jpg", tmp_path / "val" / "plain" / "copy.jpg")
    whole = (tmp_path / "train" / "plain" / "0000.jpg").read_bytes()
    put(tmp_path / "train" / "plain" / "cut.jpg", whole[: len(whole) // 2])
    put(tmp_path / "train" / "plain" / "void.jpg", b"")
    findings = pannier.survey(tmp_path)
    problems = {problem.kind: problem for problem in findings.problems}
    assert findings.pictures == 25
    assert findings.counts["plain", "val"] == 5
    assert findings.splits == ["train", "val"]
    assert {"two labels", "two splits", "class names", "broken", "empty"} <= set(problems)
    assert "'satine' (but 'satin')" in "".join(problems["class names"].examples).replace("train has no ", "")
    assert problems["broken"].examples == ["train/plain/cut.jpg (cut short)"]
    assert findings.is_harmful
    assert not {"broken"} & {problem.kind for problem in pannier.survey(tmp_path, quick=True).problems}


def test_a_clean_archive_harms_nobody(archive: Path) -> None:
    findings = pannier.survey(archive, workers=1)
    assert (findings.pictures, findings.problems, findings.is_harmful) == (60, [], False)
    assert findings.formats == {"jpeg": 54, "png": 6}
