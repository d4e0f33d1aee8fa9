"""The command line as a user meets it: what it prints, how it ends, that bad input is one line that says what to do."""

from __future__ import annotations

import json
import os
import re
import shutil
import subprocess
import sys
import warnings
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pandas
import pytest

import pannier
from tests.conftest import draw, encoded, fill

Run = Callable[..., Any]


def test_the_whole_job_by_hand(archive: Path, tmp_path: Path, run: Run) -> None:
    store = tmp_path / "s.store"
    assert run("survey", archive).status == 0
    ended = run("pack", archive, store, "--shares", "train=70,val=20,test=10", "--seed", 3, "--note", "first")
    assert ended.status == 0
    assert "60 records (60 added)" in ended.out
    assert ended.err == ""
    assert "Nothing new: 60 records are there already" in run("pack", archive, store).out
    shown = run("show", store, "--figure", tmp_path / "counts.png").out
    assert "note      first" in shown
    assert "train 70 %, val 20 %, test 10 % with seed 3" in shown
    assert "label    twill" in run("show", store, "twill/0002.jpg").out
    assert run("sheet", store, "--split", "train", "--pictures", 9, "--figure", tmp_path / "sheet.png").status == 0
    fed = run(
        "feed",
        store,
        "--split",
        "train",
        "--size",
        32,
        "--treatment",
        "flip=both,values=standard",
        "--memory-limit",
        "64MiB",
    )
    assert "train: 42 pictures" in fed.out
    assert "shuffled, augmented" in fed.out
    assert "every byte is as it was written" in run("verify", store).out
    assert (tmp_path / "counts.png").stat().st_size > 5000
    assert (tmp_path / "sheet.png").stat().st_size > 5000


def test_json_gives_the_same_facts(packed: pannier.Snapshot, archive: Path, run: Run) -> None:
    assert json.loads(run("survey", archive, "--json").out)["pictures"] == 60
    shown = json.loads(run("show", packed.store.path, "--json").out)
    assert (shown["records"], shown["splits"], shown["content_id"]) == (60, packed.splits, packed.content_id)
    record = json.loads(run("show", packed.store.path, "twill/0002.jpg", "--json").out)
    assert record["sha256"] == packed["twill/0002.jpg"].sha256
    fed = json.loads(run("feed", packed.store.path, "--split", "val", "--size", "24x32", "--json").out)
    assert (fed["pictures"], fed["batch"]["shape"]) == (12, [12, 3, 24, 32])
    assert json.loads(run("verify", packed.store.path, "--json").out) == []


def test_help_by_its_own_word_and_the_version(run: Run) -> None:
    assert run().out == run("--help").out == run("help").out
    helped = run("help", "tidy")
    assert helped.out == run("tidy", "--help").out
    assert "Exit status: 0 done" in helped.out
    assert run("-V").out == f"pannier {pannier.__version__}\n"
    assert run("pack").err == ""


def test_a_survey_with_harm_and_a_damaged_store_end_with_1(tmp_path: Path, run: Run) -> None:
    folder = fill(tmp_path / "a", 3)
    shutil.copy(folder / "plain" / "0000.jpg", folder / "twill" / "same.jpg")
    ended = run("survey", folder)
    assert ended.status == 1
    assert "two labels       1  one picture under two labels" in ended.out
    assert run("pack", folder, tmp_path / "s.store").status == 0
    shard = next((tmp_path / "s.store" / "shards").iterdir())
    shard.write_bytes(shard.read_bytes()[:-100])
    ended = run("verify", tmp_path / "s.store")
    assert ended.status == 1
    assert "to do: bring the file back" in ended.out
    (tmp_path / "s.store" / "shards" / ".draft-0123456789abcdef").write_bytes(b"x")


BAD_CALLS: list[tuple[list[str], int, str]] = [
    (["survey", "{none}"], 2, "there is no folder"),
    (["survey", "{empty}"], 1, "no picture found"),
    (["pack", "{text}", "{new}"], 1, "no picture found"),
    (["pack", "{none}", "{new}"], 2, "there is no folder"),
    (["pack", "{archive}", "{new}", "--shares", "train=75,val=15"], 2, "sum up to 90, not to 100"),
    (["pack", "{archive}", "{text}"], 2, "is not a store"),
    (["pack", "{archive}", "{new}", "--strand", "Main"], 2, "no name for a strand"),
    (["pack", "{archive}", "{new}", "--shard-size", "many"], 2, "is no size"),
    (["show", "{none}"], 2, "there is no store"),
    (["show", "{store}@mian"], 2, "did you mean 'main'"),
    (["show", "{store}", "twill/1.jpg"], 2, "no record"),
    (["feed", "{store}", "--split", "trian", "--size", "32"], 2, "did you mean 'train'"),
    (["feed", "{store}"], 2, "needs a size"),
    (["feed", "{store}", "--size", "big"], 2, "must be one number, as 96"),
    (["feed", "{store}", "--treatment", "size=32,fit=covr"], 2, "must be 'cover'"),
    (["feed", "{store}", "--size", "32", "--treatment", "{none}"], 2, "no treatment file"),
    (["feed", "{store}", "--size", "224", "--memory-limit", "1MiB"], 1, "too small"),
    (["feed", "{store}", "--size", "32", "--batchsize", "3"], 2, "--batch-size"),
    (["measure", "{store}", "--size", "32", "--workers", "two"], 2, "write numbers"),
    (["sheet", "{store}", "--figure", "{new}.docx"], 2, "ends in .png"),
    (["sheet", "{store}", "--pictures", "900"], 2, "must be 1 to 240"),
    (["pack", "{archive}"], 2, "Missing argument 'STORE'"),
    (["pack", "{archive}", "{new}", "--prefix", "../../x"], 2, "--prefix ../../x: write names of folders"),
    (["survey", "{archive}", "--figure", "{none}/x.png"], 2, "there is no folder"),
    (["measure", "{store}", "--size", "32", "--save", "{none}/x.json"], 2, "there is no folder"),
    (["report", "{store}", "--page", "{empty}"], 2, "ends in .html"),
    (["doubles", "{store}", "--table", "{new}.xlsx"], 2, "ends in .csv, .parquet"),
    (["feed", "{store}", "--size", "32", "--subset", "2"], 2, "--subset 2: write a percentage"),
    (["verify", "{store}", "--sample", "5"], 2, "--sample 5: write a percentage"),
    (["verify", "{text}"], 2, "is not a store"),
    (["demo", "{text}"], 2, "is not empty"),
    (["pakc"], 2, "pack"),
]


@pytest.mark.parametrize(("arguments", "status", "says"), BAD_CALLS, ids=[" ".join(call[0]) for call in BAD_CALLS])
def test_bad_input_is_one_line_with_what_to_do(
    arguments: list[str], status: int, says: str, packed: pannier.Snapshot, archive: Path, tmp_path: Path, capsys: Any
) -> None:
    from pannier.cli.entry import main

    for name in ("empty", "text"):
        (tmp_path / name).mkdir()
    (tmp_path / "text" / "notes.txt").write_text("no picture")
    places = {name: str(tmp_path / name) for name in ("none", "empty", "text", "new")}
    places |= {"store": str(packed.store.path), "archive": str(archive)}
    with pytest.raises(SystemExit) as ended:
        main([argument.format(**places) for argument in arguments])
    error = capsys.readouterr().err.strip()
    assert ended.value.code == status, error
    assert says in error
    assert error.startswith("pannier: ")
    assert len(error.splitlines()) == 1
    assert not (tmp_path / "new").exists()


@pytest.fixture(scope="module")
def named_badly(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A store whose labels, notes, facts and columns would color, hide, move the cursor and break lines."""
    store = pannier.create(tmp_path_factory.mktemp("named") / "s.store")
    odd = "\x1b[31mred\x1b[0m\n\x1b]0;title\x07\u202eabc"
    rows = [
        {"id": f"{i}.png", "kind": odd if i % 2 else "\u732b caf\xe9", "grp": odd, "file": encoded(draw(i), "png")}
        for i in range(6)
    ]
    how: dict[str, Any] = {"key": "id", "label": "kind", "picture": "file", "columns": "grp"}
    store.pack(rows, **how, note=f"note {odd}", facts={"lamp": odd}, shares="train=50,val=50")
    return store.path


@pytest.mark.parametrize(
    "words", ["show", "show 1.png", "show --recipe", "show nope", "history", "history 1.png", "compare", "query"]
)
def test_texts_of_strangers_move_no_cursor_color_nothing_and_break_no_line(named_badly: Path, run: Run, words: str) -> None:
    command, *more = words.split()
    more = [str(named_badly)] if command == "compare" else ["SELECT * FROM records"] if command == "query" else more
    ended = run(command, named_badly, *more)
    printed = ended.out + ended.err
    assert not re.findall(r"[\x00-\x08\x0b-\x1f\x7f\u202a-\u202e]", printed)
    assert not [line for line in printed.splitlines() if line.startswith(("\\x1b]0", "title"))], "a line of its own"


@pytest.mark.parametrize("encoding", ["ascii", "cp1252", "utf-8"])
def test_what_a_terminal_cannot_encode_is_written_otherwise(named_badly: Path, run: Run, encoding: str) -> None:
    there = {**os.environ, "PYTHONIOENCODING": encoding}
    shown = subprocess.run(
        [sys.executable, "-m", "pannier", "show", named_badly], capture_output=True, env=there, check=True
    )
    assert ("\u732b" if encoding == "utf-8" else "\\u732b").encode() in shown.stdout
    asked = [sys.executable, "-m", "pannier", "show", named_badly, "--json"]
    told = json.loads(subprocess.run(asked, capture_output=True, env=there, check=True).stdout.decode(encoding))
    assert "\u732b caf\xe9" in told["classes"]


def test_figures_warn_of_no_letter_and_cut_names_to_the_room_they_have(named_badly: Path, tmp_path: Path, run: Run) -> None:
    from pannier.figures.style import drawable, fitted, new_figure, text_width

    for command in (["show"], ["history"], ["sheet"]):
        with warnings.catch_warnings():
            warnings.simplefilter("error")
            assert run(*command, named_badly, "--figure", tmp_path / "f.png").status == 0
    assert drawable("\x1b[31mred\nx") == "\\x1b[31mred\\nx"
    figure = new_figure()
    name = "weimaraner, long-haired, of the second delivery"
    for room in (40, 90, 200, 1000):
        for middle in (False, True):
            shown = fitted(figure, name, room, 11, middle=middle)
            assert text_width(figure, shown, 11) <= room
            assert shown == name or ("\u2026" in shown and (shown[-1] == name[-1]) == middle)
    assert fitted(figure, name, 1000, 11) == name


def test_odd_pictures_are_survived(tmp_path: Path, run: Run) -> None:
    from tests.test_pictures import huge_png

    folder = fill(tmp_path / "a", 2)
    (folder / "twill" / "nothing.jpg").write_bytes(b"")
    (folder / "twill" / "dot.png").write_bytes(encoded(draw(1, 1, 1), "png"))
    (folder / "twill" / "line.png").write_bytes(encoded(draw(2, 1, 4000), "png"))
    (folder / "twill" / "bolt.png").write_bytes(huge_png(30_000))
    (folder / "twill" / "0000.JPG").write_bytes(encoded(draw(3)))
    ended = run("pack", folder, tmp_path / "s.store", "--json")
    assert ended.status == 0
    assert sorted(item["kind"] for item in json.loads(ended.out)["left_out"]) == ["empty", "oversized"]
    assert json.loads(run("feed", tmp_path / "s.store", "--size", 64, "--json").out)["pictures"] == 9
    assert "keys that differ in case alone" in run("survey", folder).out


@pytest.mark.parametrize("limit", [4_000, 20_000, 60_000])
def test_a_full_disk_loses_nothing(tmp_path: Path, limit: int) -> None:
    """A limit on file size stands in for the disk."""
    store = tmp_path / "s.store"
    pannier.create(store).pack(fill(tmp_path / "a", 2))
    before = pannier.open(store).id
    more = fill(tmp_path / "b", 20, first=50)
    program = (
        f"import resource, signal, sys; signal.signal(signal.SIGXFSZ, signal.SIG_IGN); "
        f"resource.setrlimit(resource.RLIMIT_FSIZE, ({limit}, {limit})); "
        "from pannier.cli.entry import main; main(sys.argv[1:])"
    )
    command = [sys.executable, "-B", "-c", program, "pack", str(more), str(store)]
    ended = subprocess.run(command, capture_output=True, text=True, check=False)
    assert ended.returncode == 1
    assert "nothing was lost" in ended.stderr
    assert len(ended.stderr.strip().splitlines()) == 1
    assert pannier.open(store).id == before
    assert [finding for finding in pannier.verify(store) if finding.is_damage] == []
    assert not list(store.rglob(".draft-*"))
    assert len(pannier.open_store(store).pack(more).snapshot) == 66


def test_names_of_strangers_move_no_cursor(tmp_path: Path, run: Run) -> None:
    fill(tmp_path / "a", 2)
    sly = "twill\x1b[2J\x1b]0;owned\x07\u202e"
    rows = [{"path": f"a/twill/000{i}.jpg", "label": sly, "key": f"{i}\r\x9b1A.jpg"} for i in range(2)]
    pannier.create(tmp_path / "s.store").pack(
        pandas.DataFrame(rows), picture="path", root=tmp_path, key="key", note="so \x1b[1;31mred\x1b[0m \x1b[9A"
    )
    for words in (
        ("show", tmp_path / "s.store"),
        ("history", tmp_path / "s.store"),
        ("show", f"{tmp_path / 's.store'}", "--json"),
    ):
        ended = run(*words)
        assert ended.status == 0
        assert not re.search("[\0-\x08\x0b-\x1a\x1c-\x1f\x7f-\x9f\u202e]", ended.out), ended.out
        assert not re.search("\x1b(?!\\[[0-9;]*m)", ended.out), ended.out
    assert "twill\\x1b[2J" in run("show", tmp_path / "s.store").out


def test_a_read_only_disk_is_said(tmp_path: Path, run: Run, monkeypatch: pytest.MonkeyPatch, capsys: Any) -> None:
    import errno

    from pannier.cli.entry import main

    def refuse(*_: object, **__: object) -> None:
        raise OSError(errno.EROFS, os.strerror(errno.EROFS))

    monkeypatch.setattr(os, "link", refuse)
    with pytest.raises(SystemExit) as ended:
        main(["pack", str(fill(tmp_path / "a", 1)), str(tmp_path / "s.store")])
    assert ended.value.code == 1
    assert "read-only" in capsys.readouterr().err


def test_the_tour_runs_and_never_writes_over_anything(tmp_path: Path, run: Run) -> None:
    ended = run("demo", tmp_path / "tour", "--swatches", 60)
    assert ended.status == 0, ended.out[-2000:] + ended.err
    for figure in ("counts.png", "sheet.png", "measure.png"):
        assert (tmp_path / "tour" / figure).stat().st_size > 5000
    assert ended.out.count("\n$ pannier ") >= 12
    assert run("demo", tmp_path / "tour").status == 2


def test_a_preview_tells_and_touches_nothing(own: pannier.Snapshot, tmp_path: Path, run: Run) -> None:
    path, folder = own.store.path, tmp_path / "out"
    own.export(folder, where="split = 'val'", docket=tmp_path / "out.docket")
    own.store.copy("main", pannier.create(tmp_path / "old.store"))
    (folder / "twill" / next((folder / "twill").iterdir()).name).unlink()
    (tmp_path / "more" / "twill").mkdir(parents=True)
    (tmp_path / "more" / "twill" / "new.jpg").write_bytes(encoded(draw(77)))
    own.store.change(where="label = 'rib' OR key LIKE '%3.jpg'", remove=True)
    table = tmp_path / "t.csv"
    table.write_text("photo\nhttp://a.example/1.jpg\nhttp://a.example/2.jpg\nhttp://b.example/1.jpg\n")
    (tmp_path / "empty").mkdir()
    before = tree(tmp_path)
    for command, told in (
        (("pack", tmp_path / "more", path), "1"),
        (("change", path, "--where", "label = 'twill'", "--set", "label=satin"), "would change; nothing is written"),
        (("render", path, "--size", 16), "Nothing was made"),
        (("tidy", path, "--older-than", "0s"), "Nothing to tidy"),
        (("export", path, tmp_path / "new"), "would be written"),
        (("export", path, folder, "--overwrite"), "would be removed; nothing is touched"),
        (("restore", tmp_path / "out.docket", "--overwrite"), "1 picture would be written"),
        (("copy", path, tmp_path / "new.store"), "would be brought there; nothing is written"),
        (("copy", path, tmp_path / "empty"), "would be brought there; nothing is written"),
        (("copy", path, tmp_path / "old.store"), "0 pictures, 0 bytes, 1 snapshot would be brought there"),
        (("gather", table, tmp_path / "p", "--pause", "1ms"), "3 pictures would be asked for. Nothing"),
    ):
        ended = run(*command, "--preview")
        assert ended.status == 0, ended.err
        assert told in ended.out, ended.out
        assert tree(tmp_path) == before, command


def tree(folder: Path) -> dict[str, bytes]:
    return {str(path.relative_to(folder)): path.read_bytes() for path in folder.rglob("*") if path.is_file()}


def test_libraries_that_nobody_asks_for_are_not_loaded(archive: Path, tmp_path: Path) -> None:
    """Arrow and Numba look for them wherever they are installed; what needs one of them works as ever."""
    program = "import atexit, sys; atexit.register(lambda: print(*sys.modules)); import pannier.cli.entry as e; e.main()"
    command = [sys.executable, "-c", program, "pack", archive, tmp_path / "a.store"]
    loaded = {*subprocess.run(command, capture_output=True, text=True, check=True).stdout.split()}
    assert {"pyarrow", "numba"} <= loaded
    assert not {"cffi", "pandas", "scipy"} & loaded
    fill(tmp_path / "near", 2, ("twill",))
    for number in range(2):
        pixels = draw(number, 200, 200)
        (tmp_path / "near" / "twill" / f"large{number}.png").write_bytes(encoded(pixels, "png"))
        (tmp_path / "near" / "twill" / f"small{number}.png").write_bytes(encoded(pixels[::2, ::2], "png"))
    survey = [sys.executable, "-m", "pannier", "survey", tmp_path / "near"]  # by kernels that need no SciPy
    assert "near" in subprocess.run(survey, capture_output=True, text=True, check=True, timeout=300).stdout
    paths = [str(path) for path in sorted(archive.rglob("*.jpg"))[:4]]
    when = pandas.to_datetime(["2026-01-02", None, "2026-03-04", None])
    columns = {"path": paths, "label": ["a", "b"] * 2, "when": when, "loom": [1, None, 3, 4]}
    pandas.DataFrame(columns).to_excel(tmp_path / "t.xlsx", index=False)
    store = tmp_path / "b.store"
    command = [sys.executable, "-m", "pannier", "pack", tmp_path / "t.xlsx", store, "--columns", "when,loom"]
    subprocess.run(command, check=True, capture_output=True, timeout=300)
    again = pannier.create(tmp_path / "c.store").pack(tmp_path / "t.xlsx", columns="when,loom").snapshot
    assert pannier.open(store).content_id == again.content_id
    assert sorted(again.frame()["when"].isna()) == [False, False, True, True]
