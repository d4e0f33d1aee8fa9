"""Treatments: what they accept, what they make, that they make it the same from anywhere."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from hypothesis import example, given, settings
from hypothesis import strategies as st
from PIL import Image

import pannier
from pannier.errors import NotFoundError, TreatmentError, UsageError
from pannier.images.chance import Variation
from pannier.images.colors import to_gray
from pannier.images.cost import Kind, decoding_costs, kind_of
from pannier.images.kernels import resize as kernels
from pannier.images.placement import place
from pannier.images.prepare import FLIP_HORIZONTAL, FLIP_VERTICAL, Preparation, pixels_of
from tests.conftest import draw, encoded, likeness

sides = st.one_of(st.integers(1, 90), st.sampled_from([1, 2, 3, 7, 8, 200, 333]))
fits = st.sampled_from(["cover", "contain", "fill"])


@pytest.mark.parametrize(
    ("source", "target"), [((375, 500), 224), ((375, 500), (96, 128)), ((60, 80), (150, 90)), ((700, 400), 50)]
)
def test_the_kernel_is_near_pillows_antialiased_bilinear(source: tuple[int, int], target: int | tuple[int, int]) -> None:
    picture = draw(1, *source)
    noisy = np.clip(picture + np.random.default_rng(0).normal(0, 6, picture.shape), 0, 255).astype(np.uint8)
    treatment = pannier.Treatment(target, values="raw", layout="hwc")
    height, width = treatment.size
    (top, left, tall, wide), _ = place(*source, treatment.frame)
    box = (left, top, left + wide, top + tall)
    expected = np.asarray(Image.fromarray(noisy).resize((width, height), Image.Resampling.BILINEAR, box=box))
    assert likeness(treatment(noisy), expected) >= 54


@settings(max_examples=150, deadline=None)
@example(h=25, w=66, tall=1, wide=1, fit="cover", gray=False, flips=0, seed=0)
@example(h=400, w=3, tall=2, wide=90, fit="fill", gray=True, flips=3, seed=0)
@given(
    h=sides,
    w=sides,
    tall=sides,
    wide=sides,
    fit=fits,
    gray=st.booleans(),
    flips=st.integers(0, 3),
    seed=st.integers(0, 99),
)
def test_any_size_fits_its_scratch_and_keeps_to_its_canvas(
    h: int, w: int, tall: int, wide: int, fit: str, gray: bool, flips: int, seed: int
) -> None:
    """The kernel has no bounds checks: its scratch memory and its output are fenced here."""
    treatment = pannier.Treatment(
        (tall, wide), fit=fit, color="gray" if gray else "rgb", values="raw", dtype="uint8", pad="#010203"
    )
    picture = np.random.default_rng(seed).integers(4, 256, (h, w) if gray else (h, w, 3), dtype=np.uint8)
    box, target = place(h, w, treatment.frame)
    channels = treatment.channels
    room = kernels.scratch_bytes(h, w, channels, target[0], target[1])
    room = -(-room // 8) * 8
    scratch = np.full(room + 512, 171, np.uint8)
    fenced = np.full((channels * tall * wide + 512,), 171, np.uint8)
    out = fenced[256 : 256 + channels * tall * wide].reshape(channels, tall, wide)
    values = np.ones(3, np.float32), np.zeros(3, np.float32)
    pad = to_gray(np.array([[treatment.pad]], np.uint8)).ravel() if gray else np.array(treatment.pad, np.uint8)
    within = scratch[256 : 256 + room]
    window, scratch_room = (
        (0, 0, tall, wide),
        (within, within.view(np.uint16), within.view(np.int32), within.view(np.uint64)),
    )
    lies = picture.reshape(h, -1)
    kept = out.copy()
    is_partly_free = kernels.prepare(lies, channels, box, target, flips, 1, *values, window, scratch_room, out, kept)
    assert np.array_equal(out, kept), "kept as they are, and as values that are the same"
    if is_partly_free:
        kernels.fill_edges(out, target, window, 0, pad, *values)
    for fence in (scratch[:256], scratch[-256:], fenced[:256], fenced[-256:]):
        assert (fence == 171).all()
    inner = out[:, target[2] : target[2] + target[0], target[3] : target[3] + target[1]]
    assert inner.min() >= picture.min() - 1
    assert inner.max() <= picture.max()
    outside = out.copy()
    outside[:, target[2] : target[2] + target[0], target[3] : target[3] + target[1]] = pad[:channels, None, None]
    assert (outside == pad[:channels, None, None]).all()
    assert room <= int(_bound(h, w, treatment))


def _bound(h: int, w: int, treatment: pannier.Treatment) -> int:
    one = np.array([1])
    kinds = Kind(*(one * number for number in kind_of("png", "rgb", "rgb")))
    costs = decoding_costs(kinds, np.array([h]), np.array([w]), one, one == 0, one, treatment)
    return int(costs.scratch[0])


@settings(max_examples=40, deadline=None)
@given(h=sides, w=sides, flips=st.integers(0, 3), fit=fits)
def test_a_flipped_picture_is_the_mirrored_array(h: int, w: int, flips: int, fit: str) -> None:
    preparation = Preparation(pannier.Treatment((24, 40), fit=fit, pad="black"))
    plain, flipped = np.empty((3, 24, 40), np.float32), np.empty((3, 24, 40), np.float32)
    picture = draw(h * 100 + w, h, w)
    preparation.pixels_into(picture, plain)
    preparation.pixels_into(picture, flipped, Variation(flips))
    steps_y, steps_x = -1 if flips & FLIP_VERTICAL else 1, -1 if flips & FLIP_HORIZONTAL else 1
    assert np.array_equal(plain[:, ::steps_y, ::steps_x], flipped)


@pytest.mark.parametrize(
    "fields", [{}, {"fit": "contain"}, {"color": "gray", "layout": "hwc"}, {"values": "raw", "dtype": "uint8"}]
)
def test_a_path_bytes_and_an_array_give_the_same(tmp_path: Path, fields: dict[str, object]) -> None:
    treatment = pannier.Treatment(32, **fields)
    data = encoded(draw(9, 50, 61), "png")
    (tmp_path / "p.png").write_bytes(data)
    array = treatment(data)
    assert array.shape == treatment.shape
    assert array.dtype == treatment.dtype
    assert np.array_equal(array, treatment(tmp_path / "p.png"))
    assert np.array_equal(array, treatment(pixels_of(data)))


def test_reduced_decoding_costs_nothing_one_can_see() -> None:
    data = encoded(draw(2, 900, 1200), "jpeg", quality=92)
    treatment = pannier.Treatment(96, values="raw")
    assert likeness(treatment(data), treatment(pixels_of(data))) >= 48


BAD = [
    ({}, "needs a size"),
    ({"size": 0}, "sides from 1"),
    ({"size": "big"}, "must be one number, as 96"),
    ({"size": 9, "fitt": "cover"}, "no field 'fitt'; did you mean 'fit'"),
    ({"size": 9, "fit": "covr"}, "fit = 'covr': must be 'cover', 'contain', 'fill', 'shortest' or 'longest'"),
    ({"size": 9, "pad": "redd"}, "color name"),
    ({"size": 9, "pad": [1, 2, 300]}, "color name"),
    ({"size": 9, "dtype": "uint8"}, "goes with values"),
    ({"size": 9, "mean": [0.5] * 3, "std": [0.2] * 3}, "standard"),
    ({"size": 9, "values": "standard", "mean": [0.5] * 3}, "go together"),
    ({"size": 9, "values": "standard", "mean": [0.5] * 3, "std": [0.2, 0, 0.2]}, "above 0"),
    ({"size": 9, "values": "standard", "color": "gray", "mean": [0.5] * 3, "std": [0.2] * 3}, "1 numbers"),
]


@pytest.mark.parametrize(("fields", "says"), BAD)
def test_a_wrong_field_is_named_with_what_is_allowed(fields: dict[str, object], says: str) -> None:
    with pytest.raises(TreatmentError, match=says):
        pannier.Treatment(**fields)


def test_a_file_and_keywords_are_one_schema(tmp_path: Path) -> None:
    path = tmp_path / "cloth.toml"
    path.write_text('size = [24, 32]\nfit = "contain"\npad = "black"\n')
    treatment = pannier.Treatment.from_file(path, color="gray")
    assert treatment == pannier.Treatment((24, 32), fit="contain", pad=(0, 0, 0), color="gray")
    assert len({treatment, pannier.Treatment((24, 32), fit="contain", pad="#000000", color="gray")}) == 1
    path.write_text("size = 24\ncolour = 'gray'\n")
    with pytest.raises(TreatmentError, match=r"cloth.toml: a treatment has no field 'colour'; did you mean 'color'"):
        pannier.Treatment.from_file(path)
    with pytest.raises(NotFoundError):
        pannier.Treatment.from_file(tmp_path / "none.toml")


def test_what_is_no_picture_is_said() -> None:
    treatment = pannier.Treatment(8)
    with pytest.raises(UsageError, match="float64"):
        treatment(np.zeros((4, 4, 3)))
    with pytest.raises(UsageError, match="not int"):
        treatment(5)  # type: ignore[arg-type]
    with pytest.raises(TreatmentError, match="measured"):
        pannier.Treatment(8, values="standard")(draw(1))
