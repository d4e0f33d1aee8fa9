"""Measuring: trials in their own limited processes, ceilings, and what a row says when a trial fails."""

from __future__ import annotations

import json
import os
import sys
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
import pytest

import pannier
from pannier.errors import UsageError
from pannier.measuring.process import Child, TrialEnded
from pannier.memory import Sampler, working_bytes


def test_a_sweep_measures_every_cell_and_says_what_does_not_fit(packed: pannier.Snapshot, tmp_path: Path) -> None:
    found = packed.measure(
        "train",
        pannier.Treatment(48),
        workers=(1, 2),
        memory_limit=("1MiB", None),
        rounds=2,
        slice_seconds=0.1,
        batch_size=8,
    )
    assert [(row.workers, row.memory_limit_bytes, row.status) for row in found.trials] == [
        (1, 1 << 20, "too_small"),
        (1, None, "ok"),
        (2, 1 << 20, "too_small"),
        (2, None, "ok"),
    ]
    assert "would fit" in found.trials[0].reason or "raise the limit" in found.trials[0].reason
    good = found.trials[1]
    assert good.pictures_per_second is not None
    assert good.pictures_per_second.low <= good.pictures_per_second.median <= good.pictures_per_second.high
    assert good.peak_bytes
    assert good.share_of_ceiling
    assert [row.workers for row in found.ceiling] == [1, 2]
    assert set(json.loads(json.dumps(found.to_dict()))) == {"ceiling", "trials", "settings"}


@pytest.mark.parametrize(
    "options", [{"workers": (0,)}, {"memory_limit": ("auto",)}, {"rounds": 0}, {"memory_limit": ("12XB",)}]
)
def test_impossible_sweeps_are_refused(packed: pannier.Snapshot, options: dict[str, Any]) -> None:
    with pytest.raises(UsageError):
        packed.measure("train", pannier.Treatment(8), **options)


@pytest.mark.parametrize(
    ("body", "status", "says"),
    [
        ("import time; time.sleep(60)", "timed_out", "stuck.py"),
        ("import os; os.kill(os.getpid(), 11)", "died", "signal 11"),
        ("raise MemoryError('full')", "died", "full"),
    ],
)
def test_a_trial_that_hangs_or_dies_is_a_row_that_says_so(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, body: str, status: str, says: str
) -> None:
    (tmp_path / "stuck.py").write_text(
        "from pannier.measuring.child import serve\n"
        f"class R:\n    def run(self, seconds):\n        {body}\n        return 1, 1.0\n"
        "serve(lambda job: R())\n"
    )
    monkeypatch.setenv("PYTHONPATH", str(tmp_path))
    monkeypatch.setattr("pannier.measuring.process.SLACK_SECONDS", 1.0)
    child = Child({}, "stuck")
    try:
        child.wait_until_ready()
        child.begin(0.1)
        with pytest.raises(TrialEnded) as caught:
            child.finish(0.1)
    finally:
        child.close()
        child.close()
    assert caught.value.status == status
    assert says in caught.value.reason


@pytest.mark.skipif(sys.platform != "linux", reason="the system tells and enforces this on Linux alone")
def test_working_memory_is_what_the_system_says() -> None:
    sampler = Sampler(os.getpid(), 0.002)
    before = working_bytes()
    block = np.ones(40 << 20, np.uint8)
    time.sleep(0.05)
    sampler.close()
    assert sampler.peak_bytes - before >= 0.9 * block.nbytes
    assert working_bytes(2**22 + 1) == 0


def test_the_command_prints_a_table_or_json(packed: pannier.Snapshot, run: Callable[..., Any], tmp_path: Path) -> None:
    options = ["--size", 32, "--workers", "1", "--rounds", 1, "--slice-seconds", "0.1", "--batch-size", 4]
    ended = run("measure", packed.store.path, *options, "--memory-limit", "1MiB,none", "--figure", tmp_path / "m.png")
    assert ended.status == 0
    assert "ceiling" in ended.out
    assert "too small" in ended.out
    assert max(map(len, ended.out.splitlines()[:4])) <= 100
    assert (tmp_path / "m.png").stat().st_size > 5000
    ended = run("measure", packed.store.path, *options, "--memory-limit", "1MiB", "--json")
    assert ended.status == 1
    assert [row["status"] for row in json.loads(ended.out)["trials"]] == ["too_small"]
    assert not [finding.file for finding in pannier.verify(packed.store)]  # no lease is left behind
