"""Random geometry: where pixels land, what the margin holds, how sharp it stays, and what is drawn."""

from __future__ import annotations

import math
from typing import Any

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from PIL import Image
from scipy import stats

import pannier
from pannier.errors import TreatmentError
from pannier.images.chance import Variation, draw_numbers, variations
from pannier.images.kernels.warp import warp
from pannier.images.placement import place
from pannier.images.prepare import Preparation
from tests.conftest import draw, likeness

HASHES = np.random.default_rng(5).integers(0, 2**64, 20_000, dtype=np.uint64)

spans = st.tuples(st.floats(0, 1), st.floats(0, 1)).map(sorted)


@st.composite
def geometries(draw_from: Any) -> dict[str, Any]:
    """Random steps within what the proposed margin and scale carry."""

    def span(low: float, high: float) -> list[float]:
        first, last = draw_from(spans)
        return [low + first * (high - low), low + last * (high - low)]

    ranges = {
        "turn": (-25, 25),
        "shear": (-10, 10),
        "shift": (-0.1, 0.1),
        "zoom": (0.75, 1.6),
        "stretch": (0.85, 1.2),
        "perspective": (-0.05, 0.05),
    }
    chosen = draw_from(st.sets(st.sampled_from(sorted(ranges)), min_size=1, max_size=3))
    fields: dict[str, Any] = {name: span(*ranges[name]) for name in sorted(chosen)}
    if draw_from(st.booleans()):
        fields["flip"] = "both"
    if draw_from(st.booleans()):
        fields["crop"] = {"area": [0.5, 1.0], "shape": 1.2}
    return fields


def matrix_of(variation: Variation) -> np.ndarray:
    return np.array(variation.matrix).reshape(3, 3)


def at(matrix: np.ndarray, x: float, y: float) -> tuple[float, float]:
    u, v, w = matrix @ np.array([x, y, 1.0])
    return u / w, v / w


@settings(max_examples=60, deadline=None)
@given(fields=geometries(), tall=st.integers(24, 90), wide=st.integers(24, 90), seed=st.integers(0, 999))
def test_margins_never_show_the_border(fields: dict[str, Any], tall: int, wide: int, seed: int) -> None:
    treatment = pannier.Treatment((tall, wide), **fields)
    frame = treatment.frame
    if max(frame.margin[0] / frame.view[0], frame.margin[1] / frame.view[1]) > 0.499:
        return  # capped, as it says
    for variation in variations(treatment, HASHES[:50], seed, 0):
        top, left, height, width = variation.window
        assert 0 <= top <= top + height <= frame.canvas[0]
        assert 0 <= left <= left + width <= frame.canvas[1]
        for x, y in ((0, 0), (wide, 0), (0, tall), (wide, tall)):
            u, v = at(matrix_of(variation), x, y)
            assert 0.5 <= u <= frame.canvas[1] - 0.5
            assert 0.5 <= v <= frame.canvas[0] - 0.5


@settings(max_examples=40, deadline=None)
@given(fields=geometries(), seed=st.integers(0, 999))
def test_a_part_of_the_canvas_gives_what_the_whole_gives(fields: dict[str, Any], seed: int) -> None:
    """Without rendering only the part that the warp needs is made; borders and small pictures included."""
    for border in ("mirror", "edge", "pad"):
        treatment = pannier.Treatment((40, 56), values="raw", border=border, margin=0.1, **fields)
        preparation = Preparation(treatment)
        picture = draw(seed, 30 + seed % 90, 45 + seed % 50)
        canvas = preparation.one_canvas(picture)
        for variation in variations(treatment, HASHES[:4], seed, 1):
            from_canvas = np.empty(treatment.shape, np.float32)
            preparation.from_canvas(canvas, from_canvas, variation)
            assert np.array_equal(preparation.one(picture, variation=variation), from_canvas)


def test_dots_land_where_the_matrix_says() -> None:
    treatment = pannier.Treatment(96, values="raw", color="gray", turn=20, zoom=1.3, shift=0.1, perspective=0.06, shear=6)
    frame = treatment.frame
    for variation in variations(treatment, HASHES[:30], 1, 0):
        matrix = matrix_of(variation)
        for x, y in ((20.5, 30.5), (70.5, 20.5), (48.5, 76.5)):
            u, v = at(matrix, x, y)
            canvas = np.zeros((1, *frame.canvas), np.uint8)
            rows, columns = np.mgrid[0 : frame.canvas[0], 0 : frame.canvas[1]] + 0.5
            canvas[0] = np.clip(255 - 12 * np.hypot(rows - v, columns - u), 0, 255)
            seen = Preparation(treatment)
            out = np.empty(treatment.shape, np.float32)
            seen.from_canvas(canvas, out, variation)
            weights = np.clip(out[0] - 60, 0, None)
            ys, xs = np.mgrid[0:96, 0:96] + 0.5
            found = (xs * weights).sum() / weights.sum(), (ys * weights).sum() / weights.sum()
            assert found == pytest.approx((x, y), abs=0.35)


@pytest.mark.parametrize("angle", [0.0, 11.0, 45.0, 90.0])
def test_a_warp_and_its_inverse_give_the_picture_back(angle: float) -> None:
    picture = np.moveaxis(draw(7, 120, 120), -1, 0).copy()
    turn = np.array([[math.cos(math.radians(angle)), -math.sin(math.radians(angle))], [math.sin(math.radians(angle)), 0]])
    turn[1, 1] = turn[0, 0]
    rows, columns = np.empty(120, np.int32), np.empty(120, np.int32)
    current = picture
    for matrix in (turn, turn.T):
        shift = np.array([60, 60]) - matrix @ np.array([60, 60])
        nine = (*matrix[0], shift[0], *matrix[1], shift[1], 0.0, 0.0, 1.0)
        out = np.empty_like(picture)
        room = rows, columns, np.empty(120 * 120, np.uint32), np.empty((4, 120), np.uint32)
        warp(current.reshape(3, -1), 120, (0, 0), (120, 120), nine, (1.0, 1.0), 2, np.zeros(3, np.uint8), *room, out)
        current = out
    middle = (slice(None), slice(36, 84), slice(36, 84))
    assert likeness(current[middle], picture[middle]) >= (90 if angle in (0.0, 90.0) else 44)


def reference(picture: np.ndarray, treatment: pannier.Treatment, variation: Variation, fine: int = 4) -> np.ndarray:
    """The same warp straight from the original picture: a triangle as wide as a pixel of the view, finely sampled."""
    height, width = treatment.size
    (top, left, tall, wide), (rows, columns, above, before) = place(*picture.shape[:2], treatment.frame)
    down, across = tall / rows, wide / columns
    to_source = np.array([[across, 0, left - before * across], [0, down, top - above * down], [0, 0, 1]])
    matrix = to_source @ matrix_of(variation)
    around = 400
    padded = np.pad(picture.astype(float), ((around, around), (around, around), (0, 0)), mode="symmetric")
    total, weights = np.zeros((3, height, width)), 0.0
    ys, xs = np.mgrid[0:height, 0:width] + 0.5
    steps = (np.arange(2 * fine) + 0.5) / fine - 1
    for y in steps:
        for x in steps:
            u, v, w = np.tensordot(matrix, np.stack([xs + x, ys + y, np.ones_like(xs)]), 1)
            u, v = u / w - 0.5, v / w - 0.5
            i, j = np.floor(v).astype(int), np.floor(u).astype(int)
            fy, fx = (v - i)[..., None], (u - j)[..., None]
            i, j = i + around, j + around
            upper = padded[i, j] * (1 - fx) + padded[i, j + 1] * fx
            lower = padded[i + 1, j] * (1 - fx) + padded[i + 1, j + 1] * fx
            weight = (1 - abs(x)) * (1 - abs(y))
            total += weight * np.moveaxis(upper * (1 - fy) + lower * fy, -1, 0)
            weights += weight
    return total / weights


def photograph() -> np.ndarray:
    """500 x 375, soft as a photograph, with a camera's noise."""
    rng = np.random.default_rng(3)
    coarse = Image.fromarray(rng.integers(0, 256, (24, 32, 3), dtype=np.uint8))
    smooth = np.asarray(coarse.resize((500, 375), Image.Resampling.BICUBIC), float)
    return np.clip(smooth + rng.normal(0, 6, smooth.shape), 0, 255).astype(np.uint8)


@pytest.mark.parametrize("zoom", [0.5, 0.7, 0.85, 1.0, 1.25, 1.6, 1.9])
def test_zoomed_in_or_out_it_stays_as_sharp_as_one_warp_from_the_original(zoom: float) -> None:
    treatment = pannier.Treatment(128, values="raw", turn=[-12, 12], zoom=[zoom, zoom])
    preparation, picture = Preparation(treatment), photograph()
    cut = 32 if zoom < 1 else 0  # further out mirrored pixels are seen, which differ by parts of a pixel
    inner = (slice(None), slice(cut, 128 - cut), slice(cut, 128 - cut))
    for variation in variations(treatment, HASHES[:2], 0, 0):
        got = preparation.one(picture, variation=variation)
        assert likeness(got[inner], reference(picture, treatment, variation)[inner]) >= 48


def test_without_augmenting_the_canvas_gives_the_plain_picture() -> None:
    plain = pannier.Treatment(64, values="raw")
    same = pannier.Treatment(64, values="raw", margin=0.25, scale=1.0, turn=10)
    finer = pannier.Treatment(64, values="raw", turn=10, zoom=1.3)
    picture = draw(4, 300, 400)
    assert np.abs(same(picture).astype(int) - plain(picture)).max() <= 1
    assert likeness(finer(picture), plain(picture)) >= 40


def test_a_mirrored_warp_is_the_mirrored_picture() -> None:
    treatment = pannier.Treatment(48, values="raw", flip="both", flip_chance=1.0, margin=0.0, scale=1.0, turn=[0, 0])
    picture = draw(8, 130, 110)
    variation = variations(treatment, HASHES[:1], 0, 0)[0]
    assert np.array_equal(Preparation(treatment).one(picture, variation=variation), treatment(picture)[:, ::-1, ::-1])


CLAIMS = [
    ({"turn": [-10, 20]}, "turn", lambda n: (n[:, 0] + 10) / 30),
    ({"zoom": [0.5, 2]}, "zoom", lambda n: (np.log(n[:, 0]) - math.log(0.5)) / math.log(4)),
    ({"stretch": 1.5}, "stretch", lambda n: np.log(n[:, 0]) / math.log(1.5) / 2 + 0.5),
    ({"shift": 0.1}, "shift", lambda n: n[:, 0] * 5 + 0.5),
    ({"shift": 0.1}, "shift", lambda n: n[:, 1] * 5 + 0.5),
    ({"shear": 5}, "shear", lambda n: n[:, 1] / 10 + 0.5),
    ({"perspective": 0.1}, "perspective", lambda n: n[:, 7] * 5 + 0.5),
    ({"brightness": 0.2}, "brightness", lambda n: (n[:, 0] - 0.8) / 0.4),
    ({"contrast": [1, 1.5]}, "contrast", lambda n: (n[:, 0] - 1) * 2),
    ({"saturation": 0.5}, "saturation", lambda n: n[:, 0] - 0.5),
    ({"hue": 30}, "hue", lambda n: n[:, 0] / 60 + 0.5),
    ({"gamma": 2}, "gamma", lambda n: np.log2(n[:, 0]) / 2 + 0.5),
    ({"blur": 0.01}, "blur", lambda n: n[:, 0] * 100),
    ({"noise": [0.1, 0.2]}, "noise", lambda n: n[:, 0].astype(float) * 10 - 1),
    ({"crop": {"area": [0.2, 1.0], "shape": 2}}, "crop", lambda n: (n[:, 0] - 0.2) / 0.8),
    ({"crop": {"area": [0.2, 1.0], "shape": 2}}, "crop", lambda n: np.log2(n[:, 1]) / 2 + 0.5),
    ({"erase": {"area": [0.1, 0.2]}}, "erase", lambda n: n[:, 0]),
]


@pytest.mark.parametrize(("fields", "name", "even"), CLAIMS)
def test_what_is_drawn_is_spread_as_claimed(fields: dict[str, Any], name: str, even: Any) -> None:
    drawn = draw_numbers(pannier.Treatment(32, **fields), HASHES, 3, 1)[name]
    assert drawn.active.all()
    assert stats.kstest(even(drawn.numbers), "uniform").pvalue > 0.001


def test_qualities_and_chances_are_as_claimed() -> None:
    treatment = pannier.Treatment(32, jpeg={"range": [30, 33], "chance": 0.25}, gray=0.1, flip="both", flip_chance=0.3)
    drawn = draw_numbers(treatment, HASHES, 0, 0)
    assert drawn["jpeg"].active.mean() == pytest.approx(0.25, abs=0.015)
    assert drawn["gray"].active.mean() == pytest.approx(0.1, abs=0.01)
    assert stats.chisquare(np.bincount(drawn["jpeg"].numbers[:, 0].astype(int))[30:]).pvalue > 0.001
    bits = drawn["flip"].numbers[:, 0]
    assert (bits & 1).mean() == pytest.approx(0.3, abs=0.015)
    assert ((bits & 1) & (bits >> 1)).mean() == pytest.approx(0.09, abs=0.01)
    steps = draw_numbers(pannier.Treatment(32, turn=10, hue=10), HASHES, 0, 0)
    assert abs(np.corrcoef(steps["turn"].numbers[:, 0], steps["hue"].numbers[:, 0])[0, 1]) < 0.03


def test_draws_hang_on_seed_epoch_key_and_step_alone() -> None:
    one = pannier.Treatment(32, turn=10)
    more = pannier.Treatment(64, turn=10, flip="both", zoom=1.2, noise=0.1)
    first, second = (draw_numbers(each, HASHES[:100], 4, 2)["turn"].numbers for each in (one, more))
    assert np.array_equal(first, second)
    assert not np.array_equal(first, draw_numbers(one, HASHES[:100], 4, 3)["turn"].numbers)
    assert [float(x) for x in first[:2, 0]] == pytest.approx([FROZEN_TURNS[0], FROZEN_TURNS[1]], abs=1e-12)


FROZEN_TURNS = (6.987306270128403, 9.388795693540551)


@pytest.mark.parametrize(
    ("fields", "says"),
    [
        ({"turn": 200}, "turn = 200: must be degrees from -180 to 180: one number, or"),
        ({"zoom": [1.2, 0.8]}, "factors from 0.25 to 4"),
        ({"zoom": 0}, "factors from 0.25 to 4"),
        ({"shift": {"range": 0.1, "chance": 2}}, "less than or equal to 1"),
        ({"shift": {"chance": 0.5}}, "range = "),
        ({"turn": "10"}, "one number"),
        ({"turn": {"range": 1, "often": 1}}, "turn has no field 'often'"),
        ({"crop": {"area": 2}}, "shares of the area"),
        ({"order": ["turn", "blurr"]}, "did you mean 'blur'"),
        ({"order": ["blur", "turn"]}, "geometry first"),
        ({"order": ["perspective", "turn"]}, "perspective is the last"),
        ({"color": "gray", "hue": 10}, "changes nothing"),
        ({"side": 9}, "side goes with"),
        ({"anchor": "upper"}, "top left"),
        ({"values": "table"}, "go together"),
        ({"own": ["none such"]}, "registered"),
        ({"gray": 2}, "a chance from 0 to 1"),
    ],
)
def test_a_wrong_random_step_is_named_with_what_is_allowed(fields: dict[str, Any], says: str) -> None:
    with pytest.raises(TreatmentError, match=says):
        pannier.Treatment(32, **fields)
