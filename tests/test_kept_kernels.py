"""Compiled kernels on disk: no process ever runs one of another kind of arguments, of older sources or a damaged one."""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
from pathlib import Path

import pytest

import pannier
from tests.varied import write_varied

ROOT = Path(__file__).parent.parent

# a small kernel that calls another module's, which a test may change
OUTER = """
from pannier.images.kernels.compiling import CACHED, compiled
from inner import twice

@compiled(**CACHED)
def fill(values, out):
    for i in range(values.shape[0]):
        out[i] = twice(values[i]) + 1
"""
INNER = """
from pannier.images.kernels.compiling import INNER, compiled

@compiled(**INNER)
def twice(value):
    return value * {factor}
"""
CALL = """
import sys
import numpy as np
from outer import fill
values = np.arange(3, dtype=sys.argv[1])
out = np.zeros(3, values.dtype)
fill(values, out)
print(*out.tolist(), sum(fill.stats.cache_hits.values()))
"""
# a feed whose limit leaves its larger pictures to a heavy lane, and what Numba loads to compile a search
FEED = """
import sys
import pannier
snapshot, how = pannier.open(sys.argv[1]), {"workers": 1, "processes": 0}
try:
    snapshot.feed(None, pannier.Treatment(16), memory_limit="1MiB", **how)
except pannier.LimitError as error:
    limit = error.smallest_limit
with snapshot.feed(None, pannier.Treatment(16), memory_limit=limit, **how) as feed:
    next(iter(feed))
    print(feed.plan.heavy_lanes, "numba.np.arraymath" in sys.modules)
"""


@pytest.fixture
def folder(tmp_path: Path) -> Path:
    (tmp_path / "outer.py").write_text(OUTER)
    (tmp_path / "inner.py").write_text(INNER.format(factor=2))
    return tmp_path


def call(folder: Path, kind: str, more: str = "") -> tuple[str, str]:
    """What the kernel gives and how often it came from the disk, and what was said."""
    env = {**os.environ, "NUMBA_CACHE_DIR": str(folder / "kept")}
    done = subprocess.run(
        [sys.executable, "-c", more + CALL, kind], env=env, cwd=folder, capture_output=True, text=True, check=True
    )
    return done.stdout.strip(), done.stderr


def kept_of(folder: Path, name: str) -> list[Path]:
    return sorted((folder / "kept").rglob(f"{name}*.nbc"))


def test_a_kernel_is_kept_for_each_kind_of_arguments(folder: Path) -> None:
    assert call(folder, "uint8") == ("1 3 5 0", "")
    assert call(folder, "uint8") == ("1 3 5 1", "")
    assert call(folder, "float64") == ("1.0 3.0 5.0 0", "")
    assert call(folder, "uint8") == ("1 3 5 1", "")
    assert len(kept_of(folder, "outer.fill")) == 2


def test_a_changed_kernel_is_not_run_as_it_was(folder: Path) -> None:
    call(folder, "uint8")
    before = kept_of(folder, "outer.fill")
    (folder / "inner.py").write_text(INNER.format(factor=5))
    (folder / "outer.py").write_text(OUTER + "\n")
    assert call(folder, "uint8") == ("1 6 11 0", "")
    assert not set(before) & set(kept_of(folder, "outer.fill"))


def test_kernels_that_call_one_another_are_of_one_state(tmp_path: Path) -> None:
    """The warp takes in code of the resize: where that has changed, what was kept of the warp is not used either."""
    shutil.copytree(ROOT / "src" / "pannier", tmp_path / "pannier", ignore=shutil.ignore_patterns("__pycache__"))
    code = "from pannier.images.kernels import compiling, warp; print(compiling._sources(warp.__file__))"
    kernels, said = tmp_path / "pannier" / "images" / "kernels", []
    for change in ("", "", "# another state\n"):
        (kernels / "resize.py").write_text((kernels / "resize.py").read_text() + change)
        env = {**os.environ, "PYTHONPATH": str(tmp_path), "NUMBA_CACHE_DIR": str(tmp_path / "kept")}
        said.append(subprocess.run([sys.executable, "-c", code], env=env, capture_output=True, check=True).stdout)
    assert said[0] == said[1] != said[2]


@pytest.mark.parametrize("damage", [lambda data: data[:100], lambda data: b"", lambda data: data[:-9] + b"somewhere"])
def test_a_damaged_kernel_is_compiled_anew(folder: Path, damage: object) -> None:
    call(folder, "uint8")
    assert callable(damage)
    for path in kept_of(folder, ""):
        path.write_bytes(damage(path.read_bytes()))
    assert call(folder, "uint8") == ("1 3 5 0", "")
    assert call(folder, "uint8") == ("1 3 5 1", "")


@pytest.mark.skipif(os.name != "posix", reason="the system limits files there alone")
def test_a_disk_that_refuses_is_said_and_the_kernel_works(folder: Path) -> None:
    refusing = (
        "import resource, signal; signal.signal(signal.SIGXFSZ, signal.SIG_IGN); "
        "resource.setrlimit(resource.RLIMIT_FSIZE, (1000, 1000))\n"
    )
    given, said = call(folder, "uint8", refusing)
    assert given == "1 3 5 0"
    assert "cannot be kept, and is compiled again next time" in said
    assert not kept_of(folder, "")
    assert not list((folder / "kept").rglob(".*.new"))


def test_kinds_that_are_compiled_at_once_are_not_mixed_up(folder: Path) -> None:
    kinds = {"uint8": "1 3 5", "float64": "1.0 3.0 5.0", "int32": "1 3 5", "float32": "1.0 3.0 5.0"}
    env = {**os.environ, "NUMBA_CACHE_DIR": str(folder / "kept")}
    command = [sys.executable, "-c", CALL]
    running = [subprocess.Popen([*command, kind], env=env, cwd=folder, stdout=subprocess.PIPE, text=True) for kind in kinds]
    assert [each.communicate()[0].rsplit(None, 1)[0] for each in running] == list(kinds.values())
    for kind, given in kinds.items():
        assert call(folder, kind) == (f"{given} 1", "")


def test_a_feed_loads_no_more_for_its_kernels_than_they_run(tmp_path: Path) -> None:
    pannier.create(tmp_path / "s.store").pack(write_varied(tmp_path / "pictures", 12, 3))
    command = [sys.executable, "-c", FEED, str(tmp_path / "s.store")]
    for _ in range(2):  # the first may compile
        given = subprocess.run(command, capture_output=True, text=True, check=True).stdout
    assert given == "1 False\n"
