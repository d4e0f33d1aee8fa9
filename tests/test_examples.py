"""Every example runs, on data as its docstring asks for, and says what it promises."""

from __future__ import annotations

import ast
import shutil
import subprocess
import sys
import tomllib
from pathlib import Path

import numpy as np
import pyarrow as pa
import pytest
from pyarrow import parquet

import pannier
from pannier.demo.mill import mill_of, serving
from pannier.sources.several import SourceEntry
from tests.conftest import draw, encoded, fill

EXAMPLES = Path(__file__).parent.parent / "examples"


def example(name: str, *arguments: object) -> str:
    command = [sys.executable, EXAMPLES / name, *map(str, arguments)]
    done = subprocess.run(command, capture_output=True, text=True, check=False, timeout=300)
    assert done.returncode == 0, done.stderr
    return done.stdout


def test_class_folders(archive: Path, tmp_path: Path) -> None:
    said = example("folder_to_batches.py", archive, tmp_path / "s.store")
    assert "60 usable pictures of 3 classes" in said
    assert "(9, 3, 96, 96) float32" in said


def test_split_folders(tmp_path: Path) -> None:
    fill(tmp_path / "season" / "train", 10, ("plain", "herringbone"))
    fill(tmp_path / "season" / "val", 4, ("plain", "herringbon"), first=50)
    said = example("split_folders.py", tmp_path / "season", tmp_path / "s.store")
    assert "val has no 'herringbone' (but 'herringbon')" in said
    assert "{'train': 16, 'val': 8, 'test': 4} dealt with seed 7" in said
    assert "frozen: ('test',)" in said


def test_names_that_carry_labels(tmp_path: Path) -> None:
    heap = tmp_path / "heap"
    heap.mkdir()
    for i in range(30):
        (heap / f"{('twill', 'satin')[i % 2]}_loom{i // 6}_{i:04}.jpg").write_bytes(encoded(draw(i)))
    (heap / "nameless.jpg").write_bytes(encoded(draw(99)))
    said = example("names_that_carry_labels.py", heap, tmp_path / "s.store")
    assert "30 records, 2 classes" in said
    assert "left out: nameless.jpg (left out by the condition number IS NOT NULL)" in said
    assert "{'group': 'satin0', 'loom': 0}" in said


def test_table_with_rules(tmp_path: Path) -> None:
    fill(tmp_path / "archive", 9, ("twill", "satin"))
    rows = [
        f"{weave} ,{i:04},{15 + 2 * i},{15 + 2 * i + (i == 3)},{'' if i == 5 else 'raw'},{i % 4}"
        for weave in ("twill", "satin")
        for i in range(10)
        if i != 7
    ]
    (tmp_path / "register.csv").write_text("weave,number,warp_per_cm,weft_per_cm,finish, loom\n" + "\n".join(rows))
    said = example("table_with_rules.py", tmp_path / "register.csv", tmp_path / "s.store")
    assert "16 of 18 rows are left by warp_per_cm = weft_per_cm" in said
    assert "14 records, 2 classes" in said or "12 records, 2 classes" in said
    assert "'missing': 'archive/satin/0009.jpg'" in said
    assert "{'finish': 'raw', 'loom': 0}" in said


def test_links(tmp_path: Path) -> None:
    archive = fill(tmp_path / "archive", 12, ("twill", "satin"))
    with serving(mill_of(archive)) as mill:
        rows = [
            f"{weave}-{i:04}, {weave} ,{'wool' if i % 2 else ''},raw,{i % 5},{15 + i},{15 + i + i % 3},{link}"
            for weave in ("twill", "satin")
            for i in range(13)
            for link in [f"{mill}/swatches/{weave}-{i:04}-day.jpg"]
        ]
        header = "swatch,weave ,fiber,finish,loom,warp_per_cm,weft_per_cm,daylight\n"
        (tmp_path / "register.csv").write_text(header + "\n".join(rows))
        said = example("links.py", tmp_path / "register.csv", tmp_path / "day", tmp_path / "s.store")
    assert "16 pictures came, 0 were there, 2 did not come" in said
    assert "HTTP 404" in said
    assert "16 records, 2 classes, {'train': 12, 'val': 4}" in said


def test_bytes_in_a_table(tmp_path: Path) -> None:
    pictures = [{"bytes": encoded(draw(i)), "path": f"{i:03}.jpg"} for i in range(20)]
    table = pa.table({"image": pictures, "weave": [("twill", "basket")[i % 2] for i in range(20)]})
    parquet.write_table(table, tmp_path / "t.parquet")
    said = example("bytes_in_a_table.py", tmp_path / "t.parquet", tmp_path / "s.store")
    assert "20 records, 2 classes, {'train': 16, 'val': 4}" in said
    assert "basket {'checked_by': 'the weaver'}" in said


def test_arrays(tmp_path: Path) -> None:
    rng = np.random.default_rng(0)
    numbers = np.arange(40) % 4
    pictures = rng.integers(0, 256, (40, 12, 12, 3), np.uint8)
    np.savez(tmp_path / "d.npz", x_train=pictures[:32], y_train=numbers[:32], x_test=pictures[32:], y_test=numbers[32:])
    (tmp_path / "names.csv").write_text("y,weave\n0,plain\n1,twill\n2,satin\n3,rib\n")
    said = example("arrays.py", tmp_path / "d.npz", tmp_path / "names.csv", tmp_path / "s.store")
    assert "40 records, 4 classes, {'train': 32, 'test': 8}" in said
    assert "the same pixels: True" in said
    assert said.count("(8, 3, 16, 16)") == 2


@pytest.mark.parametrize("path", sorted(EXAMPLES.glob("*.toml")))
def test_lists_of_sources_are_as_the_reader_wants_them(path: Path) -> None:
    for entry in tomllib.loads(path.read_text())["source"]:
        SourceEntry(**entry)


def test_which_pictures_did_that_model_see(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.chdir(tmp_path)
    fill(tmp_path / "archive", 12)
    fill(tmp_path / "season", 4, first=60)
    paths = (tmp_path / "archive", tmp_path / "season", tmp_path / "s.store", tmp_path / "weave.docket")
    said = example("which_pictures_did_that_model_see.py", *paths)
    assert "'added': 12" in said
    assert "['spring'] {'accuracy': 0.5, 'epochs': 1}" in said
    assert "the same batches: True" in said
    assert "the model beside them: ['results/model.npy']" in said


def test_misses(archive: Path, tmp_path: Path) -> None:
    pannier.create(tmp_path / "s.store").pack(archive, shares="train=70,val=30")
    said = example("misses.py", tmp_path / "s.store", tmp_path / "misses.png")
    assert "predicted" in said
    assert "misses to train on again, in 1 batches" in said
    assert (tmp_path / "misses.png").exists()


def test_looking_and_preparing(packed: pannier.Snapshot, tmp_path: Path) -> None:
    store = shutil.copytree(packed.store.path, tmp_path / "s.store")
    said = example("look_before_you_train.py", store, tmp_path / "look.png")
    assert "augmented 3" in said
    assert "nothing looks wrong" in said
    assert (tmp_path / "look.png").exists()
    said = example("one_treatment.py", store, tmp_path / "cloth.toml")
    assert "60 pictures rendered, 0 were there" in said
    assert "test is fed without the random steps" in said
    assert "a new picture is prepared as the test split is" in said
    said = example("gray_small_one_hot.py", store)
    assert "(42, 28, 28, 1) float32 -1.0 1.0" in said
    assert "(42, 3) classes: plain, satin, twill" in said


@pytest.mark.parametrize("path", sorted((EXAMPLES / "treatments").glob("*.toml")))
def test_treatments_to_copy_are_as_the_reader_wants_them(path: Path) -> None:
    treatment = pannier.Treatment.from_file(path)
    assert treatment(draw(3, 70, 90)).shape == treatment.shape
    assert "array" in treatment.explain()


def test_stopped_and_gone_on(own: pannier.Snapshot, tmp_path: Path) -> None:
    said = [example("stopped_and_gone_on.py", own.store.path, tmp_path / "checkpoint.json") for _ in range(2)]
    assert "at the beginning\nstopped after 7 batches" in said[0]
    assert "going on after 7 batches\nthe end: 12 batches" in said[1]
    with own.feed("train", pannier.Treatment(size=32, flip="horizontal", turn=10), batch_size=8, seed=5) as feed:
        means = [float(batch.images.mean()) for epoch in feed.epochs(2) for batch in epoch]
    assert f"mean {np.mean(means):.6f}" in said[1]


def test_four_parts(own: pannier.Snapshot) -> None:
    assert "[12, 12, 12, 12] pictures, 42 of 42 records; 6 twice" in example("four_parts.py", own.store.path)


def test_a_bucket_and_workers(archive: Path) -> None:
    pytest.importorskip("obstore", reason="buckets: pip install obstore")
    said = example("a_bucket_and_workers.py", archive)
    assert "60 records of 3 classes in s3://cloth/swatches.store" in said
    assert "[23, 22] pictures fed to 2 machines, 45 in train" in said
    assert "copied near, the same content: True; 0 damaged" in said


def test_balanced_classes(own: pannier.Snapshot) -> None:
    few = own.store.change(where="label = 'twill' AND split = 'train' AND key > 'twill/0004'", remove=True).snapshot
    said = example("balanced_classes.py", few.store.path)
    told = [ast.literal_eval(line.partition(": ")[2]) for line in said.splitlines()]
    assert max(told[0].values()) > 2 * min(told[0].values())
    assert max(told[1].values()) - min(told[1].values()) <= 1
    assert sum(told[1].values()) == few.splits["train"]
    assert told[2]["twill"] == max(told[2].values()) > 1


def test_train_and_validate(archive: Path) -> None:
    said = example("train_and_validate.py", archive)
    assert len(said.splitlines()) == 3
    assert " in val are nearest to their class" in said
