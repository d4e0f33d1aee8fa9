"""The survey: what it finds of tables and pictures, in order of harm, quick and in full."""

from __future__ import annotations

import io
import json
import shutil
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
from PIL import Image

import pannier
from tests.conftest import Ended, draw, encoded, fill


def put(path: Path, content: bytes) -> Path:
    path.parent.mkdir(parents=True, exist_ok=True)
    path.write_bytes(content)
    return path


def saved(image: Image.Image, kind: str, **options: object) -> bytes:
    sink = io.BytesIO()
    image.save(sink, kind, **options)
    return sink.getvalue()


@pytest.fixture(scope="module")
def untidy(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A folder with one of everything that a survey looks for."""
    root = tmp_path_factory.mktemp("untidy") / "heap"
    fill(root, 14)
    twill, satin = root / "twill", root / "satin"
    pixels = draw(5001, 160, 200)
    image = Image.fromarray(pixels)
    put(twill / "one.jpg", encoded(pixels))
    put(satin / "one-small.jpg", encoded(np.asarray(image.resize((100, 80)))))
    put(twill / "one-turned.png", encoded(np.rot90(pixels).copy(), "png"))
    exif = Image.Exif()
    exif[274] = 8
    put(twill / "turned.jpg", encoded(draw(5002), exif=exif))
    put(twill / "gray.jpg", encoded(draw(5003)[..., 0]))
    clear = Image.fromarray(draw(5004))
    clear.putalpha(100)
    put(twill / "clear.png", saved(clear, "png"))
    frames = [Image.fromarray(draw(5005 + i)) for i in range(3)]
    put(twill / "moving.gif", saved(frames[0], "gif", save_all=True, append_images=frames[1:]))
    put(twill / "moving.webp", saved(frames[0], "webp", save_all=True, append_images=frames[1:]))
    put(twill / "moving.png", saved(frames[0], "png", save_all=True, append_images=frames[1:]))
    put(twill / "really.png", encoded(draw(5010)))
    put(twill / "black.jpg", encoded(np.zeros((60, 80, 3), np.uint8)))
    put(twill / "tiny.png", encoded(draw(5011, 8, 9), "png"))
    put(twill / "vast.jpg", encoded(draw(5012, 900, 1100)))
    put(twill / "strip.jpg", encoded(draw(5013, 30, 400)))
    put(twill / "ONE.JPG", encoded(draw(5014)))
    put(root / "Twill " / "x.jpg", encoded(draw(5015)))
    put(root / "herringbone" / "y.jpg", encoded(draw(5016)))
    put(root / "herringbne" / "z.jpg", encoded(draw(5017)))
    put(twill / "cut.jpg", encoded(draw(5018))[:500])
    put(twill / "notes.txt", b"lamp moved")
    put(root / "Thumbs.db", b"\xd0\xcf\x11\xe0")
    put(twill / "tool.bin", b"\0\1\2")
    shutil.copy(satin / "0001.jpg", root / "plain" / "misfiled.jpg")
    return root


def test_everything_is_found_in_order_of_harm_with_effect_and_remedy(untidy: Path) -> None:
    findings = pannier.survey(untidy)
    problems = {problem.kind: problem for problem in findings.problems}
    assert list(problems)[:2] == ["two labels", "broken"]
    expected = {
        "two labels": "plain/misfiled.jpg (plain) = satin/0001.jpg (satin)",
        "broken": "twill/cut.jpg (cut short)",
        "alike classes": "'Twill' and 'twill' (but for case, blanks or Unicode form)",
        "near labels": "satin/one-small.jpg",
        "constant": "twill/black.jpg",
        "few": "herringbone (1)",
        "imbalance": "twill has",
        "far smaller": "twill/tiny.png (9 x 8)",
        "far larger": "twill/vast.jpg (1100 x 900)",
        "other shape": "twill/strip.jpg (400 x 30)",
        "near doubles": "twill/one-turned.png",
        "doubled": "satin/0001.jpg",
        "turned": "twill/turned.jpg",
        "color modes": "twill/gray.jpg (gray)",
        "transparent": "twill/clear.png",
        "animated": "twill/moving.",
        "wrong extension": "twill/really.png (it is jpeg)",
        "case": "twill/ONE.JPG ~ twill/one.jpg",
        "hidden": "Thumbs.db",
        "side text": "twill/notes.txt",
        "skipped": "twill/tool.bin",
    }
    for kind, example in expected.items():
        assert example in " ".join(problems[kind].examples), kind
        assert problems[kind].effect
    assert problems["animated"].count == 3
    assert "'herringbne' and 'herringbone'" in problems["alike classes"].examples
    assert all(problem.mend for problem in findings.problems if problem.is_harmful)
    assert findings.is_harmful


def test_quick_says_what_it_left_out_and_the_rest_is_the_same(untidy: Path) -> None:
    whole, quick = pannier.survey(untidy), pannier.survey(untidy, quick=True)
    in_pixels = {"broken", "near labels", "near doubles", "constant"}
    kinds = [{problem.kind for problem in findings.problems} for findings in (whole, quick)]
    assert kinds[0] - kinds[1] == in_pixels
    assert not kinds[1] - kinds[0]
    assert quick.skipped_checks == ["broken or cut short", "near doubles", "constant pictures"]
    assert quick.pictures == whole.pictures + 1
    doubles = [next(problem for problem in each.problems if problem.kind == "doubled") for each in (whole, quick)]
    assert doubles[0] == doubles[1]


def test_near_doubles_in_two_splits_harm(tmp_path: Path) -> None:
    fill(tmp_path / "train", 3)
    fill(tmp_path / "val", 3, first=20)
    pixels = draw(5001, 160, 200)
    put(tmp_path / "train" / "twill" / "one.jpg", encoded(pixels))
    put(tmp_path / "val" / "twill" / "mirrored.jpg", encoded(pixels[:, ::-1].copy(), quality=60))
    findings = pannier.survey(tmp_path, near=8)
    assert [problem.kind for problem in findings.problems if problem.is_harmful] == ["near splits"]


def test_labels_are_compared_where_there_are_two_and_the_pair_that_differs_is_shown(tmp_path: Path) -> None:
    fill(tmp_path, 12, classes=("oak", "elm"))
    shutil.copy(tmp_path / "oak" / "0001.jpg", tmp_path / "stray.jpg")
    pixels = draw(5001, 160, 200)
    for i, quality in enumerate((95, 90, 85, 80, 75)):
        put(tmp_path / "oak" / f"a{i}.jpg", encoded(pixels, quality=quality))
    put(tmp_path / "elm" / "z.jpg", encoded(pixels, quality=70))
    (tmp_path / "oak" / "page.jpg").write_text("<!DOCTYPE html><html><body>404</body></html>")
    problems = {problem.kind: problem for problem in pannier.survey(tmp_path).problems}
    assert "two labels" not in problems, "a file without a label contradicts none"
    assert problems["doubled"].groups == [["oak/0001.jpg", "stray.jpg"]]
    (example,) = problems["near labels"].examples
    assert "elm/z.jpg (elm)" in example
    assert "(oak)" in example
    assert problems["near labels"].groups == [["elm/z.jpg", *(f"oak/a{i}.jpg" for i in range(5))]]
    assert "sets of 6 pictures" in problems["near labels"].effect
    assert problems["broken"].examples == ["oak/page.jpg (a web page instead of a picture)"]


def test_a_table_is_surveyed_first(tmp_path: Path, run: Callable[..., Ended]) -> None:
    folder = fill(tmp_path / "a", 10)
    rows = [f"a/twill/{i:04}.jpg, twill ,{i if i != 4 else 'four'},{'' if i % 3 else 'raw'}" for i in range(7)]
    (tmp_path / "t.csv").write_text("file,weave,loom,finish\n" + "\n".join(rows) + "\n")
    findings = pannier.survey(tmp_path / "t.csv", label="weave", where="finish = 'raw'")
    columns = {column.name: column for column in findings.columns}
    assert columns["weave"].stray_blanks == 7
    assert columns["finish"].empty == 4
    assert (columns["loom"].type, columns["loom"].misfits, columns["loom"].examples) == ("text", 1, ("four",))
    assert columns["loom"].mostly == "whole numbers"
    assert (findings.rows, findings.funnel, findings.pictures) == (7, [("finish = 'raw'", 3)], 3)
    words = ("survey", tmp_path / "t.csv", "--label", "weave", "--where", "finish = 'raw'")
    shown = run(*words)
    assert shown.status == 0
    assert "3 of 7 rows are left by --where finish = 'raw'" in shown.out
    assert "1 not whole numbers: 'four'" in shown.out
    assert json.loads(run(*words, "--json").out)["columns"][2]["misfits"] == 1
    assert folder.exists()


def test_findings_are_data_frames_and_pictures_too(untidy: Path, tmp_path: Path, run: Callable[..., Ended]) -> None:
    findings = pannier.survey(untidy, quick=True)
    frame = findings.frame()
    assert len(frame) == findings.pictures
    assert set(frame.columns) == {"key", "label", "split", "height", "width", "format", "mode", "byte_count"}
    assert (frame[frame.key == "twill/vast.jpg"].width == 1100).all()
    assert list(findings.problem_frame().columns) == ["kind", "count", "examples", "effect", "mend", "is_harmful", "groups"]
    ended = run("survey", untidy, "--figure", tmp_path / "f.png", "--sheet", tmp_path / "s.png")
    assert ended.status == 1
    for name in ("f.png", "s.png"):
        with Image.open(tmp_path / name) as drawn:
            assert drawn.size == (1280, 800)
    tidy = run("survey", fill(tmp_path / "tidy", 10), "--sheet", tmp_path / "none.png")
    assert (tidy.status, "no sheet is drawn" in tidy.err) == (0, True)
