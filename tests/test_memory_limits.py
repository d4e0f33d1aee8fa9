"""Memory limits of what reads sources: kept, whatever the pictures; what needs more is left out and said."""

from __future__ import annotations

import json
import subprocess
import sys
from pathlib import Path

import numpy as np
import pytest
from PIL import Image

import pannier
from pannier.errors import LimitError, SourceError
from tests.conftest import fill

# packs or surveys a folder under a limit, in a process of its own; what was left out, and the most memory above the level
_LIMITED = """
import json, sys
import pannier
from pannier.memory import Sampler, release_free_memory, working_bytes

warm, source, store, limit, verb = sys.argv[1:]
opened = pannier.create(store)
opened.pack(warm, near=6)
pannier.survey(warm)
release_free_memory()
level, sampler = working_bytes(), Sampler(0, 0.005)
if verb == "pack":
    left_out = [(item.key, item.kind) for item in opened.pack(source, memory_limit=limit, prefix="large").left_out]
else:
    found = pannier.survey(source, memory_limit=limit).to_dict()
    left_out = [(each["key"], "oversized") for each in found["problems"] if each["kind"] == "oversized"]
sampler.close()
print(json.dumps([left_out, sampler.peak_bytes - level]))
"""


@pytest.fixture(scope="module")
def large(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """Thirty small pictures, three PNG of 6 megapixels, two progressive JPEG of 24."""
    folder = fill(tmp_path_factory.mktemp("large") / "pictures", 10)
    for number in range(3):
        slope = np.add.outer(np.arange(2000), np.arange(3000) + 7 * number).astype(np.uint8)
        Image.fromarray(np.dstack([slope] * 3)).save(folder / "plain" / f"large-{number}.png", compress_level=1)
    for number in range(2):
        slope = np.add.outer(np.arange(4000) // 9, np.arange(6000) // 7 + number).astype(np.uint8)
        Image.fromarray(np.dstack([slope] * 3)).save(folder / "twill" / f"huge-{number}.jpg", progressive=True)
    return folder


@pytest.mark.parametrize(("limit", "refused"), [("64MiB", 5), ("96MiB", 2), ("512MiB", 0)])
def test_packing_keeps_a_memory_limit(large: Path, tmp_path: Path, limit: str, refused: int) -> None:
    fill(tmp_path / "warm", 2)
    command = [sys.executable, "-c", _LIMITED, str(tmp_path / "warm"), str(large), str(tmp_path / "s.store"), limit, "pack"]
    done = subprocess.run(command, capture_output=True, text=True, check=True, timeout=300)
    left_out, peak = json.loads(done.stdout)
    assert len(left_out) == refused
    assert all(kind == "oversized" for _, kind in left_out)
    assert peak <= int(limit.removesuffix("MiB")) << 20
    print(f"\n1 pack under {limit}: {refused} pictures left out, {peak >> 20} MiB taken at most")


def test_a_survey_keeps_a_memory_limit_and_says_what_is_too_large_for_it(large: Path, tmp_path: Path) -> None:
    found = pannier.survey(large, memory_limit="96MiB").to_dict()
    assert "over the memory limit" in json.dumps(found)
    assert found["pictures"] == 33


def test_a_limit_that_is_too_small_says_the_smallest(large: Path, store: pannier.Store) -> None:
    with pytest.raises(
        LimitError, match="a memory limit of 32 MiB is too small to check pictures: give 64 MiB or more"
    ) as caught:
        store.pack(large, memory_limit="32MiB")
    assert caught.value.smallest_limit == 64 << 20
    assert len(store.pack(large, memory_limit="64MiB", only_classes="satin").snapshot) == 10


def test_little_free_memory_does_not_keep_small_pictures_out(
    large: Path, store: pannier.Store, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("pannier.budget.free_memory_bytes", lambda: 40 << 20)
    assert len(store.pack(large, only_classes="satin").snapshot) == 10


def test_a_table_that_takes_more_than_its_limit_is_refused_before_it_is_read(tmp_path: Path, store: pannier.Store) -> None:
    (tmp_path / "a.csv").write_text("photo,weave\n" + "a.jpg,twill\n" * 2_000_000)
    with pytest.raises(
        SourceError, match="reading it takes 184 MiB of memory, and 96 MiB is the limit: raise `memory_limit`"
    ):
        store.pack(tmp_path / "a.csv", memory_limit="96MiB")


# decodes a small picture, then a large one where the system refuses more than 5.5 bytes a pixel: enough for our buffer
# alone; says which error that comes to
_REFUSED = """
import sys
from pathlib import Path
from pannier import memory
from pannier.images.decode import decode
from pannier.images.facts import read_facts

memory.fix_map_threshold()
small, large = ((data, read_facts(data)) for data in (Path(file).read_bytes() for file in sys.argv[1:]))
decode(*small)
memory.release_free_memory()
memory.enforce_limit(int(5.5 * large[1].height * large[1].width), memory.writable_bytes())
try:
    decode(*large)
except BaseException as error:
    print("MemoryError" if isinstance(error, MemoryError) else repr(error))
"""


@pytest.mark.skipif(sys.platform != "linux", reason="the system enforces this on Linux alone")
@pytest.mark.parametrize("kind", ["webp", "tiff"])
def test_a_decoder_that_is_refused_memory_is_not_a_broken_picture(tmp_path: Path, kind: str) -> None:
    import cv2

    for name, height, width in (("small", 20, 30), ("large", 1200, 1500)):
        pixels = np.dstack([np.add.outer(np.arange(height), np.arange(width) * 5)] * 3)
        file = str(tmp_path / f"{name}.{kind}")
        if kind == "webp":
            Image.fromarray(pixels.astype(np.uint8)).save(file, lossless=True, method=0)
        else:
            cv2.imwrite(file, (pixels * 9).astype(np.uint16))
    files = [str(tmp_path / f"{name}.{kind}") for name in ("small", "large")]
    command = [sys.executable, "-c", _REFUSED, *files]
    done = subprocess.run(command, capture_output=True, text=True, check=True, timeout=120)
    assert done.stdout.strip() == "MemoryError", done.stderr
