"""Fixtures in one place: small archives, stores, the command line as a user runs it."""

from __future__ import annotations

import contextlib
import io
import math
import shutil
import signal
import subprocess
import sys
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from PIL import Image

import pannier
from pannier.cli.entry import main
from pannier.demo.archive import draw_archive
from pannier.demo.mill import mill_of, serving

CLASSES = ("plain", "satin", "twill")


# a suite that a shell starts in the background is told to ignore Ctrl-C, and so would be all that it starts
signal.signal(signal.SIGINT, signal.default_int_handler)


def pytest_addoption(parser: pytest.Parser) -> None:
    parser.addoption("--scale", type=int, default=1, help="how many times as many cases the proofs run")


# begun first, so that no worker is left with one of them when the others have ended
LONG = ("test_the_tour", "test_kernels_are_compiled", "test_every_example_runs", "test_rendered_or_not", "test_near_doubles")


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    items.sort(key=lambda item: not item.name.startswith(LONG))


@pytest.fixture(scope="session")
def scale(request: pytest.FixtureRequest) -> int:
    return int(request.config.getoption("--scale"))


def draw(seed: int, height: int = 60, width: int = 80) -> np.ndarray:
    rng = np.random.default_rng(seed)
    coarse = Image.fromarray(rng.integers(0, 256, (6, 8, 3), dtype=np.uint8))
    return np.asarray(coarse.resize((width, height), Image.Resampling.BICUBIC))


def likeness(got: np.ndarray, want: np.ndarray) -> float:
    """Peak signal to noise in dB, for values 0..255."""
    error = float(np.mean((got.astype(float) - want.astype(float)) ** 2))
    return 10 * math.log10(255**2 / max(error, 1e-9))


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
def own(packed: pannier.Snapshot, tmp_path: Path) -> pannier.Snapshot:
    """The same store, to be written to."""
    return pannier.open(shutil.copytree(packed.store.path, tmp_path / "own.store"))


@pytest.fixture
def store(tmp_path: Path) -> pannier.Store:
    return pannier.create(tmp_path / "s.store")


class Ended:
    """What a command left behind."""

    def __init__(self, done: subprocess.CompletedProcess[str]) -> None:
        self.status, self.out, self.err = done.returncode, done.stdout, done.stderr


@pytest.fixture
def run(monkeypatch: pytest.MonkeyPatch) -> Callable[..., Ended]:
    """Runs `pannier` with arguments as its entry point does; in a process of its own where one is asked for (`apart`)."""
    monkeypatch.setenv("COLUMNS", "100")
    monkeypatch.setattr("pannier.memory.fix_map_threshold", lambda: None)  # for processes of its own alone

    def call(*arguments: object, apart: bool = False, cwd: object = None, **options: object) -> Ended:
        words = [*map(str, arguments)]
        if apart or options:
            command = [sys.executable, "-m", "pannier", *words]
            return Ended(subprocess.run(command, capture_output=True, text=True, timeout=300, cwd=cwd, **options))
        out, err = (io.TextIOWrapper(io.BytesIO(), "utf-8", write_through=True) for _ in range(2))
        place = contextlib.nullcontext() if cwd is None else contextlib.chdir(str(cwd))
        with place, contextlib.redirect_stdout(out), contextlib.redirect_stderr(err), pytest.raises(SystemExit) as end:
            main(words)
        said, complained = (each.buffer.getvalue().decode() for each in (out, err))
        return Ended(subprocess.CompletedProcess(words, int(end.value.code or 0), said, complained))

    return call


@contextlib.contextmanager
def demo_folder(folder: Path) -> Iterator[Path]:
    """The demo's folder, drawn; a stand-in serves the links of its register as long as the context lasts."""
    draw_archive(folder, 300, 7)
    with serving(mill_of(folder / "archive")) as mill:
        register = folder / "register.csv"
        register.write_text(register.read_text().replace("https://mill.example", mill))
        yield folder


@pytest.fixture(scope="session")
def bucket_endpoint(tmp_path_factory: pytest.TempPathFactory) -> Iterator[tuple[str, Path]]:
    pytest.importorskip("obstore", reason="stores in buckets: pip install 'pannier[remote]'")
    from pannier.demo.bucket import bucket_server

    folder = tmp_path_factory.mktemp("buckets")
    with bucket_server(folder) as endpoint:
        yield endpoint, folder


@pytest.fixture
def bucket(bucket_endpoint: tuple[str, Path], monkeypatch: pytest.MonkeyPatch) -> Iterator[Any]:
    """An empty bucket that the environment gives credentials for."""
    from pannier.demo.bucket import environment
    from tests.buckets import Bucket

    for name, value in environment(bucket_endpoint[0]).items():
        monkeypatch.setenv(name, value)
    bucket = Bucket(*bucket_endpoint)
    bucket.folder.mkdir(exist_ok=True)
    yield bucket
    bucket.fail()
    shutil.rmtree(bucket.folder)
