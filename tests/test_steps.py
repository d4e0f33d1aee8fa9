"""Color, tone, values, cuts and own steps: each against a plain NumPy reference, or what it claims."""

from __future__ import annotations

import contextlib
import io
import logging
import threading
import time
from pathlib import Path
from typing import Any

import cv2
import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from PIL import Image

import pannier
from pannier.errors import NotFoundError, PannierError, TreatmentError, UsageError
from pannier.images.chance import variations
from pannier.images.prepare import Preparation, pixels_of
from tests.conftest import draw, encoded, likeness

HASH = np.array([0x1234567890ABCDEF], np.uint64)
PICTURE = draw(11, 90, 120)


def augmented(picture: Any, **fields: Any) -> np.ndarray:
    """One picture with its random steps: uint8 (h, w, channels)."""
    treatment = pannier.Treatment((45, 60), values="raw", dtype="uint8", layout="hwc", **fields)
    return Preparation(treatment).one(picture, variation=variations(treatment, HASH, 0, 0)[0])


def plain(picture: Any, **fields: Any) -> np.ndarray:
    return pannier.Treatment((45, 60), values="raw", dtype="uint8", layout="hwc", **fields)(picture)


@pytest.mark.parametrize(
    ("name", "kind", "bar"),
    [
        ("bilinear", Image.Resampling.BILINEAR, 54),
        ("bicubic", Image.Resampling.BICUBIC, 50),
        ("lanczos", Image.Resampling.LANCZOS, 50),
    ],
)
@pytest.mark.parametrize("source", [(375, 500), (60, 80), (700, 1400)])
def test_every_filter_is_near_pillows(name: str, kind: Image.Resampling, bar: int, source: tuple[int, int]) -> None:
    noisy = np.clip(draw(1, *source) + np.random.default_rng(0).normal(0, 6, (*source, 3)), 0, 255).astype(np.uint8)
    treatment = pannier.Treatment((120, 150), fit="fill", filter=name, values="raw", layout="hwc")
    assert likeness(treatment(noisy), np.asarray(Image.fromarray(noisy).resize((150, 120), kind))) >= bar


def test_nearest_takes_the_very_pixels() -> None:
    for height, width in ((45, 60), (90, 120), (17, 300), (2000, 9)):
        picture = draw(3, height, width)
        rows = np.floor((np.arange(45) + 0.5) * height / 45).astype(int)
        columns = np.floor((np.arange(60) + 0.5) * width / 60).astype(int)
        assert np.array_equal(plain(picture, filter="nearest", fit="fill"), picture[rows][:, columns])


def test_light_is_a_matrix_and_gamma_a_table() -> None:
    base = plain(PICTURE).astype(float)
    luma = base @ np.array([0.299, 0.587, 0.114])
    cases: list[tuple[dict[str, Any], np.ndarray]] = [
        ({"brightness": [1.3, 1.3]}, base * 1.3),
        ({"contrast": [0.6, 0.6]}, (base - 127.5) * 0.6 + 127.5),
        ({"saturation": [0.4, 0.4]}, base * 0.4 + luma[..., None] * 0.6),
        ({"gray": 1.0}, np.repeat(luma[..., None], 3, axis=2)),
        ({"gamma": [1.8, 1.8]}, 255 * (base / 255) ** (1 / 1.8)),
        ({"brightness": [0.5, 0.5], "contrast": [1.5, 1.5]}, (base * 0.5 - 127.5) * 1.5 + 127.5),
        ({"brightness": [0.5, 0.5], "contrast": [1.5, 1.5], "order": ["contrast"]}, ((base - 127.5) * 1.5 + 127.5) * 0.5),
    ]
    for fields, expected in cases:
        assert np.abs(augmented(PICTURE, **fields) - np.clip(expected, 0, 255)).max() <= 0.52 + 0.05
    gray = augmented(PICTURE, color="gray", contrast=[2, 2])
    assert np.abs(gray - np.clip((plain(PICTURE, color="gray").astype(float) - 127.5) * 2 + 127.5, 0, 255)).max() <= 0.55


def test_hue_turns_colors_and_leaves_luma() -> None:
    yiq = np.array([[0.299, 0.587, 0.114], [0.596, -0.274, -0.322], [0.211, -0.523, 0.312]])
    soft = (PICTURE.astype(float) * 0.3 + 90).astype(np.uint8)  # so that nothing is cut off
    before, after = (each.astype(float) @ yiq.T for each in (plain(soft), augmented(soft, hue=[40, 40])))
    angle = np.radians(40)
    turned = before[..., 1:] @ np.array([[np.cos(angle), np.sin(angle)], [-np.sin(angle), np.cos(angle)]])
    assert np.abs(after[..., 0] - before[..., 0]).max() < 1.2
    assert np.abs(after[..., 1:] - turned).max() < 1.5


def test_blur_noise_jpeg_and_erased_boxes_do_what_they_say() -> None:
    base = plain(PICTURE)
    sigma = 0.04 * 45
    expected = np.dstack(
        [cv2.GaussianBlur(base[..., c], (0, 0), sigma, borderType=cv2.BORDER_REFLECT_101) for c in range(3)]
    )
    assert np.array_equal(augmented(PICTURE, blur=[0.04, 0.04]), expected)
    flat = np.full((90, 120, 3), 128, np.uint8)
    noisy = augmented(flat, noise=[0.05, 0.05]).astype(float)
    assert noisy.std() == pytest.approx(0.05 * 255, rel=0.05)
    assert noisy.mean() == pytest.approx(128, abs=0.6)
    assert abs(np.corrcoef(noisy[..., 0].ravel(), noisy[..., 1].ravel())[0, 1]) < 0.06
    degraded = [likeness(augmented(PICTURE, jpeg=quality), base) for quality in (10, 60, 95)]
    assert degraded == sorted(degraded)
    erased = augmented(PICTURE, erase={"area": [0.1, 0.1], "shape": 1, "fill": "#0a0b0c"})
    changed = (erased != base).any(axis=2)
    assert (erased[changed] == [10, 11, 12]).all()
    assert changed.mean() == pytest.approx(0.1, abs=0.02)
    assert len(np.unique(augmented(flat, erase={"area": 0.3, "fill": "noise"}))) > 200


def test_tone_follows_its_formulas() -> None:
    gray = cv2.cvtColor(PICTURE, cv2.COLOR_RGB2GRAY)[:45, :60] // 3 + 60
    fields = {"color": "gray", "fit": "fill"}
    below = np.cumsum(np.bincount(gray.ravel(), minlength=256))
    first = np.bincount(gray.ravel(), minlength=256)[gray.min()]
    expected = np.rint((below[gray] - first) * 255 / (gray.size - first))
    assert np.abs(plain(gray, tone="equalize", **fields)[..., 0] - expected).max() <= 1
    low, high = int(gray.min()), int(gray.max())
    stretched = np.rint((gray.astype(float) - low) * 255 / (high - low))
    assert np.array_equal(plain(gray, tone="autocontrast", **fields)[..., 0], stretched)
    lighter = np.rint(255 * (gray / 255) ** (1 / 2.2))
    assert np.array_equal(plain(gray, tone_gamma=2.2, **fields)[..., 0], lighter)
    clahe = cv2.createCLAHE(3.0, (4, 4)).apply(gray)
    assert np.array_equal(plain(gray, tone="clahe", clahe_limit=3.0, clahe_tiles=4, **fields)[..., 0], clahe)
    color = plain(PICTURE, tone="equalize")
    spread = [np.ptp(cv2.cvtColor(each, cv2.COLOR_RGB2GRAY)) for each in (plain(PICTURE), color)]
    assert spread[1] >= spread[0]
    uniform = np.full((20, 20, 3), 77, np.uint8)
    for tone in ("equalize", "autocontrast"):
        assert np.abs(plain(uniform, tone=tone).astype(int) - 77).max() <= 1


def test_gray_by_stated_weights() -> None:
    weights = (0.2, 0.7, 0.1)
    expected = np.rint(plain(PICTURE).astype(float) @ np.array(weights))
    for picture in (PICTURE, encoded(PICTURE, "png")):
        got = plain(picture, color="gray", gray_weights=weights)[..., 0]
        assert np.abs(got - expected).max() <= 1.5


def test_boxes_trims_and_anchors_take_the_right_part() -> None:
    picture = draw(5, 200, 300)
    assert np.array_equal(plain_box(picture, (20, 30, 45, 60)), picture[20:65, 30:90])
    whole = pannier.Treatment(
        (45, 60), values="raw", dtype="uint8", layout="hwc", box=["a", "b", "c", "d"], box_unit="shares"
    )
    assert np.array_equal(whole(picture, box=(0.1, 0.1, 45 / 200, 60 / 300)), picture[20:65, 30:90])
    for box in ((300, 0, 10, 10), (0, 0, 0, 5), (float("nan"), 0, 5, 5)):
        with pytest.raises(pannier.PictureError, match="crop box"):
            plain_box(picture, box)
    framed = np.full((85, 100, 3), 250, np.uint8)
    framed[10:55, 25:85] = draw(6, 45, 60) // 2
    assert np.array_equal(plain(framed, trim=8), framed[10:55, 25:85])
    assert np.array_equal(plain(np.full((45, 60, 3), 9, np.uint8), trim=0), np.full((45, 60, 3), 9))
    tall = draw(7, 90, 60)
    assert np.array_equal(plain(tall, anchor="top"), tall[:45])
    assert np.array_equal(plain(tall, anchor="bottom right"), tall[45:])
    small = plain(draw(8, 20, 60), fit="contain", anchor=(1.0, 0.0), pad="#010203")
    assert (small[:25] == [1, 2, 3]).all()
    assert not (small[25:] == [1, 2, 3]).all()


def plain_box(picture: np.ndarray, box: Any) -> np.ndarray:
    treatment = pannier.Treatment((45, 60), values="raw", dtype="uint8", layout="hwc", box=["a", "b", "c", "d"])
    return treatment(picture, box=box)


def test_by_the_shortest_or_longest_side() -> None:
    picture = draw(9, 128, 192)
    by_hand = pannier.Treatment((64, 96), fit="fill", values="raw", dtype="uint8", layout="hwc")(picture)
    shortest = pannier.Treatment(56, fit="shortest", side=64, values="raw", dtype="uint8", layout="hwc")(picture)
    assert np.array_equal(shortest, by_hand[4:60, 20:76])
    longest = pannier.Treatment(96, fit="longest", pad="black", values="raw", dtype="uint8", layout="hwc")(picture)
    assert np.array_equal(longest[16:80], by_hand)
    assert not longest[:16].any()


@settings(max_examples=40, deadline=None)
@given(
    values=st.sampled_from(["raw", "unit", "signed", "standard", "table"]),
    dtype=st.sampled_from(["float32", "float16"]),
    layout=st.sampled_from(["chw", "hwc"]),
    color=st.sampled_from(["rgb", "gray"]),
    seed=st.integers(0, 99),
)
def test_undoing_gives_the_pixels_within_half_a_step(values: str, dtype: str, layout: str, color: str, seed: int) -> None:
    channels = 1 if color == "gray" else 3
    numbers: dict[str, Any] = {}
    if values == "standard":
        numbers = {"mean": [0.4] * channels, "std": [0.25] * channels}
    if values == "table":
        numbers = {"table": [(each - 20) ** 2 / 3e4 * (1 if each > 20 else -1) for each in range(256)]}
    treatment = pannier.Treatment((30, 40), values=values, dtype=dtype, layout=layout, color=color, **numbers)
    raw = pannier.Treatment((30, 40), values="raw", dtype="uint8", layout="hwc", color=color)
    picture = np.random.default_rng(seed).integers(0, 256, (30, 40, 3), dtype=np.uint8)
    array = treatment(picture)
    assert array.dtype == np.dtype(dtype)
    assert array.shape == treatment.shape
    near = 0 if dtype == "float32" and values != "table" else 2 if values == "table" else 1
    assert np.abs(treatment.undo(array).astype(int) - raw(picture)).max() <= near


def test_values_follow_their_formulas() -> None:
    pixels = plain(PICTURE).astype(np.float32)
    own = pannier.Treatment((45, 60), values="per_picture", layout="hwc")(PICTURE)
    mean, std = pixels.mean(axis=(0, 1), dtype=float), pixels.std(axis=(0, 1), dtype=float)
    assert np.abs(own - (pixels - mean) / std).max() < 1e-4
    assert not pannier.Treatment(9, values="per_picture")(np.full((9, 9, 3), 50, np.uint8)).any()
    shown = pannier.Treatment((45, 60), values="per_picture", layout="hwc").undo(own)
    assert shown.mean() == pytest.approx(127.5, abs=3)
    half = pannier.Treatment((45, 60), dtype="float16", layout="hwc")(PICTURE)
    assert np.array_equal(half, (pixels * np.float32(1 / 255)).astype(np.float16))
    table = np.sqrt(np.arange(256)).astype(np.float32)
    assert np.array_equal(
        pannier.Treatment((45, 60), values="table", table=table, layout="hwc")(PICTURE), table[plain(PICTURE)]
    )


def odd_pictures() -> dict[str, bytes]:
    """Every kind that makes trouble somewhere."""
    small = draw(2, 37, 51)
    kinds = {
        "one pixel": encoded(np.array([[[9, 99, 199]]], np.uint8), "png"),
        "one row": encoded(draw(1, 1, 4000), "png"),
        "one column": encoded(draw(1, 4000, 1), "jpeg"),
        "gray": encoded(small[..., 0], "jpeg"),
        "gray and alpha": encoded(np.dstack([small[..., 0], small[..., 1]]), "png"),
        "16 bit": cv2.imencode(".png", small.astype(np.uint16) * 257)[1].tobytes(),
        "progressive": encoded(draw(3, 300, 400), "jpeg", progressive=True),
        "palette": _saved(Image.fromarray(small).convert("P"), "png", transparency=3),
        "cmyk": _saved(Image.fromarray(small).convert("CMYK"), "jpeg"),
        "bilevel": _saved(Image.fromarray(small).convert("1"), "png"),
        "animated": _saved(Image.fromarray(small), "gif", save_all=True, append_images=[Image.fromarray(small[::-1])]),
    }
    for turn in range(1, 9):
        exif = Image.Exif()
        exif[274] = turn
        kinds[f"turned {turn}"] = encoded(draw(4, 60, 90), "jpeg", exif=exif)
    return kinds


def _saved(image: Image.Image, kind: str, **options: Any) -> bytes:
    sink = io.BytesIO()
    image.save(sink, kind, **options)
    return sink.getvalue()


@pytest.mark.parametrize(
    "fields",
    [
        {"fit": "contain", "tone": "clahe"},
        {"trim": 4, "filter": "lanczos", "color": "gray", "tone": "equalize"},
        {"turn": 15, "zoom": 1.2, "shift": 0.1, "brightness": 0.2, "tone": "autocontrast", "tone_gamma": 1.4},
        {"fit": "longest", "side": 20, "crop": 0.5, "values": "per_picture", "noise": 0.1, "erase": 1.0},
        {"gray_weights": [1, 0, 0], "color": "gray", "filter": "bicubic", "jpeg": 50, "blur": 0.02, "layout": "hwc"},
    ],
)
def test_every_odd_picture_goes_through(fields: dict[str, Any]) -> None:
    treatment = pannier.Treatment((24, 40), **fields)
    preparation = Preparation(treatment)
    for name, data in odd_pictures().items():
        for variation in (None, variations(treatment, HASH, 1, 0)[0]):
            array = preparation.one(data, variation=variation)
            assert array.shape == treatment.shape, name
            assert np.isfinite(array).all(), name
        shown = Image.open(io.BytesIO(data))
        if name not in ("16 bit",) and "contain" not in str(fields):
            assert likeness(treatment.undo(treatment(shown)), treatment.undo(treatment(pixels_of(data)))) > 15, name
    with pytest.raises(pannier.PictureError, match="cut short"):
        treatment(odd_pictures()["progressive"][:2000])


def _halve(pixels: np.ndarray) -> np.ndarray:
    return pixels // 2


def test_own_steps_run_where_they_say() -> None:
    busy = threading.Lock()

    @pannier.own_step("test negative", version=3, at="decoded")
    def negative(pixels: np.ndarray) -> np.ndarray:
        assert busy.acquire(blocking=False), "two threads at once in a step that is not thread-safe"
        try:
            return 255 - pixels
        finally:
            busy.release()

    pannier.own_step("test halve", at="values", thread_safe=True)(lambda array: array / 2)

    @pannier.own_step("test seeded", at="light", thread_safe=True)
    def seeded(pixels: np.ndarray, seed: int) -> np.ndarray:
        return np.full_like(pixels, seed % 251)

    treatment = pannier.Treatment((45, 60), values="raw", layout="hwc", own=["test negative", "test halve", "test seeded"])
    assert np.abs(treatment(PICTURE) - (255 - plain(PICTURE)).astype(np.float32) / 2).max() <= 1
    assert treatment.varies == ("test seeded",)
    assert len({augmented(PICTURE, own="test seeded").ravel()[0]}) == 1
    assert treatment.fixed_part != treatment.with_fields(own=[]).fixed_part
    assert treatment.with_fields(own=["test negative", "test halve"]).varying_part != treatment.varying_part
    with pytest.raises(TreatmentError, match="names version 2"):
        pannier.Treatment(8, own=[{"name": "test negative", "version": 2, "at": "decoded"}])
    with pytest.raises(UsageError, match="registered already"):
        pannier.own_step("test negative", version=4, at="decoded")(_halve)
    pannier.own_step("test wrong", at="values")(lambda array: array[:1])
    with pytest.raises(TreatmentError, match="shape and dtype must stay"):
        pannier.Treatment(8, own=["test wrong"])(PICTURE)


def test_an_own_step_that_fails_is_named_with_its_record(own: pannier.Snapshot) -> None:
    key = sorted(record.key for record in own)[4]
    bad = own[key].picture()

    @pannier.own_step("test fussy", at="decoded")
    def fussy(array: Any) -> Any:
        if array.shape == bad.shape and (array == bad).all():
            raise KeyError("no such weave")
        return array

    treatment = pannier.Treatment(12, own=["test fussy"])
    with pytest.raises(TreatmentError, match="own step 'test fussy' ended with KeyError: 'no such weave'"):
        treatment(bad)
    for workers in (1, 3):
        with pytest.raises(TreatmentError) as caught, own.feed(None, treatment, workers=workers) as feed:
            list(feed)
        assert str(caught.value).startswith(f"record {key!r}: own step 'test fussy' ended with KeyError")
        assert isinstance(caught.value.__cause__, KeyError)


def test_what_an_own_step_gets_is_its_own(own: pannier.Snapshot) -> None:
    kept: list[Any] = []

    def keeping(array: Any, *_: Any) -> Any:
        kept.append((array, array.copy()))
        return array

    def changing(array: Any, *_: Any) -> Any:
        kept[-1][0][:] = 7  # what the step before kept, and gave back
        array[:] = 0
        return array

    for place in ("decoded", "light", "values"):
        kept.clear()
        names = [f"test {kind} {place}" for kind in ("keeping", "changing")]
        for name, function in zip(names, (keeping, changing), strict=True):
            pannier.own_step(name, at=place)(function)
        picture = PICTURE.copy()
        pannier.Treatment((45, 60), values="raw", own=names)(picture)
        assert (picture == PICTURE).all()
        kept.clear()
        with own.feed(None, pannier.Treatment(12, own=names[:1]), augment=True, workers=2, batch_size=4) as feed:
            for batch in feed:
                batch.images[:] = 0
        assert len(kept) == len(own)
        assert all((array == as_it_was).all() for array, as_it_was in kept)


def test_an_own_step_that_calls_its_treatment_is_told() -> None:
    @pannier.own_step("test endless", at="decoded")
    def endless(array: Any) -> Any:
        return treatment(array)

    treatment = pannier.Treatment((45, 60), values="raw", layout="hwc", own=["test endless"])
    with pytest.raises(TreatmentError, match="'test endless' calls the treatment of which it is a step"):
        treatment(PICTURE)


def test_a_feed_does_not_wait_for_an_own_step_that_sleeps(own: pannier.Snapshot, caplog: Any) -> None:
    until, is_there = threading.Event(), threading.Event()

    @pannier.own_step("test sleepy", thread_safe=True)
    def sleepy(array: Any) -> Any:
        is_there.set()
        until.wait(60)
        return array

    feed = own.feed(None, pannier.Treatment(12, own=["test sleepy"]), workers=2)

    def consume() -> None:
        with contextlib.suppress(PannierError):
            next(iter(feed))

    consuming = threading.Thread(target=consume, daemon=True)
    consuming.start()
    assert is_there.wait(60)
    started = time.monotonic()
    feed.close()
    assert time.monotonic() - started < 30
    assert "an own step is still at work" in caplog.text
    until.set()
    consuming.join(60)


def test_a_file_names_own_steps_and_imports_nothing(tmp_path: Path) -> None:
    path = tmp_path / "own.toml"
    path.write_text('size = 8\nown = ["os.system"]\n')
    with pytest.raises(TreatmentError, match="registered"):
        pannier.Treatment.from_file(path)


def test_files_keep_comments_and_say_what_is_not_default(tmp_path: Path) -> None:
    path = tmp_path / "cloth.toml"
    path.write_text("# for the looms\nsize = 24 # small\nturn = 5\nflip = 'both'\n")
    treatment = pannier.Treatment.from_file(path)
    changed = treatment.with_fields(
        values="standard", mean=[0.1, 0.2, 0.3], std=[0.4, 0.5, 0.6], turn={"range": [-3, 3], "chance": 0.5}, flip="none"
    )
    changed.save(path)
    text = path.read_text()
    assert "# for the looms" in text
    assert "# small" in text
    assert "flip" not in text
    assert pannier.Treatment.from_file(path) == changed
    rich = pannier.Treatment(
        (20, 30), crop={"area": [0.5, 1]}, erase=0.5, gray=0.1, order=["hue"], hue=5, box=["a", "b", "c", "d"], pad="#112233"
    )
    rich.save(tmp_path / "rich.toml")
    assert pannier.Treatment.from_file(tmp_path / "rich.toml") == rich
    with pytest.raises(NotFoundError, match="`new`"):
        pannier.Treatment.from_file(tmp_path / "none.toml")


def test_identities_part_fixed_from_varying() -> None:
    one = pannier.Treatment(32, margin=0.2, scale=1.2, turn=5)
    other = pannier.Treatment(32, margin=0.2, scale=1.2, turn=9, brightness=0.1, values="signed")
    assert one.fixed_part == other.fixed_part
    assert one.varying_part != other.varying_part
    assert one.identity != other.identity
    assert pannier.Treatment(32, turn=5) == pannier.Treatment(
        32,
        turn=5,
        margin=pannier.Treatment(32, turn=5).frame.margin[0] / pannier.Treatment(32, turn=5).frame.view[0],
        scale=1.1,
    )
    assert pannier.Treatment(32, tone="clahe").fixed_part != pannier.Treatment(32).fixed_part


def test_numbers_measured_through_another_fixed_part_are_refused(packed: pannier.Snapshot) -> None:
    measured = pannier.Treatment(24).measured(packed, "train")
    assert measured.measured_on is not None
    picture = packed[0].bytes()
    measured.with_fields(turn=10, flip="both", layout="hwc")(picture)
    for fields, says in (
        ({"size": 32}, "measured at size = 24x24, this treatment has 32x32"),
        ({"fit": "contain"}, "measured at fit = cover"),
        ({"filter": "bicubic"}, "measured at filter = bilinear"),
        ({"tone": "equalize"}, "measured at tone = none"),
    ):
        other = measured.with_fields(**fields)
        with pytest.raises(TreatmentError, match=says):
            other(picture)
        with pytest.raises(TreatmentError, match="pannier stats"):
            packed.feed("train", other)
        assert other.measured(packed, "train")(picture) is not None


def test_a_measured_split_that_has_changed_is_a_warning(own: pannier.Snapshot, caplog: Any) -> None:
    measured = pannier.Treatment(24).measured(own, "train")
    key = next(record.key for record in own if record.split == "val")
    moved = own.store.change(remove=True, where=f"key = '{key}'").snapshot
    with caplog.at_level(logging.WARNING), moved.feed("train", measured) as feed:
        assert not feed.notes
    key = next(record.key for record in own if record.split == "train")
    changed = moved.store.change(remove=True, where=f"key = '{key}'").snapshot
    with caplog.at_level(logging.WARNING), changed.feed("train", measured) as feed:
        assert "measured on train when it held other pictures" in feed.notes[0]
    assert "measured on train" in caplog.text
