"""The guided tour: takes every step of the job as a user would, and says each command before it runs."""

from __future__ import annotations

import contextlib
import os
import shlex
import subprocess
import sys
import textwrap
import time
from dataclasses import dataclass
from pathlib import Path

from pannier.demo.mill import mill_of, serving
from pannier.errors import PannierError, UsageError


@dataclass(frozen=True)
class Step:
    """What is shown and why, the command, and the exit status that it must end with."""

    says: str
    command: str
    status: int = 0


def run_tour(directory: str | Path, swatches: int, seed: int) -> int:
    """Draws the archive into a new or empty folder and runs every step. Raises UsageError, PannierError."""
    folder = Path(directory)
    if folder.exists() and (not folder.is_dir() or any(folder.iterdir())):
        raise UsageError(
            f"{folder} is not empty; the demo never writes into a folder that holds something: name another one"
        )
    folder.mkdir(parents=True, exist_ok=True)
    started = time.monotonic()
    _draw(folder, swatches, seed)
    with serving(mill_of(folder / "archive")) as mill:
        for step in _steps(folder, seed, mill):
            _say(step.says, step.command)
            _run(step)
    print(
        f"\nAll of it took {time.monotonic() - started:.0f} s. Everything is in {folder}: "
        "look at counts.png, differences.png, sheet.png, look.png, measure.png."
    )
    return 0


def _steps(folder: Path, seed: int, mill: str) -> list[Step]:
    here = shlex.quote(str(folder))
    feed = f"pannier feed {here}/swatches.store --split train --treatment {here}/cloth.toml --memory-limit 128MiB"
    store, cloth, size = f"{here}/swatches.store", f"{here}/cloth.store", "--size 96 --batch-size 32"
    link = f"replace(raking, 'https://mill.example', '{mill}')"
    wanted = "finish = 'washed' AND abs(warp_per_cm - weft_per_cm) <= 1"
    fine = "CASE WHEN warp_per_cm < 24 THEN 'coarse' ELSE 'fine' END"
    return [
        Step("What is in the archive, and what is wrong with it?", f"pannier survey {here}/archive", 1),
        Step("And in the second delivery? Headers alone will do.", f"pannier survey {here}/season --quick", 1),
        Step(
            "Into the store, dealt to splits; what is broken is left out and listed.",
            f"pannier pack {here}/archive {store} --shares train=75,val=15,test=10 --seed {seed} --note 'first six weaves'",
        ),
        Step("The snapshot.", f"pannier show {store} --batch-size 32 --figure {here}/counts.png"),
        Step(
            "This state gets a name, and a docket: a small file for the code's repository, with which anyone gets the same "
            "batches. Of what it feeds, the digest is printed.",
            f"pannier tag {store} spring",
        ),
        Step("", f"pannier docket {store}@spring --split train {size} --seed {seed} > {here}/weave.docket"),
        Step("", f"pannier feed --docket {here}/weave.docket --digest"),
        Step("The second delivery has a class folder misspelt: packing stops.", f"pannier pack {here}/season {store}", 1),
        Step(
            "Told what is meant, it goes through.",
            f"pannier pack {here}/season {store} --rename herringbon=herringbone --note 'second season'",
        ),
        Step(
            "Two labels are put right: a change is a new snapshot too, and touches no picture.",
            f"pannier change {store} --where \"key LIKE 'rib/0003.%' OR key LIKE 'rib/0007.%'\" --set label=basket "
            f"--note 'two labels put right'",
        ),
        Step("What has changed since?", f"pannier compare {store}@spring {store} --count 6 --figure {here}/differences.png"),
        Step("", f"pannier history {store}"),
        Step(
            "The old season is fed again from its docket: the same batches.",
            f"pannier feed --docket {here}/weave.docket --digest",
        ),
        Step(
            "The register links to pictures by raking light. Those that a rule wants are gathered from the mill's web "
            "server, which a stand-in on this machine plays; it asks for patience now and then.",
            f'pannier gather {here}/register.csv {here}/raking --link "{link}" --where "{wanted}" --pause 20ms',
        ),
        Step(
            "A rule over the register's columns gives labels; pictures of one loom stay in one split.",
            f'pannier pack {here}/raking/gathered.csv {cloth} --label "{fine}" --keep fiber,loom --group-by loom '
            f"--shares train=75,val=25 --name 'Fine and coarse'",
        ),
        Step(
            "The weaver has looked again: looms 1 and 2 weave coarse cloth alone. What would change?",
            f'pannier change {cloth} --where "loom <= 2" --set label=coarse --preview',
        ),
        Step(
            "Look at the pictures before training on them.",
            f"pannier sheet {store} --split train --figure {here}/sheet.png",
        ),
        Step(
            "A treatment says how a picture becomes an array. A commented file to begin with, and one swatch through it.",
            f"pannier treatment {here}/cloth.toml --new",
        ),
        Step("", f"pannier look {store} twill/0004.jpg --treatment {here}/cloth.toml --figure {here}/look.png"),
        Step(
            "Mean and deviation of the training split, measured at the very size in use, go into the file.",
            f"pannier stats {store} --split train --treatment {here}/cloth.toml --save",
        ),
        Step("One batch, as training would get it.", f"{feed} --describe"),
        Step("An epoch; then what is fixed is run once and kept, and an epoch again.", feed),
        Step("", f"pannier render {store} --treatment {here}/cloth.toml"),
        Step("", feed),
        Step(
            "How much memory does it take to be fast? Measured, not guessed.",
            f"pannier measure {store} --size 96 --batch-size 16 --workers 2 --memory-limit 16MiB,64MiB --rounds 2 "
            "--slice-seconds 0.2 "
            f"--figure {here}/measure.png",
        ),
        Step("Is every byte as it was written?", f"pannier verify {store}"),
    ]


def _say(says: str, command: str) -> None:
    if says:
        print("\n" + "\n".join(textwrap.wrap(says, 100, initial_indent="# ", subsequent_indent="# ")))
    print(f"\n$ {command}", flush=True)


def _run(step: Step) -> None:
    command, _, file = step.command.partition(" > ")
    arguments = [sys.executable, "-m", "pannier", *shlex.split(command)[1:]]
    environment = os.environ | {"COLUMNS": os.environ.get("COLUMNS", "100")}
    with open(shlex.split(file)[0], "w", encoding="utf-8") if file else contextlib.nullcontext() as output:
        status = subprocess.run(arguments, env=environment, stdout=output, check=False).returncode
    if status != step.status:
        raise PannierError(f"the demo's step ended with exit status {status}, not {step.status}: {step.command}")


def _draw(folder: Path, swatches: int, seed: int) -> None:
    from pannier.demo.archive import draw_archive

    print(
        f"# Fell Lane Mill photographs its cloth: drawing {swatches} swatches and a second delivery into {folder}",
        flush=True,
    )
    draw_archive(folder, swatches, seed)
