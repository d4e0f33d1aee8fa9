"""Fixtures in one place: small archives, stores, the command line as a user runs it."""

from __future__ import annotations

import io
import os
import subprocess
import sys
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
from PIL import Image

import pannier

CLASSES = ("plain", "satin", "twill")


def pytest_addoption(parser: pytest.Parser) -> None:
    parser.addoption("--scale", type=int, default=1, help="how many times as many cases the proofs run")


@pytest.fixture(scope="session")
def scale(request: pytest.FixtureRequest) -> int:
    return int(request.config.getoption("--scale"))


def draw(seed: int, height: int = 60, width: int = 80) -> np.ndarray:
    rng = np.random.default_rng(seed)
    coarse = Image.fromarray(rng.integers(0, 256, (6, 8, 3), dtype=np.uint8))
    return np.asarray(coarse.resize((width, height), Image.Resampling.BICUBIC))


def encoded(pixels: np.ndarray, kind: str = "jpeg", **options: object) -> bytes:
    sink = io.BytesIO()
    Image.fromarray(pixels).save(sink, kind, **options)
    return sink.getvalue()


def fill(folder: Path, count: int = 20, classes: tuple[str, ...] = CLASSES, first: int = 0) -> Path:
    """Class folders of small pictures, JPEG with a PNG now and then."""
    for c, name in enumerate(classes):
        (folder / name).mkdir(parents=True, exist_ok=True)
        for i in range(first, first + count):
            kind, ending = ("png", "png") if i % 10 == 7 else ("jpeg", "jpg")
            pixels = draw(1000 * c + i, 40 + 7 * (i % 9), 50 + 11 * (i % 7))
            (folder / name / f"{i:04}.{ending}").write_bytes(encoded(pixels, kind))
    return folder


@pytest.fixture(scope="session")
def archive(tmp_path_factory: pytest.TempPathFactory) -> Path:
    return fill(tmp_path_factory.mktemp("world") / "archive")


@pytest.fixture(scope="session")
def packed(archive: Path, tmp_path_factory: pytest.TempPathFactory) -> pannier.Snapshot:
    """A store that tests read and never write."""
    store = pannier.create(tmp_path_factory.mktemp("packed") / "swatches.store")
    return store.pack(archive, shares={"train": 70, "val": 20, "test": 10}, seed=3).snapshot


@pytest.fixture
def store(tmp_path: Path) -> pannier.Store:
    return pannier.create(tmp_path / "s.store")


class Ended:
    """What a command left behind."""

    def __init__(self, done: subprocess.CompletedProcess[str]) -> None:
        self.status, self.out, self.err = done.returncode, done.stdout, done.stderr


@pytest.fixture(scope="session")
def run() -> Callable[..., Ended]:
    """Runs `pannier` with arguments, in a process of its own."""

    def call(*arguments: object, **options: object) -> Ended:
        command = [sys.executable, "-m", "pannier", *map(str, arguments)]
        environment = os.environ | {"COLUMNS": "100"}
        return Ended(subprocess.run(command, capture_output=True, text=True, env=environment, timeout=300, **options))

    return call
