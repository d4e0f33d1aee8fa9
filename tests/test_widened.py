"""Packing, widened: recoding, classes and their numbers, what is left out, mirroring, and reading nothing twice."""

from __future__ import annotations

import os
import shutil
import signal
import subprocess
import sys
import time
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
from PIL import Image

import pannier
from pannier.errors import UsageError
from pannier.images.facts import read_facts
from tests.conftest import Ended, draw, encoded, fill


def aged(folder: Path, seconds: int = 100) -> Path:
    """All files as if changed so long ago: younger ones are read again, to be sure."""
    then = time.time() - seconds
    for path in folder.rglob("*.*"):
        os.utime(path, (then, then))
    return folder


def opened_files(monkeypatch: pytest.MonkeyPatch, root: Path) -> set[str]:
    """The files below a folder that are opened from now on."""
    seen: set[str] = set()
    real = os.open

    def noted(path: object, *arguments: object, **options: object) -> int:
        if isinstance(path, bytes) and path.startswith(os.fsencode(root)):
            seen.add(os.fsdecode(path)[len(str(root)) + 1 :])
        return real(path, *arguments, **options)  # type: ignore[arg-type]

    monkeypatch.setattr(os, "open", noted)
    return seen


def test_a_second_pack_reads_only_what_changed(
    tmp_path: Path, store: pannier.Store, monkeypatch: pytest.MonkeyPatch
) -> None:
    folder = aged(fill(tmp_path / "a", 10))
    first = store.pack(folder)
    opened = opened_files(monkeypatch, folder)
    assert not store.pack(folder).is_new
    assert opened == set()
    changed = folder / "twill" / "0003.jpg"
    changed.write_bytes(encoded(draw(999)))
    (folder / "plain" / "0001.jpg").write_bytes((folder / "plain" / "0000.jpg").read_bytes())
    again = store.pack(folder)
    assert opened == {"twill/0003.jpg", "plain/0001.jpg"}
    assert again.changed == 2
    opened.clear()
    assert store.pack(folder, reread=True).unchanged == 30
    assert len(opened) == 30
    opened.clear()
    store.pack(folder, longest_side=20)
    assert len(opened) == 30, "another way of reading is another matter"
    assert first.snapshot["twill/0003.jpg"].sha256 != again.snapshot["twill/0003.jpg"].sha256
    assert pannier.verify(store) == []


def test_a_damaged_memory_of_what_was_read_is_found_and_does_no_harm(tmp_path: Path, store: pannier.Store) -> None:
    folder = aged(fill(tmp_path / "a", 5))
    store.pack(folder)
    (segment,) = (store.path / "seen").iterdir()
    content = bytearray(segment.read_bytes())
    content[len(content) // 2] ^= 1
    segment.write_bytes(content)
    (finding,) = pannier.verify(store)
    assert "seen/" in finding.file
    assert store.pack(folder).unchanged == 15


def test_an_interrupted_pack_goes_on_without_reading_again(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    folder = aged(fill(tmp_path / "a", 250))
    command = [sys.executable, "-m", "pannier", "pack", str(folder), str(tmp_path / "s.store"), "--shard-size", "50KiB"]
    process = subprocess.Popen([*command, "--workers", "1"], stderr=subprocess.PIPE)
    until = time.monotonic() + 60
    while time.monotonic() < until and len(list((tmp_path / "s.store" / "shards").glob("[!.]*"))) < 2:
        time.sleep(0.002)
        if process.poll() is not None:
            pytest.skip("it was done before it could be interrupted")
    process.send_signal(signal.SIGINT)
    _, said = process.communicate(timeout=60)
    if process.returncode == 0:
        pytest.skip("it was done before it could be interrupted")
    assert process.returncode == 130, said
    opened = opened_files(monkeypatch, folder)
    result = pannier.open_store(tmp_path / "s.store").pack(folder, shard_size=50 << 10)
    assert len(result.snapshot) == 750
    assert len(opened) < 750, "what was stored is not looked into again"
    assert not [finding for finding in pannier.verify(result.snapshot.store) if finding.is_damage]


def test_pictures_are_recoded_where_asked(tmp_path: Path, store: pannier.Store) -> None:
    folder = tmp_path / "a" / "twill"
    folder.mkdir(parents=True)
    exif = Image.Exif()
    exif[274] = 6
    large = draw(1, 300, 500)
    (folder / "large.jpg").write_bytes(encoded(large, exif=exif))
    (folder / "small.jpg").write_bytes(encoded(draw(2)))
    (folder / "gray.png").write_bytes(encoded(large[..., 0], "png"))
    image = Image.fromarray(large)
    image.putalpha(Image.fromarray(np.full((300, 500), 120, np.uint8)))
    image.save(folder / "clear.png")
    Image.fromarray(large).quantize(16).save(folder / "palette.gif")
    before = store.pack(tmp_path / "a").snapshot
    after = store.pack(tmp_path / "a", longest_side=200)
    assert after.changed == 4
    sizes = {record.key: (record.size, record.format) for record in after.snapshot}
    assert sizes["twill/large.jpg"] == ((200, 120), "jpeg")
    assert sizes["twill/small.jpg"] == ((60, 80), "jpeg")
    assert sizes["twill/gray.png"] == ((120, 200), "png")
    assert sizes["twill/palette.gif"] == ((120, 200), "png")
    assert after.snapshot["twill/small.jpg"].bytes() == before["twill/small.jpg"].bytes()
    assert after.snapshot["twill/clear.png"].mode == "rgb+alpha"
    upright = np.asarray(Image.fromarray(np.rot90(large, 3).copy()).resize((120, 200), Image.Resampling.LANCZOS), float)
    assert np.abs(after.snapshot["twill/large.jpg"].picture() - upright).mean() < 4
    for encode, kind in (("webp:70", "webp"), ("png", "png"), ("jpeg:60", "jpeg")):
        other = pannier.create(tmp_path / kind).pack(tmp_path / "a", encode=encode).snapshot
        assert {record.format for record in other} == {kind}
        assert not other.store.pack(tmp_path / "a", encode=encode).is_new
    for wrong in ("gif", "jpeg:0", "jpeg:200", "png:5", "webp:x"):
        with pytest.raises(UsageError, match="`encode`"):
            store.pack(tmp_path / "a", encode=wrong)
    assert read_facts(after.snapshot["twill/large.jpg"].bytes()).turn == 1


def test_classes_are_chosen_numbered_and_named(tmp_path: Path) -> None:
    folder = fill(tmp_path / "a", 8)
    few = pannier.create(tmp_path / "1").pack(folder, only_classes="twill,satin", per_class=5, seed=2)
    assert few.snapshot.counts == {("satin", None): 5, ("twill", None): 5}
    assert {item.reason for item in few.left_out} == {"its class is none of those wanted", "beyond 5 of its class"}
    assert not few.snapshot.store.pack(folder, only_classes="twill,satin", per_class=5, seed=2).is_new
    fixed = pannier.create(tmp_path / "2").pack(folder, classes="twill,plain,satin,rib").snapshot
    assert fixed.class_numbers == {"twill": 0, "plain": 1, "satin": 2, "rib": 3}
    with pytest.raises(UsageError, match="keep their numbers along a strand"):
        fixed.store.pack(folder, classes="plain,twill,satin,rib", relabel="source", rename="satin=plain")
    with pytest.raises(UsageError, match="does not name 'twill'"):
        pannier.create(tmp_path / "3").pack(folder, classes="plain,satin,twil")
    with pytest.raises(UsageError, match="did you mean 'twill'"):
        pannier.create(tmp_path / "4").pack(folder, only_classes="twil")
    for i, name in enumerate(("plain", "satin", "twill")):
        (folder / name).rename(folder / str(i * 5))
    (tmp_path / "names.csv").write_text("number,weave\n0,Plain\n5,Satin\n10,Twill\n")
    named = pannier.create(tmp_path / "5").pack(folder, class_names=tmp_path / "names.csv").snapshot
    assert named.classes == ["Plain", "Satin", "Twill"]
    (tmp_path / "sources.toml").write_text(f'[[source]]\npath = "{folder.name}"\nclass_names = "names.csv"\n')
    assert pannier.create(tmp_path / "8").pack(tmp_path / "sources.toml").snapshot.classes == ["Plain", "Satin", "Twill"]
    assert pannier.create(tmp_path / "6").pack(folder).snapshot.classes == ["0", "5", "10"]
    (tmp_path / "names.csv").write_text("number,weave\n0,Plain\n")
    with pytest.raises(UsageError, match="no name for label '10'"):
        pannier.create(tmp_path / "7").pack(folder, class_names=tmp_path / "names.csv")


def test_a_mirror_removes_what_the_source_no_longer_has(tmp_path: Path, store: pannier.Store) -> None:
    folder = fill(tmp_path / "a", 4)
    store.pack(folder, prefix="first")
    store.pack(fill(tmp_path / "b", 2), prefix="other")
    shutil.rmtree(folder / "satin")
    result = store.pack(folder, prefix="first", remove_missing=True)
    assert (result.removed, len(result.snapshot)) == (4, 14)
    assert [row for row in result.snapshot.document["changes"] if row[0] == "removed"] == [["removed", "satin", None, 4]]
    assert not store.pack(folder, prefix="first", remove_missing=True).is_new
    assert pannier.verify(store) == []


def test_a_dataset_has_a_name_and_steps_are_counted(tmp_path: Path, run: Callable[..., Ended]) -> None:
    folder, store = fill(tmp_path / "a", 10), tmp_path / "s.store"
    words = ("--shares", "train=70,val=30", "--name", "Six weaves", "--description", "Swatches of Fell Lane Mill")
    assert run("pack", folder, store, *words).status == 0
    assert run("pack", fill(tmp_path / "b", 2, first=50), store).status == 0
    shown = run("show", store, "--batch-size", 10).out
    assert "dataset   Six weaves" in shown
    assert "about     Swatches of Fell Lane Mill" in shown
    rows = [line.split() for line in shown.splitlines()]
    assert ["train", "24", "3", "2"] in rows
    assert ["val", "12", "2", "1"] in rows
    assert "Nothing new" not in run("pack", folder, store, "--name", "Weaves").out
    assert pannier.open(store).name == "Weaves"
