"""The guarantees of the README, each by a plain script as a new user might write it, in a process that is cold."""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
from pathlib import Path

import pytest

SCRIPTS = sorted(path for path in (Path(__file__).parent / "promises").glob("*.py") if path.stem != "pictures")


@pytest.mark.proof
@pytest.mark.parametrize("script", SCRIPTS, ids=lambda path: path.stem)
def test_a_plain_script_finds_the_promise_kept(script: Path, tmp_path: Path, scale: int) -> None:
    for seed in range(scale):
        folder = tmp_path / str(seed)
        folder.mkdir()
        there = {**os.environ, "TMPDIR": str(folder)}
        done = subprocess.run([sys.executable, script, str(seed)], capture_output=True, text=True, env=there, check=False)
        assert done.returncode == 0, f"seed {seed}: {done.stderr[-2000:]}"
        shutil.rmtree(folder, ignore_errors=True)
