"""Tables as sources: dirty ones, of every kind, naming pictures or holding them."""

from __future__ import annotations

import csv
import json
import random
import re
from collections.abc import Callable
from hashlib import sha256
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd
import pyarrow as pa
import pytest
from pyarrow import parquet

import pannier
from pannier.errors import SourceError, UsageError
from pannier.folders.label_table import write_label_table
from pannier.sources.table_files import read_table
from tests.conftest import draw, encoded

ROWS = [("twill", 1, "a.jpg"), ("satin", 2, "b.jpg"), ("twill", 3, "sub/c.jpg"), (None, 4, "d.jpg")]


@pytest.fixture
def folder(tmp_path: Path) -> Path:
    """Four pictures and nothing else."""
    (tmp_path / "sub").mkdir()
    for i, (_, _, name) in enumerate(ROWS):
        (tmp_path / name).write_bytes(encoded(draw(i)))
    return tmp_path


def write_csv(path: Path, text: str, encoding: str = "utf-8") -> Path:
    path.write_bytes(text.encode(encoding))
    return path


def make(folder: Path, kind: str) -> Path:
    frame = pd.DataFrame(ROWS, columns=["label", "loom", "file"])
    path = folder / f"cloth.{kind}"
    if kind == "csv":
        frame.to_csv(path, index=False)
    elif kind == "tsv":
        frame.to_csv(path, index=False, sep="\t")
    elif kind == "jsonl":
        frame.to_json(path, orient="records", lines=True)
    elif kind == "parquet":
        frame.to_parquet(path)
    elif kind == "xlsx":
        frame.to_excel(path, index=False)
    return path


@pytest.mark.parametrize("kind", ["csv", "tsv", "jsonl", "parquet", "xlsx"])
def test_every_kind_of_table_gives_the_same_snapshot(folder: Path, store: pannier.Store, kind: str) -> None:
    result = store.pack(make(folder, kind), columns="loom")
    assert {record.key: (record.label, record.side) for record in result.snapshot} == {
        "a.jpg": ("twill", {"loom": 1}),
        "b.jpg": ("satin", {"loom": 2}),
        "sub/c.jpg": ("twill", {"loom": 3}),
    }
    assert [(item.key, item.kind) for item in result.left_out] == [("d.jpg", "no label")]


def held() -> list[dict[str, Any]]:
    return [{"label": label, "picture": encoded(draw(i)), "name": name} for i, (label, _, name) in enumerate(ROWS[:3])]


def test_pictures_in_the_table_itself_come_in_from_python_and_parquet(tmp_path: Path, store: pannier.Store) -> None:
    by_number = store.pack(held()).snapshot
    assert [record.key for record in by_number] == sorted(sha256(row["picture"]).hexdigest()[:20] for row in held())
    named = pannier.create(tmp_path / "named.store").pack(pd.DataFrame(held()), key="name").snapshot
    nested = pa.table(
        {
            "label": [row["label"] for row in held()],
            "image": [{"bytes": row["picture"], "path": row["name"]} for row in held()],
        }
    )
    parquet.write_table(nested, tmp_path / "nested.parquet")
    other = pannier.create(tmp_path / "nested.store").pack(tmp_path / "nested.parquet").snapshot
    assert other.content_id == named.content_id
    assert named["a.jpg"].bytes() == held()[0]["picture"]


def test_a_dirty_table_is_read_and_what_was_wrong_is_said(folder: Path, store: pannier.Store) -> None:
    text = (
        " weave ;file; when ;code;share\n twill ;a.jpg;2024-02-01;007;0.5\nsatin;b.jpg; ;010;\n\nrib;x\n"
        "basket;missing.jpg;2024-02-03;1;1\nplain;;2024-02-03;1;1e3\nk\xf6per;d.jpg;2024-02-05;2;3\n"
    )
    path = write_csv(folder / "cloth.csv", text, "latin-1")
    found = read_table(path)
    assert found.notes == ["read as cp1252", "columns parted by ';'", "blanks taken off the names of weave, when"]
    kinds = {name: str(found.table.column(name).type) for name in found.table.column_names}
    assert kinds == {
        "weave": "large_string",
        "file": "large_string",
        "when": "date32[day]",
        "code": "large_string",
        "share": "double",
    }
    result = store.pack(path, label="weave", columns=["code", "when"])
    assert result.snapshot.classes == ["k\xf6per", "satin", "twill"]
    assert result.snapshot["a.jpg"].side["code"] == "007"
    assert result.snapshot["b.jpg"].side["when"] is None
    assert {item.kind for item in result.left_out} == {"malformed", "missing", "no picture"}


def test_a_path_is_built_from_columns_below_a_root(folder: Path, tmp_path: Path, store: pannier.Store) -> None:
    table = write_csv(tmp_path / "elsewhere.csv", "label,where,stem\ntwill,sub,c\n")
    assert store.pack(table, picture="\"where\" || '/' || stem || '.jpg'", root=folder).snapshot[0].key == "sub/c.jpg"


@pytest.mark.parametrize(
    ("text", "options", "says"),
    [
        ("label,file\n", {}, "holds no rows"),
        ("", {}, "holds no rows"),
        ("label,a,b\nt,a.jpg,b.jpg\n", {}, "say which with `picture`: 'a', 'b'"),
        ("label,file\nt,nothing.jpg\n", {}, "no column holds pictures or names files below"),
        ("label,link\nt,https://mill.example/a.jpg\n", {"picture": "link"}, "1 of its values are links"),
        ("name,file\nt,a.jpg\n", {}, "say with `label` which column of t.csv gives labels; there is 'name', 'file'"),
        ("label,file\nt,a.jpg\nu,a.jpg\n", {}, "rows 1, 2 have one key 'a.jpg'"),
        ("label,file,file\nt,a.jpg,b.jpg\n", {}, "has two columns 'file'"),
        ("label,file\nt,a.jpg\n", {"picture": "nope"}, "no column 'nope'"),
        ("label,file\nt,a.jpg\n", {"picture": "1"}, "not paths or bytes"),
        ("label,file\nt,a.jpg\n", {"encoding": "martian"}, "no such encoding"),
        ("label,file\nt,a.jpg\n", {"separator": "||"}, "one character parts the cells"),
    ],
)
def test_tables_that_cannot_be_used_say_what_to_do(
    folder: Path, store: pannier.Store, text: str, options: dict[str, str], says: str
) -> None:
    with pytest.raises((UsageError, SourceError)) as caught:
        store.pack(write_csv(folder / "t.csv", text), **options)
    assert says in str(caught.value)


def test_row_numbers_are_those_of_a_spreadsheet(tmp_path: Path, store: pannier.Store) -> None:
    for number in range(8):
        (tmp_path / f"{number}.png").write_bytes(encoded(draw(number), "png"))
    lines = ["file,label", "0.png,a", "1.png,b,c", "", "2.png,a", '"3.png","b', 'x"', ",a", "4.png,b,q", ",b", "6.png,b"]
    (tmp_path / "t.csv").write_text("\n".join(lines) + "\n\n")
    left = {item.key: item.kind for item in store.pack(tmp_path / "t.csv").left_out}
    assert left == {"row 3": "malformed", "row 7": "no picture", "row 8": "malformed", "row 9": "no picture"}
    rows = [{"file": "0.png", "label": "a"}, {"file": None, "label": "a"}, {"file": "2.png", "label": "b"}]
    (tmp_path / "t.jsonl").write_text("".join(json.dumps(row) + "\n" for row in rows))
    assert [item.key for item in store.pack(tmp_path / "t.jsonl").left_out] == ["row 2"]
    pd.DataFrame(rows).to_excel(tmp_path / "t.xlsx", index=False)
    assert [item.key for item in store.pack(tmp_path / "t.xlsx").left_out] == ["row 3"]


def test_options_for_tables_are_refused_for_folders(folder: Path, store: pannier.Store) -> None:
    with pytest.raises(UsageError, match="`picture` is for tables"):
        store.pack(folder, picture="x")
    with pytest.raises(UsageError, match="int is no source"):
        store.pack(7)


def test_a_table_is_surveyed_and_previewed_by_hand(folder: Path, tmp_path: Path, run: Callable[..., Any]) -> None:
    table = make(folder, "csv")
    assert json.loads(run("survey", table, "--json").out)["pictures"] == 4
    seen = json.loads(run("pack", table, tmp_path / "s.store", "--where", "loom < 4", "--preview", "--json").out)
    assert [row["key"] for row in seen["first"]] == ["a.jpg", "b.jpg", "sub/c.jpg"]


def test_a_picture_without_a_name_keeps_its_label_however_a_table_is_sorted_and_filled(store: pannier.Store) -> None:
    pictures = [encoded(draw(i)) for i in range(40)]
    labels = {sha256(picture).hexdigest(): ("twill", "satin", "plain")[i % 3] for i, picture in enumerate(pictures)}
    rows = [{"picture": picture, "label": labels[sha256(picture).hexdigest()]} for picture in pictures]
    gaps = [*rows[:10], {"picture": None, "label": "satin"}, *rows[12:25], {"picture": None, "label": "twill"}, *rows[26:]]
    store.pack(gaps)
    filled = store.pack(rows)
    assert (filled.added, filled.changed, filled.conflicts) == (3, 0, [])
    for order in (rows[::-1], random.Random(3).sample(rows, 40)):
        assert not store.pack(order).is_new
    snapshot = store.snapshot()
    assert {record.sha256: record.label for record in snapshot} == labels


def test_equal_pictures_without_names_are_counted(store: pannier.Store) -> None:
    picture, other = encoded(draw(1)), encoded(draw(2))
    snapshot = store.pack([{"picture": each, "label": "twill"} for each in (picture, other, picture)]).snapshot
    key = sha256(picture).hexdigest()[:20]
    assert {record.key for record in snapshot} == {key, f"{key}-2", sha256(other).hexdigest()[:20]}


def test_pictures_lie_in_text_tables_as_base64_or_as_values(tmp_path: Path, run: Callable[..., Any]) -> None:
    import base64

    pictures = [encoded(draw(i, 330, 440), "png") for i in range(6)]
    lines = ["label,photo"]
    for i, picture in enumerate(pictures):
        text = base64.b64encode(picture).decode()
        text = f'"data:image/png;base64,{text}"' if i % 3 == 1 else text
        text = '"' + "\n".join(text[at : at + 76] for at in range(0, len(text), 76)) + '"' if i % 3 == 2 else text
        lines.append(f"{('twill', 'rib')[i % 2]},{text}")
    assert max(map(len, lines)) > 1 << 17, "longer than the csv module takes"
    (tmp_path / "t.csv").write_text("\n".join([*lines, "twill,not a picture"]) + "\n")
    ended = run("pack", tmp_path / "t.csv", tmp_path / "s.store")
    assert ended.status == 0, ended.err
    found = {record.sha256: record.label for record in pannier.open(tmp_path / "s.store")}
    assert found == {sha256(each).hexdigest(): ("twill", "rib")[i % 2] for i, each in enumerate(pictures)}
    rng = np.random.default_rng(2)
    pixels = rng.integers(0, 256, (8, 5, 7), np.uint8)
    values = [" ".join(map(str, each.ravel().tolist())) for each in pixels]
    frame = pd.DataFrame({"weave": np.arange(8) % 3, "pixels": [*values[:7], values[7] + " 3"]})
    frame.to_csv(tmp_path / "p.csv", index=False)
    asked = run("pack", tmp_path / "p.csv", tmp_path / "p.store", "--label", "weave")
    assert "holds pixel values: say how they lie with --shape, as 48x48" in asked.err
    run("pack", tmp_path / "p.csv", tmp_path / "p.store", "--label", "weave", "--shape", "5x7")
    held = [record.picture()[..., 0] for record in pannier.open(tmp_path / "p.store")]
    assert {each.tobytes() for each in held} == {each.tobytes() for each in pixels[:7]}
    wide = pd.DataFrame(pixels.reshape(8, -1), columns=[f"pixel{i}" for i in range(35)])
    wide.insert(0, "label", np.arange(8) % 2)
    store = pannier.create(tmp_path / "w.store")
    first = store.pack(wide, shape="5x7")
    assert {r.picture()[..., 0].tobytes(): r.label for r in first.snapshot} == {
        each.tobytes(): str(i % 2) for i, each in enumerate(pixels)
    }
    assert not store.pack(wide.sample(frac=1, random_state=1), shape="5x7").is_new
    with pytest.raises(UsageError, match="that is 36 values, and there are 35 columns of whole numbers"):
        store.pack(wide, shape="6x6")
    with pytest.raises(UsageError, match="write height and width, as 48x48"):
        store.pack(wide, shape="48")


def test_which_column_pictures_are_read_from_is_a_question_where_two_could_be(tmp_path: Path) -> None:
    (tmp_path / "a.jpg").write_bytes(encoded(draw(1)))
    rows = [{"label": "twill", "photo": "a.jpg", "thumbnail": encoded(draw(2, 20, 30))}]
    store = pannier.create(tmp_path / "s.store")
    with pytest.raises(UsageError, match="several columns could hold the pictures: .*: 'thumbnail', 'photo'"):
        store.pack(rows, root=tmp_path)
    assert store.pack(rows, root=tmp_path, picture="photo").notes == ["pictures are read from photo"]


def test_a_table_is_surveyed_before_there_are_pictures(tmp_path: Path, run: Callable[..., Any]) -> None:
    rows = [
        {"swatch": f"{i % 20:03}.jpg", "weave": ("twill", "rib", "satin")[i % 3], "part": ("train", "val")[i % 2],
         "loom": i // 4, "raking": f"https://mill.example/{i}.jpg"}
        for i in range(40)
    ]  # fmt: skip
    pd.DataFrame(rows).to_csv(tmp_path / "t.csv", index=False)
    ended = run("survey", tmp_path / "t.csv")
    assert ended.status == 0, ended.err
    for line in (
        "--picture swatch: 40 of 40 rows, as '000.jpg'",
        "--link raking: 40 of 40 rows, as 'https://mill.example/0.jpg'",
        "--label weave: 3 classes of 13 to 14 rows (rib, satin, twill)",
        "--split-by part: 2 splits of 20 to 20 rows (train, val)",
        "--label loom: 10 classes of 4 to 4 rows",
    ):
        assert line in ended.out, ended.out
    assert "which packing does not fetch" in ended.out
    for i in range(20):
        (tmp_path / f"{i:03}.jpg").write_bytes(encoded(draw(i)))
    doubled = run("survey", tmp_path / "t.csv", "--picture", "swatch", "--label", "weave")
    assert doubled.status == 1, "pack refuses it"
    assert "000.jpg (rows 1, 21)" in doubled.out
    assert run("survey", tmp_path / "t.csv", "--picture", "nope").status == 2
    assert pannier.survey(pd.DataFrame(rows)[["weave", "loom"]]).rows == 40


def test_cells_that_a_spreadsheet_would_run_are_written_as_text_and_come_back(tmp_path: Path, store: pannier.Store) -> None:
    keys = ["=1+1", "@sum(a)", "+cmd", "-x.jpg", "'=quoted", "plain", "-5", "'plain"]
    labels = ['=HYPERLINK("http://x")', "'-a", "+b", "\tc", "@d", "e", "-1.5e3", "f"]
    rows = [
        {"id": key, "kind": kind, "file": encoded(draw(i))} for i, (key, kind) in enumerate(zip(keys, labels, strict=True))
    ]
    snapshot = store.pack(rows, key="id", label="kind", picture="file").snapshot
    write_label_table(snapshot, np.arange(len(snapshot)), tmp_path / "labels.csv")
    with open(tmp_path / "labels.csv", newline="") as file:
        cells = [cell for row in csv.reader(file) for cell in row]
    assert not [cell for cell in cells if re.match(r"[=@\t\r]|[+-][^\d.]", cell)], "a spreadsheet runs none of them"
    assert {"-5", "-1.5e3", "'=1+1", "''=quoted", "'plain"} <= {*cells}
    again = store.change(from_=tmp_path / "labels.csv")
    assert (again.unknown, again.is_new) == ([], False), "every key and label is read as it was written"
