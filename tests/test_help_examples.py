"""Every example of every help runs as it is written, on the demo's data."""

from __future__ import annotations

import contextlib
import os
import re
import shlex
import shutil
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import pytest
import typer

from pannier.cli.commands import app
from pannier.cli.entry import main
from tests.conftest import demo_folder

# what a reader of the helps would have done before, in the order of the job
BEFORE = """\
gather register.csv raking/ --link raking --pause 1ms --attempts 1 --timeout 1s
pack archive/ swatches.store --shares train=75,val=15,test=10 --seed 7
tag swatches.store spring
treatment cloth.toml --new
stats swatches.store --split train --treatment cloth.toml --save
docket swatches.store@spring weave.docket --treatment cloth.toml --seed 7 --split train
change swatches.store --from predictions.csv
export swatches.store@spring swatches/ --docket swatches.docket
copy swatches.store mill.store
strand swatches.store trial
change swatches.store --strand trial --rename rib=ribbed
copy swatches.store backup.store --all
"""
STATUSES = {"survey": (0, 1), "gather": (0, 1), "measure": (0, 1)}
# what a test must not wait for
BRIEFLY = {
    "gather": ["--pause", "1ms", "--attempts", "1", "--timeout", "1s"],
    "measure": [
        *("--rounds", "1", "--slice-seconds", "0.1", "--workers", "1", "--source", "shards", "--memory-limit", "none"),
    ],
}
# what leaves the store as it is; its figures may lie there
READING = ("survey", "show", "sheet", "look", "history", "compare", "query", "stats", "feed", "measure")
# names that stand already are given once
TAKEN = {
    "tag swatches.store spring": "tag swatches.store spring --remove --yes",
    "strand swatches.store trial": "strand swatches.store trial --remove --yes",
}


def examples() -> Iterator[str]:
    for name, command in typer.main.get_command(app).commands.items():  # type: ignore[attr-defined]
        shown = re.findall(r"\[dim\]\$\[/dim\] pannier (.+)", command.help)
        assert shown, f"{name} has no example"
        yield from shown


@pytest.fixture(scope="module")
def mill_at_work(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Path]:
    """The demo's folder, its register's links served by a stand-in, with everything done that examples build on."""
    with demo_folder(tmp_path_factory.mktemp("mill")) as folder:
        yield folder


@pytest.fixture(scope="module")
def worked(mill_at_work: Path) -> Path:
    with contextlib.chdir(mill_at_work):
        for line in BEFORE.splitlines():
            with pytest.raises(SystemExit) as ended:
                main(shlex.split(line))
            assert ended.value.code in (0, 1), line
    return mill_at_work


def test_every_example_runs_as_it_is_written(
    worked: Path, tmp_path: Path, run: Callable[..., Any], subtests: pytest.Subtests
) -> None:
    # no server is there, and the demo is a test of its own
    here = [each for each in examples() if not each.startswith("demo") and "://" not in each]
    for number, example in enumerate(dict.fromkeys(here)):
        with subtests.test(example):
            words = shlex.split(example)
            folder = worked
            if words[0] not in READING:
                folder = shutil.copytree(worked, tmp_path / str(number), copy_function=_linked_or_copied)
            if "--new" in words:
                (folder / words[1]).unlink()
            if example in TAKEN:
                run(*shlex.split(TAKEN[example]), cwd=folder)
            ended = run(words[0], *BRIEFLY.get(words[0], []), *words[1:], cwd=folder)  # what it says itself stands
            assert ended.status in STATUSES.get(words[0], (0,)), ended.err
            assert "Traceback" not in ended.err
        if folder != worked:
            shutil.rmtree(folder)


def _linked_or_copied(source: str, target: str) -> None:
    """Of pictures and shards, which nothing writes to once they stand, a copy needs no bytes."""
    is_fixed = source.endswith((".jpg", ".png", ".webp")) or "/shards/" in source
    os.link(source, target) if is_fixed else shutil.copy2(source, target)
