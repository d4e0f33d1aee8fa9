"""Renderings: equal to the bit, made only where missing, found when damaged, and nothing lost by a kill."""

from __future__ import annotations

import json
import os
import shutil
import signal
import subprocess
import sys
import time
from pathlib import Path
from typing import Any

import numpy as np
import pytest

import pannier
from pannier.errors import NotFoundError, PannierError, StoreError, UsageError
from pannier.feeding.rendering import list_renderings, plan_rendering, remove_rendering
from pannier.figures.sheet import treated
from pannier.store.canvases import rendering_of
from tests.conftest import fill

VARIED: dict[str, Any] = {"turn": 12, "zoom": [0.85, 1.2], "shift": 0.08, "flip": "both", "brightness": 0.2}


def random_treatment(rng: np.random.Generator) -> pannier.Treatment:
    """Any treatment at all, small."""

    def some(*choices: Any) -> Any:
        return choices[rng.integers(len(choices))]

    color = some("rgb", "gray")
    fields: dict[str, Any] = {
        "size": (int(rng.integers(4, 40)), int(rng.integers(4, 40))),
        "fit": some("cover", "contain", "fill", "shortest", "longest"),
        "color": color,
        "filter": some("bilinear", "bilinear", "nearest", "bicubic", "lanczos"),
        "tone": some("none", "none", "equalize", "clahe", "autocontrast"),
        "anchor": some("center", "top left", (0.3, 0.8)),
        "border": some("mirror", "edge", "pad"),
        "values": some("raw", "unit", "signed", "per_picture"),
        "dtype": some("float32", "float32", "float16"),
        "layout": some("chw", "hwc"),
        "pad": "#102030",
    }
    steps: dict[str, Any] = {
        "flip": some("horizontal", "vertical", "both"),
        "turn": some(5, [-40, 10], {"range": 20, "chance": 0.5}),
        "zoom": some(1.2, [0.6, 0.9], [1.1, 2.5]),
        "shift": some(0.05, 0.4),
        "shear": 8,
        "stretch": 1.3,
        "perspective": 0.08,
        "crop": {"area": [0.4, 1.0], "shape": 1.3, "chance": 0.7},
        "brightness": 0.3,
        "contrast": [0.5, 1.4],
        "gamma": 1.5,
        "blur": 0.02,
        "noise": 0.05,
        "jpeg": [20, 90],
        "erase": {"area": 0.1, "fill": "noise", "chance": 0.5},
    }
    if color == "rgb":
        steps |= {"saturation": 0.5, "hue": 20, "gray": 0.2}
    for name in rng.permutation(sorted(steps))[: rng.integers(0, 6)]:
        fields[str(name)] = steps[str(name)]
    if rng.random() < 0.2:
        fields |= {"values": "raw", "dtype": "uint8"}
    if rng.random() < 0.2:
        fields["trim"] = 3
    return pannier.Treatment(**fields)


def fed(snapshot: pannier.Snapshot, treatment: pannier.Treatment, **options: Any) -> list[np.ndarray]:
    with snapshot.feed("train", treatment, batch_size=8, seed=5, **options) as feed:
        return [batch.images.copy() for epoch in feed.epochs(2) for batch in epoch]


def test_rendered_or_not_whatever_the_workers_batches_are_equal(own: pannier.Snapshot, scale: int) -> None:
    """15 random treatments here, 300 in `make prove`."""
    for seed in range(15 * scale):
        treatment = random_treatment(np.random.default_rng(seed))
        first = fed(own, treatment, workers=1, rendered=False)
        second = fed(own, treatment, workers=2, ahead=1, rendered=False, memory_limit=None)
        own.render("train", treatment)
        with own.feed("train", treatment, rendered=True) as feed:
            assert feed.rendered_records == feed.records
        third = fed(own, treatment, workers=2)
        for one, two, three in zip(first, second, third, strict=True):
            assert np.array_equal(one, two, equal_nan=True), repr(treatment)
            assert np.array_equal(one, three, equal_nan=True), repr(treatment)
        remove_rendering(own.store.storage, treatment.fixed_part[:10])
    print(f"\n{15 * scale} random treatments: one worker, two, and rendered: equal to the bit")


def test_no_random_step_reaches_another_split(packed: pannier.Snapshot) -> None:
    treatment = pannier.Treatment(24, **VARIED, noise=0.2, erase=1.0, hue=90)
    for split in ("val", "test"):
        with packed.feed(split, treatment) as feed:
            assert "fed without the random steps" in feed.notes[0]
            for batch in feed:
                for key, image in zip(batch.keys, batch.images, strict=True):
                    assert np.array_equal(image, treatment(packed[key].bytes()))
    with packed.feed("val", treatment, augment=True) as feed:
        assert "as told" in feed.notes[0]
        batch = next(iter(feed))
        assert not np.array_equal(batch.images[0], treatment(packed[batch.keys[0]].bytes()))
    with packed.feed("train", treatment) as feed:
        assert not feed.notes


def test_only_what_is_new_or_changed_is_rendered(tmp_path: Path) -> None:
    store = pannier.create(tmp_path / "s.store")
    snapshot = store.pack(fill(tmp_path / "a", 8), shares={"train": 100}).snapshot
    treatment = pannier.Treatment(20, **VARIED)
    plan = snapshot.render(None, treatment)
    assert (plan.records, plan.there, plan.missing) == (24, 0, 24)
    again = snapshot.render(None, treatment.with_fields(values="signed", brightness=0.5))
    assert (again.there, again.missing, again.new_bytes) == (24, 0, 0)
    later = store.pack(fill(tmp_path / "b", 3, first=20), prefix="b").snapshot
    with later.feed("train", treatment) as feed:
        assert 0 < feed.rendered_records < feed.records
        assert "come from rendered canvases" in feed.notes[0]
    assert later.render(None, treatment).missing == 9
    other = treatment.with_fields(size=24)
    with later.feed("train", other) as feed:
        assert feed.rendered_records == 0
    with pytest.raises(NotFoundError, match="render them first"):
        later.feed("train", other, rendered=True)
    (found,) = list_renderings(store.storage)
    assert (found.canvases, found.digest) == (33, treatment.fixed_part)
    assert not [each for each in pannier.verify(store) if each.is_damage]
    freed = remove_rendering(store.storage, treatment.fixed_part[:8])
    assert freed == found.byte_count
    assert list_renderings(store.storage) == []
    with pytest.raises(UsageError, match="there is none"):
        remove_rendering(store.storage, treatment.fixed_part[:8])


def test_crop_boxes_are_part_of_a_canvas(tmp_path: Path) -> None:
    store = pannier.create(tmp_path / "s.store")
    store.pack(fill(tmp_path / "a", 6), shares={"train": 100})
    keys = [record.key for record in store.snapshot()]
    table = tmp_path / "boxes.csv"
    lines = [f"{key},{i % 9},{i % 7},{20 + i},{30 + i}" for i, key in enumerate(keys[:-1])] + [f"{keys[-1]},,,,"]
    table.write_text("key,top,left,tall,wide\n" + "\n".join(lines) + "\n")
    snapshot = store.change(from_=table).snapshot
    treatment = pannier.Treatment(16, box=["top", "left", "tall", "wide"], **VARIED)
    before = fed(snapshot, treatment)
    plain = treatment.with_fields(box=None)
    seen = treated([snapshot[keys[0]]], treatment)[0].pixels
    assert np.array_equal(seen, treatment.undo(treatment(snapshot[keys[0]].bytes(), box=snapshot[keys[0]].box(treatment))))
    assert snapshot[keys[-1]].box(treatment) is None
    with pytest.raises(NotFoundError, match="did you mean 'wide'"):
        snapshot[keys[0]].box(treatment.with_fields(box=["top", "left", "tall", "wied"]))
    assert not np.array_equal(before[0], fed(snapshot, plain)[0])
    snapshot.render(None, treatment)
    assert all(np.array_equal(*each) for each in zip(before, fed(snapshot, treatment, rendered=True), strict=True))
    moved = store.change(where=f"key = '{keys[0]}'", set={"top": 1}).snapshot
    assert plan_rendering(moved, treatment).missing == 1
    with snapshot.feed(None, treatment, shuffle=False) as feed:
        last = [batch.images[-1].copy() for batch in feed][-1]
    assert np.array_equal(last, plain(snapshot[keys[-1]].bytes()))  # NULL: the whole picture
    for columns, says in ((["top", "left", "tall", "wied"], "did you mean 'wide'"), (["a"] * 4, "no side column 'a'")):
        with pytest.raises(NotFoundError, match=says):
            snapshot.feed(None, treatment.with_fields(box=columns))
    copied = pannier.Treatment(16, box=["top", "left", "tall", "wide"], values="raw", dtype="uint8")
    before = fed(snapshot, copied)
    snapshot.render(None, copied)
    damage(next((store.path / "rendered" / copied.fixed_part / "shards").iterdir()), 5000)
    assert all(np.array_equal(*each) for each in zip(before, fed(snapshot, copied, rendered=True), strict=True))


def test_what_would_not_fit_is_refused_before_anything_is_written(own: pannier.Snapshot, run: Any) -> None:
    treatment = pannier.Treatment(64)
    assert "over the limit" in run("render", own.store.path, "--size", "64", "--disk-limit", "100KiB", "--preview").out
    with pytest.raises(StoreError, match="over the limit of 100 KiB"):
        own.render(None, treatment, disk_limit="100KiB")
    assert list_renderings(own.store.storage) == []
    plan = plan_rendering(own, treatment, disk_limit=None)
    assert plan.new_bytes >= 60 * 64 * 64 * 3
    assert plan.limit_bytes is None


def damage(path: Path, at: int) -> None:
    data = bytearray(path.read_bytes())
    data[at % len(data)] ^= 0x10
    path.chmod(0o644)
    path.write_bytes(data)


@pytest.mark.parametrize("fields", [VARIED, {"values": "raw", "dtype": "uint8"}], ids=["prepared", "copied"])
def test_damage_is_found_and_made_again(own: pannier.Snapshot, scale: int, caplog: Any, fields: dict[str, Any]) -> None:
    treatment = pannier.Treatment(20, **fields)
    expected = fed(own, treatment)
    rng = np.random.default_rng(1)
    seen = 0
    for _ in range(3 * scale):
        own.render(None, treatment, check=True)
        rendering = rendering_of(own.store.storage, treatment)
        assert rendering is not None
        assert not list(rendering.check())
        files = sorted(path for path in rendering.storage.root.rglob("*.*") if path.is_file())
        path = files[rng.integers(len(files))]
        size = path.stat().st_size
        if rng.random() < 0.3:
            path.chmod(0o644)
            os.truncate(path, int(rng.integers(size)))
        else:
            damage(path, int(rng.integers(size)))
        assert all(np.array_equal(*each) for each in zip(expected, fed(own, treatment), strict=True))
        found = rendering_of(own.store.storage, treatment)
        assert found is None or list(found.check())
        seen += any(each.is_damage and "rendered" in each.file for each in pannier.verify(own.store))
        assert not [each for each in pannier.verify(own.store, repair=True) if each.is_damage]
    assert seen == 3 * scale
    print(f"\n{seen} damages: all found, no wrong batch fed, all made again")
    own.render(None, treatment)
    assert not [each for each in pannier.verify(own.store) if each.is_damage]


RENDERER = """
import sys, pannier
from pannier.feeding.rendering import render
snapshot = pannier.open(sys.argv[1])
print("ready", flush=True)
render(snapshot, pannier.Treatment(24, turn=12, zoom=[0.85, 1.2]), shard_size=1 << 14)
"""


def test_killed_at_any_instant_nothing_is_lost(own: pannier.Snapshot, scale: int) -> None:
    treatment = pannier.Treatment(24, turn=12, zoom=[0.85, 1.2])
    expected = fed(own, treatment)
    rng = np.random.default_rng(2)
    address = str(own.store.path)
    spans = []
    for kill in range(3 * scale):
        process = subprocess.Popen([sys.executable, "-c", RENDERER, address], stdout=subprocess.PIPE)
        assert process.stdout is not None
        process.stdout.readline()
        started = time.monotonic()
        if kill:
            time.sleep(rng.uniform(0, spans[0] * 1.05))
            process.send_signal(signal.SIGKILL)
        process.wait()
        process.stdout.close()
        spans.append(time.monotonic() - started)
        rendering = rendering_of(own.store.storage, treatment)
        assert rendering is None or not list(rendering.check())
        assert not [each for each in pannier.verify(own.store) if each.is_damage]
        assert all(np.array_equal(*each) for each in zip(expected, fed(own, treatment), strict=True))
        if kill == 0 or rng.random() < 0.4:
            shutil.rmtree(own.store.path / "rendered", ignore_errors=True)
    own.render(None, treatment)
    assert all(np.array_equal(*each) for each in zip(expected, fed(own, treatment, rendered=True), strict=True))
    print(f"\n{3 * scale - 1} kills of a rendering: store whole, batches equal, gone on with")


def test_the_command_plans_renders_lists_and_drops(own: pannier.Snapshot, run: Any) -> None:
    address = str(own.store.path)
    planned = run("render", address, "--split", "all", "--size", "24", "--preview")
    assert planned.status == 0
    assert "60 are to be made" in planned.out
    assert list_renderings(own.store.storage) == []
    assert "rendered 60 pictures" in run("render", address, "--split", "all", "--size", "24").out
    listed = json.loads(run("render", address, "--list", "--json").out)
    assert listed[0]["canvases"] == 60
    line = run("feed", address, "--split", "train", "--size", "24", "--json")
    assert json.loads(line.out)["rendered"] == 42
    assert "freed" in run("render", address, "--remove", listed[0]["digest"][:8]).out
    wrong = run("render", address)
    assert wrong.status == 2
    assert "--treatment FILE" in wrong.err
    assert run("render", address, "--size", "24", "--disk-limit", "1KiB").status == 1


def test_a_small_split_as_arrays(packed: pannier.Snapshot) -> None:
    treatment = pannier.Treatment(16, **VARIED)
    images, labels, keys = packed.arrays("val", treatment)
    assert images.shape == (12, 3, 16, 16)
    assert keys == sorted(keys)
    assert np.array_equal(images[3], treatment(packed[keys[3]].bytes()))
    assert [packed.classes[number] for number in labels] == [packed[key].label for key in keys]
    assert packed.arrays(None, treatment, label_as="name").labels[0] == packed[0].label
    with pytest.raises(PannierError, match="over the limit of 8 KiB"):
        packed.arrays("val", treatment, memory_limit="8KiB")


def test_one_batch_of_an_epoch_is_what_feeding_gives(packed: pannier.Snapshot) -> None:
    treatment = pannier.Treatment(16, **VARIED)
    with packed.feed("train", treatment, batch_size=8, seed=3) as feed:
        epochs = [[(batch.keys, batch.images.copy()) for batch in epoch] for epoch in feed.epochs(2)]
        for epoch, number in ((1, 4), (0, 0), (1, 5)):
            batch = feed.batch_at(epoch, number)
            assert batch.keys == epochs[epoch][number][0]
            assert np.array_equal(batch.images, epochs[epoch][number][1])
        assert next(iter(feed)).epoch == 2
        for _ in feed:
            with pytest.raises(UsageError, match="a loop over this feed is under way"):
                feed.batch_at(0, 0)
            break
        with pytest.raises(UsageError, match="batches 0 to 5"):
            feed.batch_at(0, 6)
