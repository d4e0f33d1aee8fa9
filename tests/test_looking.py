"""Looking at data and treatments: sheets, one picture step by step, a batch described, statistics, notebooks."""

from __future__ import annotations

import json
import sys
from collections.abc import Callable
from html.parser import HTMLParser
from pathlib import Path
from typing import Any

import numpy as np
import pandas
import pytest
from PIL import Image

import pannier
from pannier.errors import TreatmentError, UsageError
from pannier.feeding.describing import describe
from pannier.feeding.statistics import measure_values
from pannier.figures.sheet import Shown, as_fed, choose_records, draw_sheet, treated, with_predictions
from pannier.images.seen import drawn_words, stages, varied
from tests.conftest import draw, encoded, fill

CLOTH = 'size = 24\nturn = 10\nzoom = 1.2\nflip = "both"\nbrightness = 0.2\nnoise = { range = 0.1, chance = 0.5 }\n'


def size_of(path: Path) -> tuple[int, int]:
    with Image.open(path) as image:
        return image.size


@pytest.fixture
def cloth(tmp_path: Path) -> Path:
    path = tmp_path / "cloth.toml"
    path.write_text(CLOTH)
    return path


def test_a_picture_is_seen_at_every_step(packed: pannier.Snapshot, cloth: Path) -> None:
    treatment = pannier.Treatment.from_file(cloth, tone="equalize", values="signed")
    record = packed[3]
    found = stages(treatment, record.bytes(), record.key, seed=4)
    assert [stage.name for stage in found] == [
        "as stored", "upright", "evened out", "fitted", "augmented 1", "augmented 2", "augmented 3", "final",
    ]  # fmt: skip
    assert np.array_equal(found[0].array, record.picture())
    assert np.array_equal(found[-1].array, treatment(record.bytes()))
    assert np.array_equal(found[-1].picture, found[3].array)
    with packed.feed(None, treatment, batch_size=60, seed=4, shuffle=False, augment=True) as feed:
        for epoch, stage in enumerate(found[4:7]):
            batch = feed.batch_at(epoch, 0)
            assert np.array_equal(treatment.undo(batch.images[3]), stage.array)
    assert found[-1].patch.shape == (4, 4)
    assert found[-1].means == pytest.approx(found[-1].array.mean(axis=(1, 2)).tolist(), abs=1e-5)


def test_what_was_drawn_is_said_in_words() -> None:
    treatment = pannier.Treatment(24, turn=10, flip="both", noise={"range": 0.1, "chance": 0.0}, crop=0.5, jpeg=[20, 40])
    words = dict(drawn_words(treatment, "twill/0001.jpg", 3, 0))
    assert words["turn"].endswith("\u00b0")
    assert words["noise"] == "-"
    assert 20 <= int(words["jpeg"]) <= 40
    assert "of the area" in words["crop"]
    assert words != dict(drawn_words(treatment, "twill/0001.jpg", 3, 1))
    assert varied(pannier.Treatment(24), encoded(draw(1)), "a", 0, 0, 3) == []


def test_look_draws_steps_variations_and_choices(
    packed: pannier.Snapshot, cloth: Path, tmp_path: Path, run: Callable[..., Any]
) -> None:
    store, key, figure = packed.store.path, packed[0].key, tmp_path / "look.png"
    ended = run("look", store, key, "--treatment", cloth, "--figure", figure)
    assert ended.status == 0, ended.err
    assert "augmented 3" in ended.out
    assert size_of(figure) == (1280, 800)
    steps = json.loads(
        run("look", store, key, "--treatment", cloth, "--size", "16", "--size", "32", "--figure", figure, "--json").out
    )
    assert [each["steps"][-1]["shape"] for each in steps] == [[3, 16, 16], [3, 32, 32]]
    ended = run("look", store, key, "--treatment", cloth, "--variations", "12", "--figure", figure)
    assert len(ended.out.splitlines()) == 13
    picture = tmp_path / "new.png"
    picture.write_bytes(encoded(draw(3), "png"))
    assert run("look", picture, "--size", "20", "--figure", figure).status == 0
    for arguments, says in (
        ((store, "no/such.jpg", "--size", "20"), "no record"),
        ((store, "--size", "20"), "name a record's key"),
        ((store, key), "--treatment FILE"),
        ((picture, "--size", "20", "--variations", "3"), "no random steps"),
        ((picture, "--size", "20", "--size", "30", "--variations", "3"), "of one treatment"),
    ):
        ended = run("look", *arguments, "--figure", figure)
        assert (ended.status, says in ended.err) == (2, True), ended.err


def test_a_sheet_shows_a_batch_exactly_as_it_is_fed(packed: pannier.Snapshot, cloth: Path) -> None:
    treatment = pannier.Treatment.from_file(cloth, values="signed")
    with packed.feed("train", treatment, batch_size=10, seed=2) as feed:
        shown = as_fed(feed, 2, 1)
        batches = [list(epoch) for epoch in feed.epochs(2)]
        batch = batches[1][2]
        assert [each.key for each in shown] == batch.keys
        assert all(np.array_equal(a.pixels, b) for a, b in zip(shown, treatment.undo(batch.images), strict=True))
        with pytest.raises(UsageError, match="0 to 4"):
            as_fed(feed, 5, 0)
    records = choose_records(packed, "train", 9, 1, arrange="chance")
    assert {record.key for record in records} <= {record.key for record in packed}
    assert [record.key for record in records] != sorted(record.key for record in records)
    made = treated(records, treatment)
    assert np.array_equal(made[0].pixels, treatment.undo(treatment(records[0].bytes())))


def test_predictions_are_right_or_wrong(own: pannier.Snapshot, tmp_path: Path, run: Callable[..., Any]) -> None:
    keys = [record.key for record in own]
    lines = [f"{key},{own[key].label if i % 3 else 'satin'},0.{i % 9}1" for i, key in enumerate(keys)]
    (tmp_path / "said.csv").write_text("key,said,sure\n" + "\n".join(lines) + "\n")
    snapshot = own.store.change(from_=tmp_path / "said.csv").snapshot
    shown = [Shown(r.key, r.label, r.split, None, r) for r in snapshot]
    marked = with_predictions(shown, "said", "sure")
    assert [each.mark for each in marked] == [snapshot[key].side["said"] == snapshot[key].label for key in keys]
    wrong = next(each for each in marked if each.mark is False)
    assert wrong.headline == "\u2717 satin"
    assert wrong.below is not None
    assert f"is {wrong.label}" in wrong.below
    with pytest.raises(pannier.NotFoundError, match="did you mean 'said'"):
        with_predictions(shown, "sadi", None)
    ended = run("sheet", snapshot.store.path, "--predicted", "said", "--probability", "sure", "--figure", tmp_path / "s.png")
    assert ended.status == 0, ended.err
    colors = np.asarray(Image.open(tmp_path / "s.png").convert("RGB")).reshape(-1, 3)
    assert (colors == [163, 84, 43]).all(axis=1).sum() > 200  # the frames of wrong ones


@pytest.mark.parametrize("count", [6, 240])
def test_sheets_stay_readable(count: int, tmp_path: Path) -> None:
    pictures = [
        Shown(f"c/{i:04}.jpg", f"a class with a long name {i % 150}", "train", draw(i, 30, 40)) for i in range(count)
    ]
    draw_sheet(pictures, str(tmp_path / "s.png"), title="many")
    width, height = size_of(tmp_path / "s.png")
    assert (width, height) == (1280, 800) if count == 6 else width == 1280 and height > 1500


def test_the_sheet_command_takes_treatments(
    packed: pannier.Snapshot, cloth: Path, tmp_path: Path, run: Callable[..., Any]
) -> None:
    store, figure = packed.store.path, tmp_path / "s.png"
    assert run("sheet", store, "--treatment", cloth, "--treated", "--pictures", "6", "--figure", figure).status == 0
    assert run("sheet", store, "--split", "train", "--treatment", cloth, "--batch", "1", "--figure", figure).status == 0
    for arguments, says in (
        (("--treated",), "say how"),
        (("--size", "20"), "goes with --treated"),
        (("--probability", "x"), "goes with --predicted"),
        (("--batch", "99", "--split", "val"), "there is no batch 99"),
    ):
        ended = run("sheet", store, *arguments, "--figure", figure)
        assert (ended.status, says in ended.err) == (2, True), ended.err


def test_a_batch_is_described_with_what_looks_wrong(packed: pannier.Snapshot) -> None:
    with packed.feed("train", pannier.Treatment(16).measured(packed, "train"), batch_size=8) as feed:
        batch = next(iter(feed))
        found = describe(feed, batch)
        assert found.shape == (8, 3, 16, 16)
        assert found.warnings == ()
        assert found.mean == pytest.approx(batch.images.mean(axis=(0, 2, 3)).tolist(), abs=1e-5)
        assert sum(count for _, count in found.labels) == 8
        assert found.epoch_bytes == 42 * 3 * 16 * 16 * 4
        assert found.unmet("shape=8x3x*x16, dtype=float32,layout=chw,range=-9..9,mean=-1..1,std=0.5..2") == []
        assert found.unmet("dtype=float16,range=0..1") == [
            "dtype: expected float16, got float32",
            f"range: expected 0..1, got {found.lowest:.4g}..{found.highest:.4g}",
        ]
        for wrong, says in (("shap=8", "did you mean 'shape'"), ("range=3", "low..high"), ("shape=a", "numbers or")):
            with pytest.raises(UsageError, match=says):
                found.unmet(wrong)
    with packed.feed(
        None, pannier.Treatment(16, values="raw"), batch_size=8, shuffle=False, where="label = 'twill'"
    ) as feed:
        warnings = describe(feed, next(iter(feed))).warnings
    assert "all 8 labels are twill: it is not shuffled" in warnings
    assert any("most models want" in warning for warning in warnings)
    off = pannier.Treatment(16, values="standard", mean=[9, 9, 9], std=[1, 1, 1])
    with packed.feed("train", off) as feed:
        assert "are mean and std those of these pictures?" in describe(feed, next(iter(feed))).warnings[0]


def test_describe_and_expect_from_the_command_line(packed: pannier.Snapshot, run: Callable[..., Any]) -> None:
    feed = ("feed", packed.store.path, "--split", "train", "--size", "16")
    ended = run(*feed, "--describe", "--expect", "shape=32x3x16x16,dtype=float32,range=0..1,classes=3")
    assert ended.status == 0, ended.err
    assert "as expected" in ended.out
    ended = run(*feed, "--expect", "range=-3..0.1", "--json")
    assert ended.status == 1
    assert json.loads(ended.out)["unmet"][0].startswith("range: expected -3..0.1")
    assert run(*feed, "--expect", "size=3").status == 2
    assert (
        run("feed", packed.store.path, "--split", "val", "--treatment", "size=16,flip=both").out.count("random steps") == 1
    )


def test_statistics_are_those_of_all_pixels(packed: pannier.Snapshot) -> None:
    for fields in ({"fit": "contain"}, {"color": "gray", "tone": "equalize"}, {"turn": 20, "zoom": 1.3}):
        treatment = pannier.Treatment(24, **fields)
        found = measure_values(packed, "train", treatment, workers=2)
        raw = treatment.with_fields(values="raw", layout="hwc")
        pixels = np.stack([raw(record.bytes()) for record in packed if record.split == "train"]).astype(np.float64)
        flat = pixels.reshape(-1, pixels.shape[-1])
        assert found.mean == pytest.approx(flat.mean(axis=0) / 255, abs=1e-6)
        assert found.std == pytest.approx(flat.std(axis=0) / 255, abs=1e-6)
        assert found.lowest == tuple(flat.min(axis=0))
        assert found.highest == tuple(flat.max(axis=0))
        assert np.array_equal(found.counts[0], np.bincount(flat[:, 0].astype(int), minlength=256))


def test_stats_are_saved_with_what_they_are_of(
    packed: pannier.Snapshot, cloth: Path, tmp_path: Path, run: Callable[..., Any]
) -> None:
    store, figure = packed.store.path, tmp_path / "values.png"
    ended = run("stats", store, "--treatment", cloth, "--save", "--figure", figure)
    assert ended.status == 0, ended.err
    assert "train, 42 pictures at 24x24" in ended.out
    assert size_of(figure) == (1280, 800)
    saved = pannier.Treatment.from_file(cloth)
    assert saved == pannier.Treatment.from_file(cloth).measured(packed, "train")
    assert saved.measured_on is not None
    assert (saved.measured_on.split, saved.measured_on.content_id) == ("train", packed.content_id)
    assert run("feed", store, "--split", "val", "--treatment", cloth).status == 0
    ended = run("feed", store, "--split", "val", "--treatment", cloth, "--size", "32")
    assert (ended.status, "measured at size = 24x24" in ended.err) == (2, True), ended.err
    assert run("stats", store, "--size", "24", "--save").status == 2
    black = pannier.create(tmp_path / "black.store")
    (tmp_path / "b" / "one").mkdir(parents=True)
    (tmp_path / "b" / "one" / "a.png").write_bytes(encoded(np.zeros((9, 9, 3), np.uint8), "png"))
    snapshot = black.pack(tmp_path / "b").snapshot
    with pytest.raises(TreatmentError, match="cannot be standardized"):
        pannier.Treatment(8).measured(snapshot, None)


def test_measuring_mean_and_deviation_keeps_the_limit_and_the_workers(packed: pannier.Snapshot) -> None:
    treatment = pannier.Treatment(24)
    with pytest.raises(pannier.LimitError):
        treatment.measured(packed, "train", memory_limit="1MiB")
    with pytest.raises(pannier.UsageError, match="workers"):
        treatment.measured(packed, "train", workers=0)
    assert treatment.measured(packed, "train", workers=1, memory_limit="24MiB") == treatment.measured(packed, "train")


def test_a_new_treatment_file_is_explained(tmp_path: Path, run: Callable[..., Any]) -> None:
    path = tmp_path / "new.toml"
    ended = run("treatment", path, "--new")
    assert ended.status == 0, ended.err
    assert "turn" in ended.out
    assert run("treatment", path, "--new").status == 2
    facts = json.loads(run("treatment", path, "--json").out)
    assert facts["varies"] == ["flip", "zoom", "turn", "shift", "brightness", "contrast"]
    assert facts["identity"] == pannier.Treatment.from_file(path).identity
    path.write_text(path.read_text().replace("turn = 8", "turn = 800"))
    ended = run("treatment", path)
    assert (ended.status, "turn = 800: must be degrees" in ended.err) == (2, True)


class Tags(HTMLParser):
    """Counts tags, and that each is closed."""

    def __init__(self, text: str) -> None:
        super().__init__()
        self.open: list[str] = []
        self.images = 0
        self.feed(text)
        assert not self.open

    def handle_starttag(self, tag: str, attrs: Any) -> None:
        self.images += tag == "img"
        if tag != "img":
            self.open.append(tag)

    def handle_endtag(self, tag: str) -> None:
        assert self.open.pop() == tag


def test_notebooks_show_small_tables_and_pictures(packed: pannier.Snapshot) -> None:
    assert Tags(packed._repr_html_()).images == 8
    assert Tags(packed[0]._repr_html_()).images == 1
    treatment = pannier.Treatment(16, values="signed", color="gray", turn=5)
    assert Tags(treatment._repr_html_()).images == 0
    assert "turn" in treatment._repr_html_()
    with packed.feed("train", treatment) as feed:
        text = next(iter(feed))._repr_html_()
        assert Tags(text).images == 16
        assert "and 16 more" in text
    with packed.feed("val", None) as feed:
        assert Tags(next(iter(feed))._repr_html_()).images == 12


def test_a_real_notebook_shows_whatever_comes_back(own: pannier.Snapshot, archive: Path) -> None:
    from jupyter_client.manager import KernelManager

    manager = KernelManager()
    manager.kernel_spec.argv = [sys.executable, "-m", "ipykernel_launcher", "-f", "{connection_file}"]
    manager.start_kernel()
    client = manager.client()
    client.start_channels()
    try:
        client.wait_for_ready(timeout=120)

        def shown(code: str) -> str:
            told: list[dict[str, Any]] = []
            client.execute_interactive(code, timeout=120, output_hook=lambda message: told.append(message["content"]))
            errors = [each for each in told if "ename" in each]
            assert not errors, errors
            return "".join(each["data"].get("text/html", "") for each in told if "data" in each)

        shown(f"import pannier; store = pannier.open_store({str(own.store.path)!r}); snapshot = store.snapshot()")
        for code, words in {
            "store": "strand",
            "store.history()": "records",
            "snapshot": "<img",
            "snapshot[0]": "<img",
            "feed = snapshot.feed('val', size=16, processes=0); feed": "batches of 32",
            "next(iter(feed))": "<img",
            "feed.meter": "pictures",
            "feed.plan": "workers",
            f"pannier.survey({str(archive)!r})": "formats",
            "pannier.compare(snapshot, snapshot)": "none differs",
            "snapshot.doubles(0)": "near",
        }.items():
            text = shown(code)
            assert words in text, code
            assert "data:image/png" not in text
            assert len(text) < 200_000
    finally:
        client.stop_channels()
        manager.shutdown_kernel(now=True)  # killed: its lease stays


def test_names_begin_no_formula_in_a_figure(tmp_path: Path, store: pannier.Store) -> None:
    names = {"plain": "$\\frac{", "satin": "a$b_{$c", "twill": "x" * 300}
    fill(tmp_path / "a", 2)
    rows = [
        {"path": f"a/{name}/000{i}.jpg", "label": label, "key": f"$\\{name}_{i}$"}
        for name, label in names.items()
        for i in (0, 1)
    ]
    how: dict[str, Any] = {"picture": "path", "root": tmp_path, "key": "key"}
    snapshot = store.pack(pandas.DataFrame(rows), note="$\\bad{", name="$n$", **how).snapshot
    changed = store.change(where="label LIKE 'x%'", set="label=$\\frac{").snapshot
    stages = snapshot[0].stages(pannier.Treatment(8), variations=1)
    compared = pannier.compare(snapshot, changed)
    for number, what in enumerate((snapshot, list(snapshot), store.history(), stages, compared)):
        pannier.draw(what, tmp_path / f"{number}.png")
        assert (tmp_path / f"{number}.png").stat().st_size > 5000
