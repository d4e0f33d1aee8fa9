"""Out and back: dockets, folders that a snapshot is laid out in, git, and the same batches on another machine."""

from __future__ import annotations

import errno
import hashlib
import os
import re
import shutil
import subprocess
import sys
from collections.abc import Callable
from functools import partial
from pathlib import Path
from typing import Any

import numpy as np
import pandas
import pytest
from PIL import Image

import pannier
from pannier.errors import DamageError, NotFoundError, PannierError, UsageError
from pannier.store.documents import canonical, digest
from tests.conftest import Ended, draw, encoded, fill

TREATMENT = pannier.Treatment(24, flip="horizontal", values="signed")


@pytest.fixture
def store(tmp_path: Path) -> pannier.Store:
    store = pannier.create(tmp_path / "s.store")
    store.pack(fill(tmp_path / "a", 10), shares="train=70,val=30", seed=2)
    return store


def digests(folder: Path) -> dict[str, str]:
    """SHA-256 of every picture by its path."""
    paths = [path for path in folder.rglob("*") if path.suffix in (".jpg", ".png")]
    return {path.relative_to(folder).as_posix(): hashlib.sha256(path.read_bytes()).hexdigest() for path in paths}


def first_batches(feed: pannier.Feed) -> list[bytes]:
    with feed:
        return [batch.images.tobytes() + repr(batch.keys).encode() for epoch in feed.epochs(2) for batch in epoch]


def git(folder: Path, *words: object) -> str:
    identity = ("-c", "user.name=weaver", "-c", "user.email=weaver@mill.example", "-c", "init.defaultBranch=main")
    done = subprocess.run(
        ["git", *identity, *map(str, words)], cwd=folder, check=True, capture_output=True, text=True, timeout=60
    )
    return done.stdout


def test_a_docket_gives_the_same_batches_or_says_what_differs(
    store: pannier.Store, tmp_path: Path, run: Callable[..., Ended]
) -> None:
    snapshot = store.snapshot()
    docket = snapshot.docket("train", TREATMENT, seed=7, batch_size=8, subset="50%", label_as="name")
    path = tmp_path / "weave.docket"
    path.write_text(docket.text())
    options = {"seed": 7, "batch_size": 8, "subset": "50%", "label_as": "name"}
    expected = first_batches(snapshot.feed("train", TREATMENT, **options))
    store.change(where="true", set="label=cloth", new_classes=True)
    assert first_batches(pannier.from_docket(path)) == expected
    assert first_batches(pannier.from_docket(path, workers=1, memory_limit="64MiB")) == expected
    shutil.move(store.path, tmp_path / "moved.store")
    with pytest.raises(NotFoundError, match="say where it is with `store`"):
        pannier.from_docket(path)
    assert first_batches(pannier.from_docket(path, store=tmp_path / "moved.store")) == expected
    fed = run("feed", "--docket", path, "--store", tmp_path / "moved.store")
    assert "train: 12 pictures" in fed.out
    with pytest.raises(UsageError, match="the docket says 7"):
        pannier.from_docket(path, store=tmp_path / "moved.store", seed=8)


@pytest.mark.parametrize(
    ("old", "new", "says"),
    [
        ('flip = "horizontal"', 'flip = "vertical"', "the treatment differs"),
        ("canary = ", 'canary = "00" #', "the decoder differs"),
        ("content_id = ", 'content_id = "' + "0" * 64 + '" #', "the content differs"),
        ('["plain", "satin"', '["satin", "plain"', "the class numbers differ"),
        ("[feed]", "lamp = 1\n[feed]", "has no field 'lamp'"),
        ("seed = 7", "sead = 7", "did you mean 'seed'"),
        ("seed = 7", 'seed = "7"', "feed.seed = '7'"),
        ("docket = 1", "docket = 2", "this Pannier reads 1"),
        ("snapshot = ", 'snapshot = "' + "f" * 64 + '" #', "bring it there with pannier copy"),
    ],
)
def test_a_docket_that_does_not_fit_says_what_differs(
    store: pannier.Store, tmp_path: Path, old: str, new: str, says: str
) -> None:
    text = store.snapshot().docket("all", TREATMENT, seed=7).text()
    assert old in text
    (tmp_path / "x.docket").write_text(text.replace(old, new, 1))
    with pytest.raises(PannierError, match=says):
        pannier.from_docket(tmp_path / "x.docket")


@pytest.mark.parametrize("hard_links", [False, True])
@pytest.mark.parametrize("layout", ["class", "split", "flat"])
def test_what_goes_out_comes_back_as_it_was(store: pannier.Store, tmp_path: Path, layout: str, hard_links: bool) -> None:
    store.change(where="key = 'twill/0001.jpg'", set="label=satin")
    snapshot = store.snapshot()
    snapshot.attach(files={"results/run.txt": Path(__file__)})
    folder = tmp_path / "out"
    result = snapshot.export(folder, layout=layout, hard_links=hard_links)
    assert (result.written, result.kept) == (30, 0)
    assert sorted(digests(folder).values()) == sorted(record.sha256 for record in snapshot)
    labels = pandas.read_csv(folder / "labels.csv").set_index("key")
    for record in snapshot:
        row = labels.loc[record.key]
        assert digests(folder)[row["file"]] == record.sha256
        assert (row["label"], row["split"], row["number"]) == (
            record.label, record.split, snapshot.class_numbers[record.label or ""],
        )  # fmt: skip
        if layout != "flat":
            assert row["file"].split("/")[-2] == record.label
    assert (folder / "attachments" / "results" / "run.txt").read_bytes() == Path(__file__).read_bytes()
    assert snapshot.export(folder, layout=layout, hard_links=hard_links).kept == 30
    if layout != "flat":
        assert not store.pack(folder, remove_missing=True).is_new
        assert pannier.compare(folder, snapshot).is_same
    assert pannier.verify(store) == []


def test_a_folder_gets_the_differences_and_keeps_what_was_made_by_hand(store: pannier.Store, tmp_path: Path) -> None:
    first, folder = store.snapshot(), tmp_path / "out"
    first.export(folder)
    second = store.change(where="key LIKE 'twill/000_.jpg' AND split = 'val'", set="label=satin").snapshot
    changed = sum(record.label != first[record.key].label for record in second)
    (folder / "notes.txt").write_text("let alone")
    result = second.export(folder)
    assert (result.written, result.removed, result.kept) == (changed, changed, 30 - changed)
    (folder / "plain" / "0001.jpg").write_bytes(encoded(draw(5)))
    (folder / "plain" / "0002.jpg").unlink()
    (folder / "plain" / "new.jpg").write_bytes(encoded(draw(6)))
    says = r"plain/0001\.jpg \(changed\), plain/new\.jpg \(new\), plain/0002\.jpg \(removed\)"
    with pytest.raises(PannierError, match=says):
        first.export(folder)
    taken = store.pack(folder, remove_missing=True, strand="by-hand")
    assert len(taken.snapshot) == 30
    assert taken.snapshot["plain/new.jpg"].label == "plain"
    undone = first.export(folder, overwrite=True)
    assert undone.written == changed + 2
    assert digests(folder) == {record.key: record.sha256 for record in first}
    assert (folder / "notes.txt").read_text() == "let alone"
    first.export(tmp_path / "part", where="label = 'twill'")
    with pytest.raises(UsageError, match="holds a part of a snapshot alone"):
        store.pack(tmp_path / "part", remove_missing=True)
    assert store.pack(tmp_path / "part", strand="by-hand").snapshot.id != first.id
    with pytest.raises(UsageError, match="not empty and was not exported into"):
        first.export(tmp_path / "a")


def test_a_colleague_restores_from_the_repository(store: pannier.Store, tmp_path: Path, run: Callable[..., Ended]) -> None:
    ours, theirs = tmp_path / "ours", tmp_path / "theirs"
    ours.mkdir()
    git(ours, "init", "-q")
    pictures = ours / "data" / "swatches.docket"
    exported = run("export", store.path, ours / "data" / "swatches", "--docket", pictures)
    assert exported.status == 0, exported.err
    assert "pannier restore" in exported.out
    assert (ours / "data" / "swatches" / ".gitignore").read_text() == "*\n"
    said = ("--treatment", "size=24,flip=horizontal,values=signed", "--seed", "7")
    assert run("docket", store.path, ours / "weave.docket", *said, "--split", "train").status == 0
    git(ours, "add", "-A")
    git(ours, "commit", "-q", "-m", "the pictures that were trained on")
    listed = git(ours, "ls-files").split()
    assert listed == ["data/swatches.docket", "weave.docket"]
    git(tmp_path, "clone", "-q", ours, theirs)
    store.change(where="label = 'twill'", set="label=satin")
    docket = theirs / "data" / "swatches.docket"
    restored = run("restore", docket)
    assert restored.status == 0, restored.err
    assert digests(theirs / "data" / "swatches") == digests(ours / "data" / "swatches")
    assert git(theirs, "status", "--porcelain") == ""
    assert run("compare", docket, theirs / "data" / "swatches", "--fail-on-change").status == 0
    (theirs / "data" / "swatches" / "twill" / "0001.jpg").write_bytes(encoded(draw(9)))
    shown = run("compare", docket, theirs / "data" / "swatches", "--fail-on-change")
    assert shown.status == 1
    assert "twill/0001.jpg" in shown.out
    assert run("restore", docket).status == 1
    assert run("restore", docket, "--overwrite").status == 0
    mine = pannier.from_docket(ours / "weave.docket", store=store.path, split="train")
    other = pannier.from_docket(theirs / "weave.docket", store=store.path, split="train", workers=1)
    assert first_batches(mine) == first_batches(other)


def test_an_export_that_was_ended_goes_on(store: pannier.Store, tmp_path: Path) -> None:
    folder = tmp_path / "out"

    class Ended(BaseException):
        pass

    def end(done: int, _: int) -> None:
        if done:
            raise Ended

    (store.path.parent / "b").mkdir()
    big = store.pack(fill(tmp_path / "b", 60), prefix="more").snapshot
    with pytest.raises(Ended):
        big.export(folder, progress=end, workers=1)
    there = len(digests(folder))
    assert 0 < there < len(big)
    assert big.export(folder).kept == there
    assert sorted(digests(folder).values()) == sorted(record.sha256 for record in big)


def test_prepared_pictures_and_arrays_go_out_too(store: pannier.Store, tmp_path: Path, run: Callable[..., Ended]) -> None:
    snapshot = store.snapshot()
    assert run("export", store.path, tmp_path / "small", "--size", "16x24", "--encode", "png", "--split", "val").status == 0
    files = sorted((tmp_path / "small").rglob("*.png"))
    assert len(files) == snapshot.splits["val"]
    with Image.open(files[0]) as picture:
        assert picture.size == (24, 16)
    done = run("export", store.path, tmp_path / "arrays", "--size", "16", "--treatment", "values=signed", "--arrays")
    assert done.status == 0, done.err
    images, labels, keys = (np.load(tmp_path / "arrays" / f"{name}.npy") for name in ("images", "labels", "keys"))
    treatment = pannier.Treatment(16, values="signed")
    assert images.shape == (30, 3, 16, 16)
    for i in (0, 13, 29):
        record = snapshot[keys[i]]
        assert np.array_equal(images[i], treatment(record.bytes()))
        assert labels[i] == snapshot.class_numbers[record.label or ""]
    assert run("export", store.path, "--table", tmp_path / "l.parquet", "--where", "label = 'twill'").status == 0
    assert list(pandas.read_parquet(tmp_path / "l.parquet")["label"]) == ["twill"] * 10
    assert run("export", store.path, tmp_path / "arrays", "--size", "16", "--arrays").status == 2


@pytest.mark.parametrize("words", [("--size", "16", "--arrays"), ("--size", "16", "--encode", "png"), ()])
def test_an_export_onto_a_full_disk_names_the_path_and_leaves_no_half(
    store: pannier.Store, tmp_path: Path, run: Callable[..., Ended], monkeypatch: pytest.MonkeyPatch, words: tuple[str, ...]
) -> None:
    calls = 0

    def full(real: Callable[..., Any], *arguments: Any) -> Any:
        nonlocal calls
        calls += 1
        if calls == 9 or real is allocate:
            raise OSError(errno.ENOSPC, os.strerror(errno.ENOSPC))
        return real(*arguments)

    allocate, folder = os.posix_fallocate, tmp_path / "out"
    monkeypatch.setattr(os, "posix_fallocate", partial(full, allocate))
    monkeypatch.setattr(os, "write", partial(full, os.write))
    ended = run("export", store.path, folder, *words)
    assert ended.status == 1
    assert "the disk is full while writing" in ended.err
    assert str(folder) in ended.err
    assert not list(tmp_path.rglob("*.new"))
    assert words == () or not folder.exists()
    monkeypatch.undo()
    assert run("export", store.path, folder, *words).status == 0
    assert len(list(folder.rglob("*.png" if "png" in words else "*.jpg"))) == (
        0 if "--arrays" in words else 30 if words else 27
    )


@pytest.mark.parametrize("name", ["pandas", "Polars", "DuckDB"])
def test_everything_opens_elsewhere_by_the_recipes_in_the_format_page(tmp_path: Path, name: str) -> None:
    store = pannier.create(tmp_path / "s.store")
    store.pack(fill(tmp_path / "a", 40))
    snapshot = store.change(where="key = 'twill/0001.jpg'", set="label=satin").snapshot
    snapshot = store.change(where="key = 'plain/0002.jpg'", remove=True).snapshot
    assert snapshot.manifest.delta_file is not None
    page = (Path(__file__).parent.parent / "docs" / "format.md").read_text()
    recipe = page.split("## Recipes")[1].split(f"\n{name}:\n\n```python\n")[1].split("```")[0]
    program = f"STORE = {str(store.path)!r}\n{recipe}"
    done = subprocess.run([sys.executable, "-W", "ignore", "-c", program], capture_output=True, text=True, check=False)
    assert done.returncode == 0, done.stderr
    counted = dict(re.findall(r"\b(plain|satin|twill)\W+(\d+)", done.stdout))
    assert counted == {"plain": "39", "satin": "41", "twill": "39"}


def test_no_key_leads_out_of_the_folder(tmp_path: Path) -> None:
    (tmp_path / "pictures").mkdir()
    (tmp_path / "rows").mkdir()
    (tmp_path / "pictures" / "a.jpg").write_bytes(encoded(draw(1)))
    table = tmp_path / "rows" / "rows.csv"
    table.write_text("file,weave\n../pictures/a.jpg,twill\n")
    snapshot = pannier.create(tmp_path / "s.store").pack(table, label="weave").snapshot
    for layout in ("class", "flat"):
        snapshot.export(tmp_path / "out" / layout, layout=layout)
        found = list((tmp_path / "out").rglob("*.jpg"))
        assert all((tmp_path / "out") in path.resolve().parents for path in found)
    assert len(found) == 2
    assert len(list(tmp_path.rglob("*.jpg"))) == 3


@pytest.mark.parametrize("name", ["../outside.txt", "{folder}/outside.txt", "a/../../outside.txt"])
def test_a_strangers_store_writes_nowhere_but_where_it_is_told(own: pannier.Snapshot, tmp_path: Path, name: str) -> None:
    name = name.format(folder=tmp_path)
    content = b"from a stranger"
    sha256 = hashlib.sha256(content).hexdigest()
    document = own.document | {"attachments": [{"name": name, "sha256": sha256, "byte_count": len(content)}]}
    made = canonical(document)
    own.store.path.joinpath("files").mkdir()
    own.store.path.joinpath("files", sha256).write_bytes(content)
    snapshot_id = digest(made)
    own.store.path.joinpath("snapshots", f"{snapshot_id}.json").write_bytes(made)
    strange = own.store.snapshot(snapshot_id)
    docket = tmp_path / "x.docket"
    docket.write_text(strange.docket("all", store=str(own.store.path)).text())
    for bring in (lambda: strange.export(tmp_path / "out"), lambda: pannier.restore(docket, tmp_path / "out")):
        with pytest.raises(DamageError, match="leads elsewhere"):
            bring()
    assert not list(tmp_path.rglob("outside.txt"))
    with pytest.raises(DamageError, match="leads elsewhere"):
        own.store.storage.read("../../etc/hostname")
