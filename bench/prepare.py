"""Preparing: augmentation, rendered feeds, statistics, rendering, gray; each against what it must not cost more than."""

from __future__ import annotations

import tempfile
import time
from itertools import count
from pathlib import Path
from typing import Any, Literal

import cv2
import numpy as np

import pannier
from bench.data import photograph, write_archive
from bench.slices import Report, alternate, ratio
from pannier.feeding.rendering import list_renderings, remove_rendering
from pannier.feeding.statistics import measure_values
from pannier.images.chance import draw_numbers, variations
from pannier.images.facts import read_facts
from pannier.images.kernels.pixels import to_line
from pannier.images.prepare import Preparation

SIDE = 224
NUMBERS: dict[str, Any] = {"values": "standard", "mean": [0.48, 0.46, 0.41], "std": [0.23, 0.22, 0.225]}
FULL: dict[str, Any] = {
    "flip": "horizontal",
    "turn": 10,
    "zoom": [0.9, 1.1],
    "shift": 0.05,
    "brightness": 0.2,
    "contrast": 0.2,
}
PICTURES = 480
# of a whole split, so many that what opening costs plays little part
WHOLE = 1_440
# a rendered epoch is short: several in a slice, work going on across their borders as in training
EPOCHS = 4


def run(report: Report) -> None:
    cv2.setNumThreads(1)
    report.title(f"Preparing 500 x 375 JPEG to {SIDE} x {SIDE}, one thread")
    files = [encoded(photograph(seed)) for seed in range(24)]
    _augmenting(report, files)
    _gray(report, files)
    _values(report)
    with tempfile.TemporaryDirectory() as folder:
        archive = write_archive(Path(folder) / "archive", PICTURES)
        snapshot = pannier.create(Path(folder) / "s.store").pack(archive, shares={"train": 100}).snapshot
        report.title(f"The same from a store of {PICTURES} pictures, two workers on two cores")
        _rendered(report, snapshot)
        archive = write_archive(Path(folder) / "more", WHOLE)
        snapshot = pannier.create(Path(folder) / "more.store").pack(archive, shares={"train": 100}).snapshot
        report.title(f"The same from one of {WHOLE:,}")
        _filling(report, snapshot)
        _whole_splits(report, snapshot)


def encoded(pixels: np.ndarray) -> bytes:
    return cv2.imencode(".jpg", pixels[..., ::-1], [cv2.IMWRITE_JPEG_QUALITY, 84])[1].tobytes()


def _augmenting(report: Report, files: list[bytes]) -> None:
    facts = [read_facts(data) for data in files]
    none, full = pannier.Treatment(SIDE, **NUMBERS), pannier.Treatment(SIDE, **NUMBERS, **FULL)
    plain, varied = Preparation(none), Preparation(full)
    hashes = np.random.default_rng(1).integers(0, 2**64, len(files), dtype=np.uint64)
    many = np.tile(hashes, 5)  # drawn for some 120 at once, as a feed does
    drawn = draw_numbers(full, hashes, 0, 0)
    out = np.empty((3, SIDE, SIDE), np.float32)

    def without() -> None:
        for data, fact in zip(files * 5, facts * 5, strict=True):
            plain.into(data, fact, out)

    def with_all() -> None:
        for data, fact, variation in zip(files * 5, facts * 5, variations(full, many, 0, 0), strict=True):
            varied.into(data, fact, out, variation)

    canvases = [varied.one_canvas(data) for data in files]
    squares = [np.ascontiguousarray(np.moveaxis(plain_view, 0, -1)) for plain_view in _views(none, files)]

    def own_steps_alone() -> None:
        for canvas, variation in zip(canvases * 5, variations(full, many, 0, 0), strict=True):
            varied.from_canvas(canvas, out, variation)

    def by_opencv() -> None:
        for i, square in enumerate(squares * 5):
            _one_after_another(square, drawn, i % len(files), none, out)

    def decoded_by_opencv() -> None:
        for i, data in enumerate(files):
            picture = cv2.imdecode(np.frombuffer(data, np.uint8), cv2.IMREAD_COLOR_RGB)
            square = cv2.resize(picture[:, 62:437], (SIDE, SIDE), interpolation=cv2.INTER_AREA)
            _one_after_another(square, drawn, i, none, out)

    ways = {"none": without, "full": with_all, "alone": own_steps_alone, "opencv": by_opencv, "whole": decoded_by_opencv}
    times = alternate(ways, 24)
    times["whole"] = [5 * each for each in times["whole"]]
    cost = ratio(times["full"], times["none"])
    report.line("cost of flip, turn, zoom, shift, light, against none, unrendered", cost, "<= 1.4", cost.median <= 1.4)
    faster = ratio(times["opencv"], times["alone"])
    report.line("the steps alone: OpenCV's, one after another, against ours", faster, ">= 2", faster.median >= 2)
    report.line("the same with decoding and resizing (OpenCV area)", ratio(times["whole"], times["full"]))
    report.line("microseconds a picture, all of it, median", round(float(np.median(times["full"])) / len(many) * 1e6))


def _views(treatment: pannier.Treatment, files: list[bytes]) -> list[np.ndarray]:
    raw = treatment.with_fields(values="raw", dtype="uint8", mean=None, std=None)
    return [raw(data) for data in files]


def _one_after_another(square: np.ndarray, drawn: Any, i: int, treatment: pannier.Treatment, out: np.ndarray) -> None:
    """The same steps by hand: flip, zoom, turn, shift, each a warp; brightness, contrast; standardized, channels first."""
    middle = ((SIDE - 1) / 2, (SIDE - 1) / 2)
    numbers = {name: each.numbers[i].tolist() for name, each in drawn.items()}
    if numbers["flip"][0]:
        square = cv2.flip(square, 1)
    border = {"flags": cv2.INTER_LINEAR, "borderMode": cv2.BORDER_REFLECT}
    square = cv2.warpAffine(square, cv2.getRotationMatrix2D(middle, 0, numbers["zoom"][0]), (SIDE, SIDE), **border)
    square = cv2.warpAffine(square, cv2.getRotationMatrix2D(middle, numbers["turn"][0], 1), (SIDE, SIDE), **border)
    down, across = (share * SIDE for share in numbers["shift"])
    square = cv2.warpAffine(square, np.array([[1, 0, across], [0, 1, down]]), (SIDE, SIDE), **border)
    square = cv2.convertScaleAbs(square, alpha=numbers["brightness"][0])
    contrast = numbers["contrast"][0]
    square = cv2.convertScaleAbs(square, alpha=contrast, beta=127.5 * (1 - contrast))
    scale, offset = treatment.value_line()
    out[:] = (square.astype(np.float32) * scale + offset).transpose(2, 0, 1)


def _gray(report: Report, files: list[bytes]) -> None:
    facts = [read_facts(data) for data in files]
    rgb, gray = Preparation(pannier.Treatment(SIDE)), Preparation(pannier.Treatment(SIDE, color="gray"))
    outs = np.empty((3, SIDE, SIDE), np.float32), np.empty((1, SIDE, SIDE), np.float32)

    def each(preparation: Preparation, out: np.ndarray) -> None:
        for data, fact in zip(files, facts, strict=True):
            preparation.into(data, fact, out)

    times = alternate({"rgb": lambda: each(rgb, outs[0]), "gray": lambda: each(gray, outs[1])}, 30)
    found = ratio(times["rgb"], times["gray"])
    report.line("gray against rgb on JPEG, pictures a second", found, ">= 1.4", found.median >= 1.4)


def _values(report: Report) -> None:
    views = [np.random.default_rng(i).integers(0, 256, (3, SIDE, SIDE), dtype=np.uint8) for i in range(16)]
    out, copied = (np.empty((3, SIDE, SIDE), np.float32) for _ in range(2))
    scale, offset = pannier.Treatment(SIDE, **NUMBERS).value_line()

    def values() -> None:
        for view in views:
            to_line(view, 0, scale, offset, out)

    def copy() -> None:
        for _ in views:
            np.copyto(copied, out)

    times = alternate({"values": values, "copy": copy}, 60)
    found = ratio(times["values"], times["copy"])
    report.line("the value step, against a plain copy of the float32 array", found, "<= 1.2", found.median <= 1.2)


def _filling(report: Report, snapshot: pannier.Snapshot) -> None:
    """First epochs that keep their canvases, each of a fixed part of its own, against such that keep nothing."""
    numbers = count()

    def epoch(rendered: Literal["fill"] | bool) -> None:
        treatment = pannier.Treatment(SIDE, **NUMBERS, pad=f"#{next(numbers):06x}")
        with snapshot.feed("train", treatment, workers=2, rendered=rendered) as feed:
            for each in feed:
                del each

    times = alternate({"fill": lambda: epoch("fill"), "bare": lambda: epoch(False)}, 24)
    found = ratio(times["fill"], times["bare"])
    report.line("a first epoch that keeps its canvases, against one that keeps none", found, "<= 1.05", found.median <= 1.05)
    for kept in list_renderings(snapshot.storage):
        remove_rendering(snapshot.storage, kept.digest)


def _rendered(report: Report, snapshot: pannier.Snapshot) -> None:
    for dtype, values, bar in (("float32", NUMBERS, 1.0), ("uint8", {"values": "raw"}, 0.8)):
        treatment = pannier.Treatment(SIDE, **values, dtype=dtype)
        snapshot.render(None, treatment)
        shape = (32, *treatment.shape)
        ready, batch = np.ones((3, *shape), dtype), np.empty(shape, dtype)
        feed = snapshot.feed("train", treatment, workers=2, rendered=True)
        bare = snapshot.feed("train", treatment, workers=2, rendered=False)

        def epochs(feed: pannier.Feed, count: int) -> None:
            for epoch in feed.epochs(count):
                for each in epoch:
                    del each

        def copies(ready: np.ndarray = ready, batch: np.ndarray = batch) -> None:
            for i in range(EPOCHS * PICTURES // 32):
                np.copyto(batch, ready[i % 3])

        with feed, bare:
            ways = {"feed": lambda: epochs(feed, EPOCHS), "copy": copies, "bare": lambda: epochs(bare, 1)}  # noqa: B023
            times = alternate(ways, 24)
        times["feed"], times["copy"] = ([each / EPOCHS for each in times[name]] for name in ("feed", "copy"))
        found = ratio(times["copy"], times["feed"])
        report.line(f"rendered {dtype} feed, against plainly copying such batches", found, f">= {bar}", found.median >= bar)
        report.line(f"rendered {dtype} feed, against the same unrendered", ratio(times["bare"], times["feed"]))
        report.line("pictures a second, median", round(PICTURES / float(np.median(times["feed"]))))


def _whole_splits(report: Report, snapshot: pannier.Snapshot) -> None:
    """Statistics and rendering of a split against the bare treatment: the same pictures, nothing else."""
    treatment = pannier.Treatment(SIDE, values="raw", dtype="uint8")
    feed = snapshot.feed(None, treatment, workers=2, shuffle=False, rendered=False)
    times: dict[str, list[float]] = {"bare": [], "stats": [], "render": []}

    def timed(name: str, work: Any) -> None:
        started = time.perf_counter()
        work()
        times[name].append(time.perf_counter() - started)

    def bare() -> None:
        for each in feed:
            del each

    with feed:
        for _ in range(21):
            timed("bare", bare)
            timed("stats", lambda: measure_values(snapshot, None, treatment, workers=2))
            timed("render", lambda: snapshot.render(None, treatment, workers=2))
            remove_rendering(snapshot.store.storage, treatment.fixed_part)
    found = ratio(times["bare"][1:], times["stats"][1:])
    report.line("statistics, against the bare treatment of the split", found, ">= 0.95", found.median >= 0.95)
    found = ratio(times["bare"][1:], times["render"][1:])
    report.line("rendering, against the bare treatment of the split", found, ">= 0.92", found.median >= 0.92)
