"""From one delivery to the next: what a source says anew, what was corrected here, and what becomes of both."""

from __future__ import annotations

import json
import shlex
import shutil
import tomllib
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pandas
import pytest
from PIL import Image

import pannier
from pannier.errors import SourceError, UsageError
from pannier.hashing import text_hash
from tests.conftest import draw, encoded, fill


@pytest.fixture
def store(tmp_path: Path) -> pannier.Store:
    return pannier.create(tmp_path / "s.store")


@pytest.fixture
def folder(tmp_path: Path) -> Path:
    for i, name in enumerate("abcd"):
        (tmp_path / f"{name}.jpg").write_bytes(encoded(draw(i, 120, 160), quality=95))
    return tmp_path


def said(store: pannier.Store, folder: Path, **how: Any) -> pannier.PackResult:
    """Packs a table of those pictures with those labels."""
    relabel = how.pop("relabel", None)
    table = [{"photo": f"{name}.jpg", "label": label} for name, label in how.items()]
    return store.pack(table, picture="photo", root=folder, relabel=relabel)


def labels_of(store: pannier.Store) -> dict[str, str | None]:
    return {Path(record.key).stem: record.label for record in store.snapshot()}


def test_the_one_who_changed_a_label_alone_has_it(folder: Path, store: pannier.Store) -> None:
    said(store, folder, a="twill", b="twill", c="twill", d="twill")
    store.change(where="key IN ('b.jpg', 'c.jpg')", set="label=satin", new_classes=True)
    done = said(store, folder, a="rib", b="twill", c="satin", d="twill")
    assert (done.relabelled, done.conflicts) == (1, [])
    assert labels_of(store) == {"a": "rib", "b": "satin", "c": "satin", "d": "twill"}
    corrected = {record.key: record.source_said for record in store.snapshot()}
    assert corrected == {"a.jpg": {}, "b.jpg": {"label": "twill"}, "c.jpg": {}, "d.jpg": {}}, "c is as the source has it"


def test_what_both_have_changed_is_a_conflict_until_it_is_decided(
    folder: Path, store: pannier.Store, run: Callable[..., Any]
) -> None:
    said(store, folder, a="twill", b="twill")
    store.change(where="key = 'a.jpg'", set="label=satin", new_classes=True)
    for _ in range(2):  # as often as it is asked, until it is decided
        (conflict,) = said(store, folder, a="rib", b="twill").conflicts
        assert conflict == ("a.jpg", "label", "twill", "rib", "satin")
        assert labels_of(store)["a"] == "satin"
    table = folder / "t.csv"
    table.write_text("photo,label\na.jpg,rib\nb.jpg,twill\n")
    ended = run("pack", table, store.path, "--picture", "photo", "--figure", folder / "conflicts.png")
    assert "a.jpg  label   twill        rib            satin" in ended.out
    assert (folder / "conflicts.png").stat().st_size > 5000
    assert "a.jpg  label   twill        rib            satin" in run("pack", table, store.path, "--preview").out
    assert json.loads(run("pack", table, store.path, "--picture", "photo", "--json").out)["conflicts"][0]["here"] == "satin"
    assert said(store, folder, a="rib", b="twill", relabel="store").conflicts == []
    assert labels_of(store)["a"] == "satin"
    assert said(store, folder, a="rib", b="twill").conflicts == [], "it was decided"
    assert len(said(store, folder, a="plain", b="twill").conflicts) == 1, "said anew, asked anew"
    said(store, folder, a="plain", b="twill", relabel="source")
    assert labels_of(store)["a"] == "plain"
    assert store.snapshot()["a.jpg"].source_said == {}
    with pytest.raises(UsageError, match="relabel = 'mine': must be 'source' or 'store'"):
        said(store, folder, a="rib", relabel="mine")


def test_splits_and_side_columns_go_the_same_three_ways(folder: Path, store: pannier.Store) -> None:
    def deliver(**values: tuple[str, int]) -> pannier.PackResult:
        table = [{"photo": f"{name}.jpg", "label": "twill", "part": part, "loom": n} for name, (part, n) in values.items()]
        return store.pack(table, picture="photo", root=folder, split_by="part", columns="loom")

    deliver(a=("train", 1), b=("train", 1), c=("train", 1), d=("test", 1))
    store.change(where="key IN ('b.jpg', 'c.jpg')", set={"split": "test", "loom": 7})
    done = deliver(a=("test", 2), b=("train", 1), c=("val", 3), d=("test", 1))
    found = {record.key: (record.split, record.side["loom"]) for record in done.snapshot}
    assert found == {"a.jpg": ("test", 2), "b.jpg": ("test", 7), "c.jpg": ("test", 7), "d.jpg": ("test", 1)}
    assert [each[:2] for each in done.conflicts] == [("c.jpg", "loom"), ("c.jpg", "split")]
    assert done.resplit == 1


def test_another_picture_is_the_sources_and_one_saved_anew_keeps_its_correction(folder: Path, store: pannier.Store) -> None:
    said(store, folder, a="twill", b="twill")
    store.change(where="true", set="label=satin", new_classes=True)
    (folder / "a.jpg").write_bytes(encoded(draw(77, 120, 160)))
    with Image.open(folder / "b.jpg") as image:
        image.load()
        image.save(folder / "b.jpg", quality=80)
    done = said(store, folder, a="twill", b="twill")
    assert (done.changed, done.reencoded) == (2, 1)
    assert labels_of(store) == {"a": "twill", "b": "satin"}


def test_what_is_renamed_stays_renamed_and_what_is_set_back_is_corrected_no_more(
    tmp_path: Path, store: pannier.Store
) -> None:
    folder = fill(tmp_path / "a", 4)
    store.pack(folder)
    store.change(rename="twill=serge")
    assert not store.pack(folder).is_new
    assert {record.label for record in store.snapshot()} == {"plain", "satin", "serge"}
    store.change(rename="serge=twill")
    assert not any(record.source_said for record in store.snapshot())
    assert pannier.verify(store) == []


@pytest.mark.parametrize("ending", ["csv", "parquet"])
def test_a_table_that_comes_back_as_it_went_changes_nothing(tmp_path: Path, ending: str, run: Callable[..., Any]) -> None:
    store = pannier.create(tmp_path / "s.store")
    rule = "CAST(bytes AS DOUBLE) / 7 as share, bytes > 900 as large, TIMESTAMP '2024-05-01 10:00:00' as taken, stem"
    store.pack(fill(tmp_path / "a", 6), columns=rule, shares="train=70,val=30", seed=1)
    store.change(where="label = 'twill' AND key LIKE '%1.jpg'", set={"label": "satin", "stem": "007"})
    table = tmp_path / f"t.{ending}"
    run("export", store.path, "--table", table)
    back = store.change(from_=table)
    assert not back.is_new
    assert "number" in back.not_read
    assert not store.change(from_=store.snapshot().table()).is_new
    frame = store.snapshot().frame()
    frame.loc[frame.key == "plain/0001.jpg", "label"] = "satin"
    edited = store.change(from_=frame)
    assert edited.changes == [["relabelled", "satin", edited.snapshot["plain/0001.jpg"].split, 1]]


def test_corrections_are_fitted_or_refused(folder: Path, store: pannier.Store) -> None:
    table = [{"photo": f"{name}.jpg", "label": label, "loom": n} for name, label, n in (("a", "cup", 1), ("b", "mug", 2))]
    store.pack(table, picture="photo", root=folder, columns="loom, CAST(loom AS TEXT) as code")
    with pytest.raises(
        UsageError, match="'Cups' is no class yet; there is 'cup', 'mug'|'Cups' is no class yet; did you mean"
    ):
        store.change(from_=[{"key": "a.jpg", "label": "Cups"}])
    assert store.change(from_=[{"key": "a.jpg", "label": "Cups"}], new_classes=True).snapshot["a.jpg"].label == "Cups"
    with pytest.raises(UsageError, match="loom = 'many' of 'b.jpg' is no int64, which that column holds"):
        store.change(from_=[{"key": "a.jpg", "loom": "3"}, {"key": "b.jpg", "loom": "many"}])
    named = pandas.DataFrame(
        {"file name": ["a.jpg", "b.jpg"], "loom": ["8", "n/a"], "code": [5, 6], "label": ["-", " mug "]}
    )
    done = store.change(from_=pandas.DataFrame(named), key_column="file name", null="n/a,-").snapshot
    assert [(record.side["loom"], record.side["code"], record.label) for record in done] == [
        (8, "5", "Cups"),
        (2, "6", "mug"),
    ]


def test_tokens_that_mean_nothing_are_null_wherever_a_table_is_read(folder: Path, store: pannier.Store) -> None:
    (folder / "t.csv").write_text("photo;label;loom;part\na.jpg; n/a ;7;train\nb.jpg;twill;-;NULL\nc.jpg;rib;9; train \n")
    done = store.pack(folder / "t.csv", null="NULL,n/a,-", columns="loom", split_by="part", unlabeled="keep").snapshot
    assert [(each.label, each.split, each.side["loom"]) for each in done] == [
        *((None, "train", 7), ("twill", None, None), ("rib", "train", 9)),
    ]
    assert done.manifest.side_type("loom") == "int64"


@pytest.mark.parametrize("name", ["a,b", "a=b", "x@y", "two\nlines"])
def test_a_split_that_could_not_be_named_is_refused_wherever_it_comes_from(
    folder: Path, store: pannier.Store, name: str
) -> None:
    table = [{"photo": "a.jpg", "label": "twill", "part": name}]
    with pytest.raises(UsageError, match="is no name for a split"):
        store.pack(table, picture="photo", root=folder, split_by="part")
    said(store, folder, a="twill")
    for how in ({"set": {"split": name}}, {"from_": [{"key": "a.jpg", "split": name}]}):
        with pytest.raises(UsageError, match="is no name for a split"):
            store.change(**how)


def test_a_source_packed_again_is_packed_as_before(tmp_path: Path, store: pannier.Store, run: Callable[..., Any]) -> None:
    folder = fill(tmp_path / "a", 4)
    how: dict[str, Any] = {"rename": "twill=serge", "encode": "png", "exclude": "satin/", "columns": ["bytes", "stem"]}
    store.pack(folder, **how, note="first")
    again = store.pack(folder)
    assert (again.is_new, again.otherwise) == (False, [])
    assert again.recipe == {"source": [str(folder)], **how, "rename": {"twill": "serge"}, "exclude": "satin/"}
    fill(folder, 1, first=50)
    assert {record.format for record in store.pack(folder).snapshot} == {"png"}
    otherwise = store.pack(folder, rename="twill=drill", encode="webp:80").otherwise
    assert otherwise == [("rename", {"twill": "serge"}, {"twill": "drill"}), ("encode", "png", "webp:80")]
    assert store.snapshot().recipes[0]["rename"] == {"twill": "drill"}
    ended = run("pack", folder, store.path, "--rename", "twill=serge")
    assert "--rename twill=serge: it was twill=drill when this source was packed before." in ended.out
    assert {record.label for record in store.pack(folder, forget=True).snapshot} == {"plain", "satin", "twill"}
    assert store.snapshot().recipes == [{"source": [str(folder)]}]


def test_other_shares_than_before_are_said_back_and_shown(
    tmp_path: Path, store: pannier.Store, run: Callable[..., Any]
) -> None:
    folder = fill(tmp_path / "a", 4)
    store.pack(folder, shares="train=75,val=25", seed=3, near=2)
    fill(folder, 2, first=50)
    ended = run("pack", folder, store.path, "--shares", "train=2/3,val=1/3", "--seed", 4)
    assert "--shares train=2/3,val=1/3: it was train=75,val=25 when this source was packed before." in ended.out
    assert "--seed 4: it was 3" in ended.out
    assert "--shares ... deals all anew." in ended.out
    words = run("show", store.path, "--recipe").out.splitlines()[0]
    assert words.endswith("--shares train=2/3,val=1/3 --seed 4 --near 2"), words
    other = tmp_path / "o.store"
    assert run(*shlex.split(words.replace(str(store.path), str(other)))[1:]).status == 0
    assert pannier.open(other).dealing == store.snapshot().dealing


def test_a_recipe_is_shown_as_the_command_and_as_toml(
    tmp_path: Path, store: pannier.Store, run: Callable[..., Any], monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.chdir(tmp_path)
    fill(Path("a"), 4)
    store.pack("a/", where=["bytes > 0", "stem <> '0003'"], rename="twill=serge", columns="bytes as size", prefix="one")
    fill(Path("b"), 1, first=60)
    store.pack("b", label="parent")
    shown = run("show", store.path, "--recipe").out
    assert f"pannier pack a {store.path} --where 'bytes > 0' --where 'stem <> '" in shown
    other = pannier.create(tmp_path / "o.store")
    words = shlex.split(shown.splitlines()[0])
    words[words.index(str(store.path))] = str(other.path)
    assert run(*words[1:]).status == 0
    first = store.snapshot(store.snapshot().parents[0][:12])
    assert other.snapshot().content_id == first.content_id
    entries = tomllib.loads(shown.partition("\n\n")[2].partition("\npannier pack")[0])["source"]
    assert entries[0]["where"] == ["bytes > 0", "stem <> '0003'"]
    assert len(json.loads(run("show", store.path, "--recipe", "--json").out)) == 2


def moved(folder: Path, **to: str) -> None:
    """Moves files of class folders, all at once, so that they may swap: twill_1="satin/x.jpg" moves twill/1.jpg."""
    for name in to:
        (folder / f"{name.replace('_', '/')}.jpg").rename(folder / f"moving-{name}")
    for name, target in to.items():
        (folder / target).parent.mkdir(exist_ok=True)
        (folder / f"moving-{name}").rename(folder / target)


@pytest.fixture
def cloth(tmp_path: Path) -> Path:
    for c, name in enumerate(("plain", "satin", "twill")):
        (tmp_path / "cloth" / name).mkdir(parents=True)
        for i in range(8):
            (tmp_path / "cloth" / name / f"{i}.jpg").write_bytes(encoded(draw(100 * c + i)))
    return tmp_path / "cloth"


def test_a_picture_put_into_another_folder_is_relabelled_and_keeps_its_split(cloth: Path, store: pannier.Store) -> None:
    before = store.pack(cloth, shares="train=50,val=25,test=25", seed=4).snapshot
    splits = {record.sha256: record.split for record in before}
    moved(cloth, **{f"twill_{i}": f"satin/from-twill-{i}.jpg" for i in range(6)})
    done = store.pack(cloth)
    assert (done.moved, done.relabelled, done.added, done.removed) == (6, 6, 0, 0)
    assert {record.sha256: record.split for record in done.snapshot} == splits
    assert len(done.snapshot) == 24
    assert all(
        (record.label, record.key.split("/")[0]) == ("satin", "satin") for record in done.snapshot if "from" in record.key
    )
    assert pannier.verify(store) == []


def test_files_that_swap_names_swap_and_corrections_go_with_the_picture(cloth: Path, store: pannier.Store) -> None:
    store.pack(cloth, columns="stem")
    store.change(where="key IN ('twill/1.jpg', 'twill/2.jpg')", set={"label": "serge", "note": "by hand"}, new_classes=True)
    one, two = (store.snapshot()[f"twill/{i}.jpg"].sha256 for i in (1, 3))
    moved(cloth, twill_1="twill/3.jpg", twill_3="twill/1.jpg", twill_2="twill/new name.jpg")
    done = store.pack(cloth)
    found = {record.key: record for record in done.snapshot}
    assert (done.moved, done.conflicts) == (3, [])
    assert (found["twill/3.jpg"].sha256, found["twill/3.jpg"].label, found["twill/3.jpg"].side["note"]) == (
        one,
        "serge",
        "by hand",
    )
    assert (found["twill/1.jpg"].sha256, found["twill/1.jpg"].label, found["twill/1.jpg"].side["note"]) == (
        two,
        "twill",
        None,
    )
    assert found["twill/new name.jpg"].label == "serge"
    assert "twill/2.jpg" not in found


def test_a_key_whose_picture_moved_away_has_a_record_of_its_own(cloth: Path, store: pannier.Store) -> None:
    store.pack(cloth)
    store.change(where="key = 'plain/1.jpg'", set="label=lining", new_classes=True)
    moved(cloth, plain_1="plain/first.jpg")
    (cloth / "plain" / "1.jpg").write_bytes(encoded(draw(9999)))
    done = store.pack(cloth)
    assert (done.moved, done.added) == (1, 1)
    assert {key: done.snapshot[key].label for key in ("plain/1.jpg", "plain/first.jpg")} == {
        "plain/1.jpg": "plain",
        "plain/first.jpg": "lining",
    }


def test_another_source_moves_nothing(cloth: Path, tmp_path: Path, store: pannier.Store) -> None:
    store.pack(cloth)
    shutil.copytree(cloth / "twill", tmp_path / "other" / "drill")
    done = store.pack(tmp_path / "other")
    assert (done.moved, done.added, len(done.snapshot)) == (0, 8, 32)
    (tmp_path / "other" / "drill" / "0.jpg").rename(tmp_path / "other" / "drill" / "zero.jpg")
    assert store.pack(tmp_path / "other").moved == 0, "what the other source has is not gone"
    assert store.pack(cloth, remove_missing=True).removed == 9


def test_what_harms_training_is_said_when_it_comes_in(cloth: Path, store: pannier.Store, run: Callable[..., Any]) -> None:
    shutil.copy(cloth / "twill" / "1.jpg", cloth / "satin" / "again.jpg")
    with pytest.raises(SourceError, match=r"`strict`: nothing was written: satin/again.jpg \(satin\) = twill/1.jpg"):
        store.pack(cloth, strict=True)
    ended = run("pack", cloth, store.path)
    said = "Harms training: 1 picture under two labels: satin/again.jpg (satin) = twill/1.jpg (twill)"
    assert said in ended.out
    (cloth / "satins").mkdir()
    (cloth / "satins" / "1.jpg").write_bytes(encoded(draw(500)))
    shutil.copy(cloth / "plain" / "2.jpg", cloth / "satins" / "2.jpg")
    done = store.pack(cloth)
    assert [(each.kind, each.keys, each.labels) for each in done.doubts] == [
        ("alike classes", ("satins/1.jpg", "satins/2.jpg"), ("satin", "satins")),
        ("two labels", ("plain/2.jpg", "satins/2.jpg"), ("plain", "satins")),
    ]
    ended = run("change", store.path, "--where", "key = 'plain/3.jpg'", "--set", "label=Twill", "--new-classes")
    assert "Harms training: 1 pair of classes that may be one: 'twill' (8) and 'Twill' (1)" in ended.out
    assert store.change(where="label = 'satins'", set="label=satin").doubts[0].keys == ("plain/2.jpg", "satins/2.jpg")


@pytest.mark.parametrize(
    ("name", "old"),
    [
        ("Satn", "satin"),
        ("sotin", "satin"),
        ("satni", "satin"),
        ("TWILL", "twill"),
        ("ribs", "rib"),
        ("herringbne", "herringbone"),
    ]
    + [(name, None) for name in ("bib", "crib", "stain work", "plan", "loom-2")],
)
def test_a_new_class_a_letter_from_an_old_one_is_a_doubt(store: pannier.Store, name: str, old: str | None) -> None:
    pictures = {label: encoded(draw(seed)) for seed, label in enumerate(("satin", "twill", "rib", "herringbone", "loom-1"))}
    rows = [{"picture": picture, "label": label} for label, picture in pictures.items()]
    assert not store.pack(rows).doubts
    done = store.pack([*rows, {"picture": encoded(draw(9)), "label": name}])
    assert [each.labels for each in done.doubts] == ([(old, name)] if old else [])


def test_what_a_source_has_no_more_is_said_and_stays(cloth: Path, store: pannier.Store, run: Callable[..., Any]) -> None:
    store.pack(cloth)
    shutil.copy(cloth / "twill" / "1.jpg", cloth / "satin" / "again.jpg")
    (cloth / "twill" / "2.jpg").rename(cloth / "twill" / "two.jpg")
    for name in ("3", "4", "5", "6"):
        (cloth / "twill" / f"{name}.jpg").unlink()
    ended = run("pack", cloth, store.path, "--doubtful", "keep")
    assert "4 records are in this source no more, and stay: twill/" in ended.out
    assert "--remove-missing takes out what a source has no more" in ended.out
    assert "Harms training" not in ended.out
    assert len(store.snapshot()) == 25
    done = store.pack(cloth, remove_missing=True)
    assert (done.absent, done.removed, len(done.snapshot)) == (0, 4, 21)


@pytest.mark.parametrize(
    ("column", "cells", "way"),
    [
        ("file", ["twill/1.jpg", "satin/2.jpg", "plain/3.jpg", "plain/none.jpg"], "path"),
        ("where", ["./twill/1.png", "satin\\2", "plain/3.jpeg", "x/y"], "path without ending"),
        ("photo", ["u1.JPG", "u2.JPG", "u3.JPG", "u9.JPG"], "name"),
        ("id", ["u1", "u2.webp", "u3", "u9"], "stem"),
    ],
)
def test_labels_come_from_a_table_beside_the_pictures(
    tmp_path: Path, store: pannier.Store, run: Callable[..., Any], column: str, cells: list[str], way: str
) -> None:
    names = (
        ["twill/1.jpg", "satin/2.jpg", "plain/3.jpg", "plain/4.jpg"]
        if "path" in way
        else [f"h/u{i}.JPG" for i in range(1, 5)]
    )
    for i, name in enumerate(names):
        (tmp_path / "a" / name).parent.mkdir(parents=True, exist_ok=True)
        (tmp_path / "a" / name).write_bytes(encoded(draw(i)))
    table = pandas.DataFrame({column: cells, "remark": ["x", "x", "y", "y"], "label": ["cup", "mug", "n/a", "jug"]})
    table.to_csv(tmp_path / "labels.csv", index=False)
    done = store.pack(tmp_path / "a", labels=tmp_path / "labels.csv", null="n/a", columns="remark", unlabeled="keep")
    assert [(each.label, each.side["remark"]) for each in sorted(done.snapshot, key=lambda each: each.key[-5])] == [
        *(("cup", "x"), ("mug", "x"), (None, "y"), (None, None)),
    ]
    assert [item.kind for item in done.left_out] == ["missing"]
    ended = run("pack", tmp_path / "a", store.path, "--labels", tmp_path / "labels.csv", "--unlabeled", "keep")
    assert f"labels.csv: 3 of 4 rows fit a picture, {column} by its {way}" in ended.out
    assert run("survey", tmp_path / "a", "--labels", tmp_path / "labels.csv", "--quick").status in (0, 1)


def test_numbers_match_stems_with_leading_zeros_and_what_fits_nothing_is_refused(
    tmp_path: Path, store: pannier.Store
) -> None:
    for i in range(4):
        (tmp_path / "a").mkdir(exist_ok=True)
        (tmp_path / "a" / f"{i:05}.jpg").write_bytes(encoded(draw(i)))
    rows = [{"number": i, "label": f"class-{i % 2}"} for i in range(4)]
    assert {r.key: r.label for r in store.pack(tmp_path / "a", labels=rows).snapshot}["00003.jpg"] == "class-1"
    with pytest.raises(SourceError, match="no column tells which picture a row is for"):
        store.pack(tmp_path / "a", labels=[{"photo": "cloth", "label": "twill"}])


def test_what_harms_training_is_a_table_that_comes_back_put_right(tmp_path: Path, run: Callable[..., Any]) -> None:
    folder = fill(tmp_path / "a", 4)
    shutil.copy(folder / "plain" / "0000.jpg", folder / "twill" / "again.jpg")
    path, table = tmp_path / "s.store", tmp_path / "doubts.csv"
    ended = run("pack", folder, path, "--doubts", table)
    assert "Harms training: 1 picture under two labels" in ended.out
    frame = pandas.read_csv(table)
    assert frame[["key", "label"]].values.tolist() == [["plain/0000.jpg", "plain"], ["twill/again.jpg", "twill"]]
    frame["label"] = "plain"
    frame.to_csv(table, index=False)
    done = run("change", path, "--from", table)
    assert "1 record changed" in done.out
    assert "Not read, since they follow from the rest: doubt." in done.out
    assert pannier.open_store(path).snapshot()["twill/again.jpg"].label == "plain"
    assert pannier.open_store(path).snapshot()["twill/again.jpg"].side == {}


def test_doubtful_rows_are_left_out_or_kept_as_is_said(tmp_path: Path) -> None:
    folder = fill(tmp_path / "a", 4)
    shutil.copy(folder / "plain" / "0000.jpg", folder / "twill" / "again.jpg")
    left = pannier.create(tmp_path / "1").pack(folder, doubtful="leave-out")
    assert (len(left.snapshot), left.doubts) == (11, [])
    assert sorted(item.key for item in left.left_out) == ["plain/0000.jpg", "twill/again.jpg"]
    assert {item.kind for item in left.left_out} == {"doubtful"}
    kept = pannier.create(tmp_path / "2").pack(folder, doubtful="keep", strict=True)
    assert len(kept.snapshot) == 13
    fill(tmp_path / "b", 2, ("Twill",), first=50)
    later = kept.snapshot.store.pack(tmp_path / "b", doubtful="leave-out", unlabeled="keep", prefix="b")
    assert [item.reason for item in later.left_out] == ["'twill' (5) and 'Twill' (2)"] * 2


def test_of_two_class_names_that_may_be_one_the_rarer_is_suspicious(tmp_path: Path, run: Callable[..., Any]) -> None:
    folder = fill(tmp_path / "a", 12, ("plants", "stones"))
    fill(folder, 1, ("palnts",), first=80)
    heap = tmp_path / "heap"
    heap.mkdir()
    for path in folder.rglob("*.*"):
        label = {"palnts": "Plants"}.get(path.parent.name, path.parent.name)
        shutil.copy(path, heap / f"{label}_{path.name}")
    rows = [f"{path.name},{path.name.partition('_')[0]}" for path in sorted(heap.iterdir())]
    (tmp_path / "t.csv").write_text("\n".join(["file,kind", *rows]) + "\n")
    ways: list[tuple[Path, dict[str, Any]]] = [
        (folder, {}),
        (heap, {"label_pattern": "{label}_{number}"}),
        (tmp_path / "t.csv", {"root": heap, "picture": "file", "label": "kind"}),
    ]
    for number, (source, said) in enumerate(ways):
        done = pannier.create(tmp_path / f"{number}.store").pack(source, doubtful="leave-out", **said)
        assert sorted(done.snapshot.classes) == ["plants", "stones"], number
        assert [item.kind for item in done.left_out] == ["doubtful"]
    table = tmp_path / "doubts.csv"
    assert run("pack", folder, tmp_path / "s.store", "--doubts", table).status == 0
    assert pandas.read_csv(table)[["key", "label"]].values.tolist() == [["palnts/0080.jpg", "palnts"]]
    # the wrong name came first and is rarer than what comes now: nothing that comes is left out
    store = pannier.create(tmp_path / "wrong-first.store")
    store.pack(folder / "palnts", prefix="palnts", unlabeled="keep")
    store.change(set="label=palnts", all=True, new_classes=True)
    done = store.pack(folder, exclude="palnts/", doubtful="leave-out")
    assert [item.kind for item in done.left_out] == ["excluded"]
    assert len(done.snapshot) == 25
    assert [(each.labels, each.records) for each in done.doubts] == [(("plants", "palnts"), (12, 1))]
    # as many of each: asked, unless a third name tells
    tie = fill(tmp_path / "tie", 2, ("twil", "twill", "satin"))
    with pytest.raises(SourceError, match="classes 'twil' and 'twill' may be one and have 2 records each.*`rename`"):
        pannier.create(tmp_path / "tie.store").pack(tie, doubtful="leave-out")
    doubts = pannier.create(tmp_path / "tie2.store").pack(tie).doubts
    assert [(each.is_tie, len(each.keys)) for each in doubts] == [(True, 4)]
    fill(tie, 3, ("twills",), first=50)
    third = pannier.create(tmp_path / "3.store").pack(tie, doubtful="leave-out")
    assert [item.key[:6] for item in third.left_out] == ["twill/"] * 2


def test_other_kinds_of_pictures_and_empty_classes_are_called_what_they_are(tmp_path: Path, run: Callable[..., Any]) -> None:
    folder = fill(tmp_path / "a", 3)
    Image.new("RGB", (16, 16)).save(folder / "plain" / "mark.ico")
    (folder / "plain" / "cloth.psd").write_bytes(b"8BPS" + bytes(40))
    (folder / "plain" / "drawn.svg").write_text('<?xml version="1.0"?><svg/>')
    (folder / "rib" / "deep").mkdir(parents=True)
    for i in range(9):
        (folder / "plain" / f"{i}.txt.jpg").write_bytes(b"")
    findings = pannier.survey(folder)
    problems = {problem.kind: problem for problem in findings.problems}
    assert {each.rpartition(": ")[2].rstrip(")") for each in problems["unsupported"].examples} == {"ICO", "PSD", "SVG"}
    assert problems["empty folder"].examples == ["rib (no picture in it)"]
    assert problems["empty folder"].is_harmful
    assert len(problems["empty"].examples) == 9, "all of them"
    packed = pannier.create(tmp_path / "s.store").pack(folder)
    assert ("rib", "empty folder") in [item[:2] for item in packed.left_out]


def test_hidden_and_system_folders_are_no_classes_unless_it_is_said(tmp_path: Path) -> None:
    folder = fill(tmp_path / "a", 3)
    for name in (".ipynb_checkpoints", ".thumbs", "@eaDir", "__MACOSX"):
        fill(folder, 1, (name,), first=60)
    plain = pannier.create(tmp_path / "1").pack(folder)
    assert plain.snapshot.classes == ["plain", "satin", "twill"]
    assert sum(item.kind == "hidden" for item in plain.left_out) == 4
    taken = pannier.create(tmp_path / "2").pack(folder, hidden=True, doubtful="keep")
    assert len(taken.snapshot.classes) == 7


def test_a_row_with_an_empty_label_is_called_that(tmp_path: Path, folder: Path) -> None:
    table = [{"photo": "a.jpg", "label": "twill"}, {"photo": "b.jpg", "label": " "}]
    done = pannier.create(tmp_path / "1").pack(table, picture="photo", root=folder)
    assert [item.reason for item in done.left_out] == ["its label is empty"]


def test_all_leaks_are_told_at_once(tmp_path: Path, store: pannier.Store) -> None:
    for split in ("train", "val"):
        fill(tmp_path / "a" / split, 3, ("twill",))
    with pytest.raises(SourceError, match="3 leaks: .*0000.*0001.*0002"):
        store.pack(tmp_path / "a")


def test_a_snapshot_of_another_store_is_a_source(tmp_path: Path, run: Callable[..., Any]) -> None:
    theirs = pannier.create(tmp_path / "theirs.store")
    theirs.pack(fill(tmp_path / "a", 6), shares="train=70,val=30", seed=3)
    theirs.change(where="label = 'twill'", set={"loom": 7})
    theirs.tag("spring")
    theirs.change(where="label = 'plain'", remove=True)
    here = tmp_path / "here.store"
    ended = run("pack", f"{theirs.path}@spring", here)
    assert ended.status == 0, ended.err
    assert pannier.open(here).content_id == theirs.snapshot("spring").content_id
    assert pannier.open(here).recipes == [{"source": [f"{theirs.path}@spring"]}]
    assert not pannier.open_store(here).pack(f"{theirs.path}@spring").is_new
    both = pannier.create(tmp_path / "both.store").pack([f"{theirs.path}@spring", fill(tmp_path / "more", 2)]).snapshot
    named = theirs.path.stem
    assert {key.partition("/")[0] for key in (record.key for record in both)} == {named, "more"}
    for record in pannier.open(f"{theirs.path}@spring"):
        there = both[f"{named}/{record.key}"]
        assert (there.label, there.sha256, there.side) == (record.label, record.sha256, record.side)
    some = pannier.create(tmp_path / "3").pack(theirs.path, where="width > 0", label="'cloth'", prefix="theirs").snapshot
    assert (some.classes, len(some)) == (["cloth"], 12)
    assert some[0].key.startswith("theirs/")
    assert "--root is not for a snapshot" in run("pack", theirs.path, here, "--root", "x").err
    assert run("pack", f"{theirs.path}@sprng", here).status == 2
    assert pannier.verify(here) == []


def test_predictions_are_joined_by_key_name_or_content(tmp_path: Path, run: Callable[..., Any]) -> None:
    folder = tmp_path / "a"
    for i in range(12):
        name = ("plain", "satin", "twill")[i % 3]
        (folder / name).mkdir(parents=True, exist_ok=True)
        (folder / name / f"img_{i:02}.jpg").write_bytes(encoded(draw(i)))
    shutil.copy(folder / "plain" / "img_00.jpg", folder / "plain" / "again.jpg")
    store = pannier.create(tmp_path / "s.store")
    first = store.pack(folder).snapshot
    named = [record for record in first if "again" not in record.key]
    by_name = pandas.DataFrame({"image": [Path(r.key).stem for r in named], "predicted": [r.label for r in named]})
    by_name.loc[12] = ["img_99", "plain"]
    by_name.sample(frac=1, random_state=1).to_csv(tmp_path / "p.csv", index=False)
    done = run("change", store.path, "--from", tmp_path / "p.csv")
    assert "Records are told by image, by its stem: 12 of 13 rows fit one." in done.out
    assert "1 key of the table not found among the records: img_99" in done.out
    assert {record.side["predicted"] == record.label for record in store.snapshot() if "again" not in record.key} == {True}
    by_content = [{"sha256": record.sha256, "sure": 0.5 + number / 100} for number, record in enumerate(named)]
    told = store.change(from_=by_content)
    assert told.notes == ["records are told by sha256: 12 of 12 rows fit one"]
    sure = {record.key: record.side["sure"] for record in told.snapshot}
    assert sure["plain/again.jpg"] == sure["plain/img_00.jpg"], "the same picture"
    keyed = store.change(from_=[{"key": "img_01.jpg", "loom": 7}, {"key": "img_02.jpg", "loom": 8}])
    assert keyed.snapshot["satin/img_01.jpg"].side["loom"] == 7
    with pytest.raises(UsageError, match="it has no column 'key'"):
        store.change(from_=[{"who": "else", "loom": 3}])
    with pytest.raises(SourceError, match="no record has a key of the table: 'x.jpg'"):
        store.change(from_=[{"key": "x.jpg", "loom": 3}, {"key": "img_02.jpg", "loom": 3}])


def test_a_move_is_told_as_one_in_comparing_and_in_history(
    cloth: Path, store: pannier.Store, run: Callable[..., Any]
) -> None:
    first = store.pack(cloth, shares="train=70,val=30").snapshot
    moved(cloth, plain_2="satin/9.jpg", twill_1="twill/2.jpg", twill_2="twill/1.jpg")
    second = store.pack(cloth).snapshot
    found = pannier.compare(first, second)
    told = {kind: count for kind, count in found.counts.items() if count}
    assert told == {"moved": 3, "relabelled": 1}
    told = {each.key: (each.kind, each.key_before) for each in found.records()}
    assert told == {
        "satin/9.jpg": ("relabelled", "plain/2.jpg"),
        "twill/1.jpg": ("moved", "twill/2.jpg"),
        "twill/2.jpg": ("moved", "twill/1.jpg"),
    }
    assert "satin/9.jpg (was plain/2.jpg)  relabelled" in run("compare", f"{store.path}@{first.id}", store.path).out
    assert [step.what for step in store.history(key="satin/9.jpg")] == [["moved", "label"], ["came"]]
    assert "moved from plain/2.jpg, label plain -> satin" in run("history", store.path, "satin/9.jpg").out
    assert second.why("satin/9.jpg").since == first.id


def test_a_frozen_record_keeps_its_picture_and_takes_its_label(tmp_path: Path, run: Callable[..., Any]) -> None:
    """The same delivery corrects labels and saves files anew, or gives other pictures."""

    def delivery(labels: list[str], quality: int, drawn: int = 0) -> list[dict[str, Any]]:
        return [
            {"id": f"{i}.jpg", "kind": label, "shed": quality, "file": encoded(draw(i + drawn, 90, 90), quality=quality)}
            for i, label in enumerate(labels)
        ]

    how: dict[str, Any] = {"key": "id", "label": "kind", "picture": "file", "columns": "shed"}
    store = pannier.create(tmp_path / "s.store")
    usual = ["oak", "elm"] * 10
    before = store.pack(delivery(usual, 90), **how, shares="train=60,test=40", seed=1, freeze="test").snapshot
    frozen = sorted((record.key for record in before if record.split == "test"), key=lambda key: int(key[:-4]))
    other = next(record.key for record in before if record.split == "train")
    at, free = [int(key[:-4]) for key in frozen[:2]], int(other[:-4])
    labels = ["ash" if i in (*at, free) else label for i, label in enumerate(usual)]
    done = store.pack([row | {"shed": 90 if i not in at else 91} for i, row in enumerate(delivery(labels, 60))], **how)
    after = done.snapshot
    for key in frozen[:2]:
        assert (after[key].label, after[key].side["shed"]) == ("ash", 91), "label and columns come through"
        assert after[key].bytes() == before[key].bytes(), "the frozen picture stays"
    train = sum(record.split == "train" for record in before)
    assert (done.changed, done.reencoded, done.relabelled, done.unchanged) == (train, train, 3, 20 - train)
    step = store.history()[0]
    assert {kind: sum(row[3] for row in step.changes if row[0] == kind) for kind in ("changed", "relabelled")} == {
        "changed": train,
        "relabelled": 2,  # of the third its picture is told
    }
    # what was corrected here stays corrected, and is a conflict, though the source gives the frozen record another picture
    store.change(where=f"key = '{frozen[0]}'", set="label=fir", new_classes=True)
    third = delivery(["beech" if i == at[0] else label for i, label in enumerate(labels)], 60, drawn=500)
    done = store.pack(third, **how)
    assert [(each.key, each.column, each.in_source, each.here) for each in done.conflicts] == [
        (frozen[0], "label", "beech", "fir")
    ]
    assert done.snapshot[frozen[0]].label == "fir"
    assert store.pack(third, relabel="source", **how).snapshot[frozen[0]].label == "beech"
    assert done.snapshot[frozen[0]].bytes() == before[frozen[0]].bytes()
    assert pannier.verify(store) == []


def test_a_record_that_groups_tie_keeps_its_split_and_takes_its_label(tmp_path: Path) -> None:
    """A delivery that names groups corrects a label, too, of a record that cannot be dealt for its group."""

    def delivery(label: str, bolt: str) -> list[dict[str, Any]]:
        rows = [{"id": f"{i}.jpg", "kind": "oak", "bolt": f"b{i}", "file": encoded(draw(i, 40, 40))} for i in range(20)]
        rows[5] |= {"kind": label, "bolt": bolt}
        rows[6] |= {"bolt": bolt}
        return rows

    how: dict[str, Any] = {"key": "id", "label": "kind", "picture": "file", "seed": 1}
    fixed = {"split_by": "CASE WHEN id = '6.jpg' THEN 'test' END"}
    for options in ({"ties": "leave-out"}, {"freeze": "test"}):
        store = pannier.create(tmp_path / f"{next(iter(options))}.store")
        before = store.pack(delivery("oak", "b5"), **how, **fixed).snapshot
        assert before["5.jpg"].split is None
        done = store.pack(delivery("elm", "b"), **how, **fixed, **options, shares="train=80,val=20", group_by="bolt")
        assert [each.key for each in done.left_out] == ["5.jpg"], "it is told that it is not dealt"
        assert (done.snapshot["5.jpg"].label, done.snapshot["5.jpg"].split) == ("elm", None)
        assert done.snapshot["6.jpg"].split == "test"
        assert done.relabelled == 1


def test_pictures_that_moved_together_are_followed_in_the_order_of_their_keys(tmp_path: Path) -> None:
    """Copies of one picture under new names: each goes on with the record whose turn it is by the hash of its key."""
    store, same = pannier.create(tmp_path / "s.store"), encoded(draw(1))
    how: dict[str, Any] = {"key": "id", "label": "kind", "picture": "file", "remove_missing": True}
    old, new = ([f"{name}{number}.jpg" for number in range(6)] for name in ("old", "new"))
    store.pack([{"id": key, "kind": "oak", "file": same} for key in old], **how)
    store.change(from_=[{"key": key, "loom": number} for number, key in enumerate(old)])
    looms = {record.key: record.side["loom"] for record in store.snapshot()}
    after = store.pack([{"id": key, "kind": "oak", "file": same} for key in new], **how).snapshot
    by_turn = [sorted(keys, key=lambda key: (text_hash(key), key)) for keys in (old, new)]
    assert {record.key: record.side["loom"] for record in after} == {
        now: looms[before] for before, now in zip(*by_turn, strict=True)
    }
