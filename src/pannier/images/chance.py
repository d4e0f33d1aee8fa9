"""Random steps: every number a hash of (seed, epoch, hash of key, step, count), so the same on every machine.

Numbers are drawn for a whole batch at once (`draw_numbers`), then made into what one picture's preparation needs
(`variations`): one matrix, stages of light, and what else is done in which order. docs/format.md has it to the bit.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any, NamedTuple

import numpy as np

from pannier.array_types import Array
from pannier.hashing import Hashes, fold, fold_each, fold_more, text_hash
from pannier.images.placement import Window, with_mirrored
from pannier.images.treatment import Treatment
from pannier.images.varying import GEOMETRY, KINDS, POINTWISE, Crop, Erase, Step

FLIP_HORIZONTAL, FLIP_VERTICAL = 1, 2

# a matrix is rounded to this part of a pixel, so that the last bit of a sine does not matter
_FINE = float(1 << 30)
_LUMA = np.array([0.299, 0.587, 0.114])
_YIQ = np.array([[0.299, 0.587, 0.114], [0.596, -0.274, -0.322], [0.211, -0.523, 0.312]])
_HIGHEST_SEED = 1 << 64


class Blotted(NamedTuple):
    """Boxes (top, left, height, width) in pixels, and their fill: a color, or a seed for noise."""

    boxes: tuple[tuple[int, int, int, int], ...]
    fill: tuple[int, int, int] | int


class Light(NamedTuple):
    """Stages of pointwise steps: int32 (stages, channels, channels + 1) with 12 bits, then a gamma each, 0 for none."""

    matrices: Array
    gammas: tuple[float, ...]


class Variation(NamedTuple):
    """What is random about one picture. `flips`: mirroring alone; `matrix`: from the view's pixels to the canvas'.

    `ratios`: canvas pixels to one of the view, down and across. `window`: the part of the canvas that is needed.
    `program`: what is done to the view's pixels, in order: (step, its numbers).
    """

    flips: int = 0
    matrix: tuple[float, ...] | None = None
    ratios: tuple[float, float] = (1.0, 1.0)
    window: Window = (0, 0, 0, 0)
    program: tuple[tuple[str, Any], ...] = ()


@dataclass(frozen=True)
class Drawn:
    """One step's numbers for many pictures: whether it is done, and its numbers (n, some)."""

    active: np.ndarray[Any, np.dtype[np.bool_]]
    numbers: Array


def draw(key_hashes: Hashes, seed: int, epoch: int, step: int, count: int) -> Hashes:
    """A 64-bit draw for each record: the hash of (seed, epoch, key hash, hash of the step's name, count)."""
    return fold_more(fold_more(fold_each(fold(seed, epoch), key_hashes), step), count)


def flips(key_hashes: Hashes, seed: int, epoch: int, flip: str, chance: float = 0.5) -> list[int]:
    """Which way each record is mirrored: bits FLIP_HORIZONTAL and FLIP_VERTICAL, each by its chance."""
    hashes = fold_more(fold_each(fold(seed, epoch), key_hashes), text_hash("flip"))
    result = np.zeros(len(key_hashes), np.int64)
    for count, (way, bit) in enumerate((("horizontal", FLIP_HORIZONTAL), ("vertical", FLIP_VERTICAL))):
        if flip in (way, "both"):
            result |= np.where(_share(fold_more(hashes, count)) >= 1 - chance, bit, 0)
    numbers: list[int] = result.tolist()
    return numbers


def _share(draws: Hashes) -> Array:
    """From 0 to below 1: the highest 53 bits."""
    return (draws >> np.uint64(11)).astype(np.float64) * 2.0**-53


def draw_numbers(treatment: Treatment, key_hashes: Hashes, seed: int, epoch: int) -> dict[str, Drawn]:
    """Every random step's numbers for these records."""
    start = fold_each(fold(seed, epoch), key_hashes)
    by_step: dict[str, Drawn] = {}
    for name in treatment.varies:
        step = getattr(treatment, name, None)
        hashes = fold_more(start, text_hash(name))

        def shares(count: int, first: int = 1, hashes: Hashes = hashes) -> Array:
            return np.stack([_share(fold_more(hashes, i)) for i in range(first, first + count)], axis=1)

        if name == "flip":
            bits = np.array(flips(key_hashes, seed, epoch, treatment.flip, treatment.flip_chance), np.int64)
            by_step[name] = Drawn(bits != 0, bits[:, None])
            continue
        chance = 1.0 if step is None else step.chance
        active = shares(1, 0)[:, 0] < chance
        if isinstance(step, Step):
            count = {"shear": 2, "shift": 2, "perspective": 8}.get(name, 1)
            numbers = _scaled(shares(count), step.range, by_factor=KINDS[name].by_factor)
            if name == "jpeg":
                numbers = np.floor(step.range[0] + shares(1) * (step.range[1] - step.range[0] + 1))
            if name == "noise":  # its deviation, and the seed of its numbers
                seeds = np.array(fold_more(hashes, 2).tolist(), object)
                numbers = np.column_stack([numbers.astype(object), seeds])
        elif isinstance(step, Crop):
            area, shape = _scaled(shares(1), step.area), _scaled(shares(1, 2), step.shape, by_factor=True)
            numbers = np.column_stack([area, shape, shares(2, 3)])
        elif isinstance(step, Erase):
            numbers = shares(4 * step.count)
        elif name == "gray":
            numbers = np.zeros((len(key_hashes), 1))
        else:
            numbers = np.array(fold_more(hashes, 1).tolist(), object).reshape(-1, 1)  # of an own step: its seed
        by_step[name] = Drawn(active, numbers)
    return by_step


def _scaled(shares: Array, pair: tuple[float, float], *, by_factor: bool = False) -> Array:
    low, high = pair
    if by_factor:
        return np.exp(math.log(low) + shares * (math.log(high) - math.log(low)))
    return low + shares * (high - low)


def variations(treatment: Treatment, key_hashes: Hashes, seed: int, epoch: int) -> list[Variation]:
    """What is random about each of these records' pictures."""
    drawn = draw_numbers(treatment, key_hashes, seed, epoch)
    count = len(key_hashes)
    programs = _programs(treatment, drawn, count)
    if treatment.is_canvas:
        bits = drawn["flip"].numbers[:, 0].tolist() if "flip" in drawn else [0] * count
        return [Variation(flips=flip, program=program) for flip, program in zip(bits, programs, strict=True)]
    matrices = matrices_of(treatment, drawn, count)
    ratios = ratios_of(treatment, matrices)
    windows = _windows(treatment, matrices, ratios)
    rows = zip(matrices.reshape(count, 9).tolist(), ratios.tolist(), windows, programs, strict=True)
    return [Variation(0, tuple(matrix), (down, across), window, program) for matrix, (down, across), window, program in rows]


def identity_matrix(treatment: Treatment) -> Array:
    """From the view's pixels, as the prepared array has them, to the canvas', (3, 3)."""
    frame, (height, width) = treatment.frame, treatment.size
    down, across = frame.view[0] / height, frame.view[1] / width
    return np.array([[across, 0.0, frame.margin[1]], [0.0, down, frame.margin[0]], [0.0, 0.0, 1.0]])


def plain(treatment: Treatment) -> Variation:
    """Nothing random: the view, as it lies on the canvas."""
    if treatment.frame.view == treatment.size:
        return Variation(window=treatment.frame.view_window)
    matrix = identity_matrix(treatment)[None]
    ratios = ratios_of(treatment, matrix)
    (window,) = _windows(treatment, matrix, ratios)
    return Variation(0, tuple(matrix.ravel().tolist()), (float(ratios[0, 0]), float(ratios[0, 1])), window)


def matrices_of(treatment: Treatment, drawn: dict[str, Drawn], count: int) -> Array:
    """The one warp of each record: (n, 3, 3), from a place in the prepared array to one on the canvas, both in pixels.

    The steps' own maps, each from where a pixel comes to lie back to where it was, around the middle of the view.
    """
    height, width = treatment.size
    total = np.broadcast_to(np.eye(3), (count, 3, 3))
    for name in treatment.order:
        if name in GEOMETRY and name in drawn:
            own = _own_matrix(name, drawn[name].numbers, height, width)
            own[~drawn[name].active] = np.eye(3)
            total = total @ own
    frame = treatment.frame
    down, across = frame.view[0] / height, frame.view[1] / width
    middle = (frame.margin[0] + frame.view[0] / 2, frame.margin[1] + frame.view[1] / 2)
    to_canvas = np.array([[across, 0.0, middle[1]], [0.0, down, middle[0]], [0.0, 0.0, 1.0]])
    from_view = np.array([[1.0, 0.0, -width / 2], [0.0, 1.0, -height / 2], [0.0, 0.0, 1.0]])
    return np.rint(to_canvas @ total @ from_view * _FINE) / _FINE


def _own_matrix(name: str, numbers: Array, height: int, width: int) -> Array:
    count = len(numbers)
    matrix = np.broadcast_to(np.eye(3), (count, 3, 3)).copy()
    first = numbers[:, 0]
    if name == "flip":
        matrix[:, 0, 0] = np.where(first.astype(np.int64) & FLIP_HORIZONTAL, -1, 1)
        matrix[:, 1, 1] = np.where(first.astype(np.int64) & FLIP_VERTICAL, -1, 1)
    elif name == "zoom":
        matrix[:, 0, 0] = matrix[:, 1, 1] = 1 / first
    elif name == "stretch":
        matrix[:, 0, 0], matrix[:, 1, 1] = 1 / np.sqrt(first), np.sqrt(first)
    elif name == "turn":
        angle = np.radians(first)
        matrix[:, 0, 0] = matrix[:, 1, 1] = np.cos(angle)
        matrix[:, 0, 1], matrix[:, 1, 0] = -np.sin(angle), np.sin(angle)
    elif name == "shear":
        matrix[:, 0, 1], matrix[:, 1, 0] = np.tan(np.radians(first)), np.tan(np.radians(numbers[:, 1]))
    elif name == "shift":
        matrix[:, 1, 2], matrix[:, 0, 2] = -first * height, -numbers[:, 1] * width
    elif name == "crop":
        across, down = np.minimum(1, np.sqrt(first * numbers[:, 1])), np.minimum(1, np.sqrt(first / numbers[:, 1]))
        matrix[:, 0, 0], matrix[:, 1, 1] = across, down
        matrix[:, 1, 2] = (numbers[:, 2] - 0.5) * (1 - down) * height
        matrix[:, 0, 2] = (numbers[:, 3] - 0.5) * (1 - across) * width
    else:
        matrix = _homographies(numbers.reshape(count, 4, 2), height, width)
    return matrix


def _homographies(moved: Array, height: int, width: int) -> Array:
    """The maps that take the view's corners to corners moved by shares (down, across) of the sides: eight equations each."""
    corners = np.array([[-width, -height], [width, -height], [width, height], [-width, height]]) / 2
    goals = corners[None] + moved[:, :, ::-1] * np.array([width, height])
    count = len(moved)
    left, right = np.zeros((count, 8, 8)), np.zeros((count, 8, 1))
    for i, (x, y) in enumerate(corners):
        u, v = goals[:, i, 0], goals[:, i, 1]
        for row, place, goal in ((2 * i, 0, u), (2 * i + 1, 3, v)):
            left[:, row, place], left[:, row, place + 1], left[:, row, place + 2] = x, y, 1
            left[:, row, 6], left[:, row, 7] = -x * goal, -y * goal
            right[:, row, 0] = goal
    solved = np.linalg.solve(left, right)[:, :, 0]
    return np.column_stack([solved, np.ones(count)]).reshape(count, 3, 3)


def ratios_of(treatment: Treatment, matrices: Array) -> Array:
    """Canvas pixels to one of the view, (n, 2) down and across, at the middle of the view: rounded to 1/1024."""
    height, width = treatment.size
    middle = matrices @ np.array([width / 2, height / 2, 1.0])
    w = middle[:, 2:3]
    place = middle[:, :2] / w
    along = (matrices[:, :2, :2] - place[:, :, None] * matrices[:, None, 2, :2]) / w[:, :, None]
    return np.rint(np.hypot(along[:, ::-1, 0], along[:, ::-1, 1]) * 1024) / 1024


def _windows(treatment: Treatment, matrices: Array, ratios: Array) -> list[Window]:
    """The part of the canvas that each warp takes its pixels from."""
    from pannier.images.kernels.warp import BILINEAR_RATIO

    height, width = treatment.size
    corners = np.array([[0, 0, 1], [width, 0, 1], [0, height, 1], [width, height, 1]], np.float64).T
    at = matrices @ corners
    places = at[:, :2] / at[:, 2:3]
    reach = np.where(ratios > BILINEAR_RATIO, np.ceil(1 + np.sqrt(np.maximum(2 * ratios**2 - 4, 0)) / 2), 1)[:, ::-1]
    low = (np.floor(places.min(axis=2) - 0.5) - reach).astype(np.int64)
    high = (np.floor(places.max(axis=2) + 0.5) + reach + 1).astype(np.int64)
    tall, wide = treatment.frame.canvas
    inside = ((low >= 0) & (high <= np.array([wide, tall]))).all(axis=1).tolist()
    windows: list[Window] = []
    for (left, top), (right, bottom), is_inside in zip(low.tolist(), high.tolist(), inside, strict=True):
        window = (top, left, bottom - top, right - left)
        windows.append(window if is_inside else _clipped(window, (tall, wide), treatment.border))
    return windows


def _clipped(window: Window, canvas: tuple[int, int], border: str) -> Window:
    """What of a window lies on the canvas, with the pixels that stand in for those beyond it."""
    top, left, height, width = with_mirrored(window, (*canvas, 0, 0), border)
    bottom, right = min(top + height, canvas[0]), min(left + width, canvas[1])
    top, left = min(max(top, 0), canvas[0] - 1), min(max(left, 0), canvas[1] - 1)
    return top, left, max(1, bottom - top), max(1, right - left)


def _programs(treatment: Treatment, drawn: dict[str, Drawn], count: int) -> list[tuple[tuple[str, Any], ...]]:
    """What is done to each record's view: pointwise steps that follow one another are one entry."""
    names = [name for name in treatment.varies if name not in GEOMETRY]
    if not names:
        return [()] * count
    programs: list[list[tuple[str, Any]]] = [[] for _ in range(count)]
    at = 0
    while at < len(names):
        end = at
        while end < len(names) and names[end] in POINTWISE:
            end += 1
        if end > at:
            _add_light(programs, names[at:end], drawn, treatment.channels)
            at = end
            continue
        for program, entry in zip(programs, _entries(treatment, names[at], drawn[names[at]]), strict=True):
            if entry is not None:
                program.append(entry)
        at += 1
    return [tuple(program) for program in programs]


def _add_light(programs: list[list[tuple[str, Any]]], names: Sequence[str], drawn: dict[str, Drawn], channels: int) -> None:
    count = len(programs)
    size = channels + 1
    stages, gammas = [], []
    total = np.broadcast_to(np.eye(size), (count, size, size))
    is_open = False
    for name in names:
        numbers, active = drawn[name].numbers[:, 0], drawn[name].active
        if name == "gamma":
            stages.append(total)
            gammas.append(np.where(active, numbers, 0.0))
            total, is_open = np.broadcast_to(np.eye(size), (count, size, size)), False
            continue
        own = _light_matrix(name, numbers, channels)
        own[~active] = np.eye(size)
        total, is_open = own @ total, True
    if is_open:
        stages.append(total)
        gammas.append(np.zeros(count))
    whole = np.rint(np.stack(stages, axis=1)[:, :, :channels] * 4096).astype(np.int32)
    by_record = np.stack(gammas, axis=1).tolist()
    done = np.logical_or.reduce([drawn[name].active for name in names]).tolist()
    for i, program in enumerate(programs):
        if done[i]:
            program.append(("light", Light(whole[i], tuple(by_record[i]))))


def _light_matrix(name: str, numbers: Array, channels: int) -> Array:
    """(n, channels + 1, channels + 1): the last column is added."""
    count = len(numbers)
    matrix = np.broadcast_to(np.eye(channels + 1), (count, channels + 1, channels + 1)).copy()
    if name in ("brightness", "contrast"):
        matrix[:, :channels, :channels] *= numbers[:, None, None]
        if name == "contrast":
            matrix[:, :channels, channels] = (127.5 * (1 - numbers))[:, None]
        return matrix
    if name == "hue":
        angle = np.radians(numbers)
        turn = np.broadcast_to(np.eye(3), (count, 3, 3)).copy()
        turn[:, 1, 1] = turn[:, 2, 2] = np.cos(angle)
        turn[:, 1, 2], turn[:, 2, 1] = -np.sin(angle), np.sin(angle)
        matrix[:, :3, :3] = np.linalg.inv(_YIQ) @ turn @ _YIQ
        return matrix
    amount = np.zeros(count) if name == "gray" else numbers
    matrix[:, :3, :3] = amount[:, None, None] * np.eye(3) + (1 - amount)[:, None, None] * np.broadcast_to(_LUMA, (3, 3))
    return matrix


def _entries(treatment: Treatment, name: str, drawn: Drawn) -> list[tuple[str, Any] | None]:
    """One spatial step's entry for each record; None where it is not done."""
    step = getattr(treatment, name, None)
    rows = drawn.numbers.tolist()
    if isinstance(step, Erase):
        entries = [_blotted(step, row, treatment.size) for row in rows]
        return [(name, each) if done else None for each, done in zip(entries, drawn.active.tolist(), strict=True)]
    key = name if step is not None else "own"
    values: list[Any] = [row[0] if len(row) == 1 else tuple(row) for row in rows]
    if step is None:
        values = [(name, value) for value in values]
    return [(key, value) if done else None for value, done in zip(values, drawn.active.tolist(), strict=True)]


def _blotted(step: Erase, shares: list[float], size: tuple[int, int]) -> Blotted:
    height, width = size
    boxes = []
    for i in range(step.count):
        area, shape, down, across = shares[4 * i : 4 * i + 4]
        part = step.area[0] + area * (step.area[1] - step.area[0])
        ratio = math.exp(math.log(step.shape[0]) + shape * (math.log(step.shape[1]) - math.log(step.shape[0])))
        tall = max(1, min(height, round(height * math.sqrt(part / ratio))))
        wide = max(1, min(width, round(width * math.sqrt(part * ratio))))
        boxes.append((int(down * (height - tall + 1)), int(across * (width - wide + 1)), tall, wide))
    fill = int(shares[0] * _HIGHEST_SEED) if step.fill == "noise" else step.fill
    return Blotted(tuple(boxes), fill)
