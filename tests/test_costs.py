"""What decoding is charged for is what it takes: measured from outside, in a process of its own for each kind."""

from __future__ import annotations

import json
import subprocess
import sys
import tracemalloc
from typing import Any

import numpy as np
import pytest

import pannier
from pannier.feeding.job import job_of, work_of
from pannier.images.facts import read_facts
from pannier.images.prepare import Preparation
from pannier.images.tone import trimmed
from tests.conftest import draw, encoded

PROGRAM = """
import io, json, os, sys
import numpy as np
from PIL import Image
import pannier
from pannier.images.cost import Kind, decoding_costs, kind_of
from pannier.images.facts import read_facts
from pannier.images.prepare import Preparation
from pannier.memory import fix_map_threshold, working_bytes, release_free_memory, Sampler

def picture(side, options):
    kind, mode = options["kind"], options["mode"]
    smooth = np.random.default_rng(1).integers(0, 256, (9, 12, 3), dtype=np.uint8)
    image = Image.fromarray(smooth).resize((side * 4 // 3, side), Image.Resampling.BICUBIC)
    if mode == "16":
        import cv2
        return cv2.imencode(".png", np.asarray(image).astype(np.uint16) * 257)[1].tobytes()
    if mode == "RGBA":
        image.putalpha(128)
    elif mode != "RGB":
        image = image.convert(mode)
    sink = io.BytesIO()
    image.save(sink, kind, **options["save"])
    return sink.getvalue()

def measured(options):
    treatment = pannier.Treatment(96, fit="cover")
    fix_map_threshold()
    small, large = picture(60, options), picture(1400, options)
    out = np.empty(treatment.shape, treatment.dtype)
    preparation = Preparation(treatment)
    preparation.into(small, read_facts(small), out)
    facts = read_facts(large)
    release_free_memory()
    sampler = Sampler(0, 0.0005)
    level = working_bytes()
    sampler.reset()
    preparation.into(large, facts, out)
    sampler.close()
    each = lambda value: np.array([value])
    kinds = Kind(*(each(number) for number in kind_of(facts.format, facts.mode, "rgb")))
    numbers = (each(number) for number in (facts.height, facts.width, facts.turn, facts.progressive, len(large)))
    costs = decoding_costs(kinds, *numbers, treatment)
    return {"peak": sampler.peak_bytes - level, "charged": int((costs.own + costs.allocated + costs.scratch)[0])}

cases = json.loads(sys.argv[1])
measured(cases[0])  # kernels are loaded once for all
for case in cases:
    if not os.fork():  # what one has taken and given back is nothing to the next
        print(json.dumps(measured(case)), flush=True)
        os._exit(0)
    assert os.wait()[1] == 0, case
"""

CASES = [
    ("jpeg", "RGB", {}),
    ("jpeg", "L", {}),
    ("jpeg", "RGB", {"progressive": True, "subsampling": 0}),
    ("jpeg", "CMYK", {}),
    ("png", "RGB", {"compress_level": 1}),
    ("png", "RGBA", {"compress_level": 1}),
    ("png", "P", {"compress_level": 1}),
    ("png", "16", {}),
    ("webp", "RGB", {"method": 0}),
    ("webp", "RGB", {"method": 0, "lossless": True}),
    ("webp", "RGBA", {"method": 0}),
    ("tiff", "RGB", {}),
    ("gif", "P", {}),
]


@pytest.mark.skipif(sys.platform != "linux", reason="the system tells what a process holds on Linux alone")
def test_decoding_takes_no_more_than_it_is_charged_for() -> None:
    cases = json.dumps([{"kind": kind, "mode": mode, "save": save} for kind, mode, save in CASES])
    done = subprocess.run([sys.executable, "-c", PROGRAM, cases], capture_output=True, text=True, check=False)
    assert done.returncode == 0, done.stderr
    for case, line in zip(CASES, done.stdout.splitlines(), strict=True):
        found = json.loads(line)
        assert 0 < found["peak"] <= found["charged"], (case, found)


@pytest.mark.parametrize("fields", [{"tone": "clahe"}, {}, {"color": "gray", "filter": "lanczos"}], ids=str)
def test_what_grows_takes_the_place_of_what_it_was(fields: dict[str, Any]) -> None:
    """A thread that meets larger pictures one after another holds what the largest needs, and no more beside it."""
    treatment = pannier.Treatment(32, **fields)
    pictures = [encoded(draw(1, side, side * 4 // 3), "png") for side in (600, 700)]

    def peak(some: list[bytes]) -> int:
        preparation, out = Preparation(treatment), np.empty(treatment.shape, treatment.dtype)
        tracemalloc.reset_peak()
        before = tracemalloc.get_traced_memory()[0]
        for data in some:
            preparation.into(memoryview(bytearray(data)), read_facts(data), out)
        return tracemalloc.get_traced_memory()[1] - before

    peak(pictures[:1])  # what is loaded and compiled at first
    tracemalloc.start()
    try:
        assert peak(pictures) <= 1.02 * peak(pictures[1:]) + 50_000
    finally:
        tracemalloc.stop()


def test_borders_are_found_in_little_memory() -> None:
    pixels = np.random.default_rng(0).integers(0, 256, (900, 1200, 3), np.uint8)
    tracemalloc.start()
    try:
        tracemalloc.reset_peak()
        before = tracemalloc.get_traced_memory()[0]
        assert trimmed(pixels, 4).shape == pixels.shape
        assert tracemalloc.get_traced_memory()[1] - before <= 200_000
    finally:
        tracemalloc.stop()


@pytest.mark.parametrize("fields", [{"tone": "clahe"}, {"trim": 4}, {"tone": "equalize", "trim": 4}], ids=str)
def test_what_is_set_aside_to_decode_into_is_used_by_decoding_alone(
    packed: pannier.Snapshot, fields: dict[str, Any]
) -> None:
    """What follows has buffers of its own, which are in the plan as well: set aside twice, they would break the limit."""

    def set_aside(**fields: Any) -> int:
        job = job_of(packed, None, pannier.Treatment(24, **fields), memory_limit=None, workers=1)
        return work_of(job, packed).settings.light_decode_bytes

    whole = set_aside(tone_gamma=1.2)  # decodes all of a picture, as those do
    assert set_aside(**fields) == whole
    assert needs_more(packed, fields) > needs_more(packed, {})


def needs_more(snapshot: pannier.Snapshot, fields: dict[str, Any]) -> int:
    job = job_of(snapshot, None, pannier.Treatment(24, **fields), memory_limit=None, workers=1)
    return work_of(job, snapshot).plan.decode_bytes
