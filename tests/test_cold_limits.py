"""A memory limit in a plain script that does nothing else: nothing is loaded before, and another process looks on."""

from __future__ import annotations

import io
import json
import random
import subprocess
import sys
import time
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from PIL import Image

import pannier
from pannier.errors import LimitError
from pannier.memory import resident_bytes

SCRIPT = """
import json, sys
import pannier

address, fields, options = json.loads(sys.argv[1])
snapshot = pannier.open(address)
print("level", flush=True)
sys.stdin.readline()
with snapshot.feed("train", pannier.Treatment(**fields), **options) as feed:
    for images, labels in feed:
        pass
    print(json.dumps({"libraries": feed.library_bytes, "plan": feed.plan.total_bytes}))
"""
FORMATS: tuple[tuple[str, str, str, dict[str, Any]], ...] = (
    ("jpg", "jpeg", "RGB", {"quality": 88}),
    ("jpeg", "jpeg", "RGB", {"quality": 85, "progressive": True}),
    ("cmyk.jpg", "jpeg", "CMYK", {"quality": 85}),
    ("png", "png", "RGB", {"compress_level": 1}),
    ("alpha.png", "png", "RGBA", {"compress_level": 1}),
    ("webp", "webp", "RGB", {"quality": 80, "method": 0}),
    ("gif", "gif", "P", {}),
    ("tif", "tiff", "RGB", {"compression": "tiff_lzw"}),
    ("gray.jpg", "jpeg", "L", {"quality": 85}),
)


@pytest.fixture(scope="module")
def mixed(tmp_path_factory: pytest.TempPathFactory) -> pannier.Snapshot:
    """Pictures of about a megapixel in every format, of many sizes."""
    folder = tmp_path_factory.mktemp("mixed")
    rng = np.random.default_rng(3)
    for number in range(72):
        ending, kind, mode, how = FORMATS[number % len(FORMATS)]
        coarse = Image.fromarray(rng.integers(0, 256, (24, 32, 3), dtype=np.uint8))
        scale = rng.uniform(0.5, 1.3)
        picture = coarse.resize((int(1150 * scale), int(870 * scale)), Image.Resampling.BICUBIC).convert(mode)
        sink = io.BytesIO()
        picture.save(sink, kind, **how)
        path = folder / "a" / f"c{number % 3}" / f"{number:03}.{ending}"
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_bytes(sink.getvalue())
    return pannier.create(folder / "s.store").pack(folder / "a", shares="train=100", allow_leaks=True).snapshot


def settings_of(seed: int) -> tuple[dict[str, Any], dict[str, Any]]:
    """A treatment's fields and a feed's options, by chance."""
    rng = random.Random(seed)
    fields: dict[str, Any] = {"size": rng.choice([32, 96, 128, 224, [160, 240]])}
    fields |= rng.choice([{}, {"fit": "contain"}, {"color": "gray"}, {"values": "raw", "dtype": "uint8"}])
    fields |= rng.choice([{}, {"flip": "horizontal"}, {"flip": "horizontal", "turn": 10}, {"brightness": 0.2, "blur": 0.02}])
    return fields, {"batch_size": rng.choice([1, 4, 16, 32]), "seed": seed, "processes": 0}


def test_a_limit_holds_in_a_plain_script_that_has_loaded_nothing(
    mixed: pannier.Snapshot, scale: int, capsys: pytest.CaptureFixture[str]
) -> None:
    highest = 0.0
    for seed in range(3 * scale):
        fields, options = settings_of(seed)
        with pytest.raises(LimitError) as refused:
            mixed.feed("train", pannier.Treatment(**fields), memory_limit="1MiB", **options)
        limit = int(refused.value.smallest_limit * random.Random(seed).choice([1.0, 1.05, 1.3, 2, 3]))
        peak, level, told = watched([str(mixed.storage.address), fields, options | {"memory_limit": limit}])
        share = (peak - level - told["libraries"]) / limit
        assert share <= 1, (seed, fields, options, limit >> 20, share, told)
        highest = max(highest, share)
    with capsys.disabled():
        print(f"\n{3 * scale} cold scripts within their limits, the highest at {highest:.2f} of it")


def watched(arguments: list[Any]) -> tuple[int, int, dict[str, int]]:
    """Runs the script: the highest memory of its process as seen from here, its level before the feed, what it printed."""
    command = [sys.executable, "-c", SCRIPT, json.dumps(arguments)]
    with subprocess.Popen(command, stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True) as child:
        assert child.stdin is not None
        assert child.stdout is not None
        assert child.stdout.readline() == "level\n"
        level = peak = resident_bytes(child.pid)
        child.stdin.write("\n")
        child.stdin.flush()
        while child.poll() is None:
            peak = max(peak, resident_bytes(child.pid))
            time.sleep(0.002)
        told: dict[str, int] = json.loads(child.stdout.read())
    assert child.returncode == 0
    return peak, level, told


def test_what_libraries_add_is_told_once_in_a_process(mixed: pannier.Snapshot) -> None:
    with mixed.feed("train", size=32, processes=0) as feed:
        assert feed.load() == feed.library_bytes
        next(iter(feed))
        first = feed.library_bytes
    with mixed.feed("train", size=32, processes=0) as feed:
        next(iter(feed))
        assert feed.library_bytes <= max(first, 4 << 20)
        assert feed.to_dict()["library_bytes"] == feed.library_bytes
    assert Path(mixed.storage.address).exists()
