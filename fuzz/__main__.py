"""`python -m fuzz [READER ...] [--seconds 1200]`: readers for so long each; all of them, onto docs/fuzzing.md."""

from __future__ import annotations

import argparse
import contextlib
import json
import subprocess
import sys
import tempfile
import time
from concurrent.futures import ThreadPoolExecutor
from functools import partial
from pathlib import Path
from typing import Any

from fuzz.readers import READERS
from fuzz.running import LONGEST_SECONDS, MOST_BYTES, Case, Outcome, run, told_together

_AT_ONCE = 50
# seeds with which something was found once
KEPT = {"archives": (1230, 1695), "folders": (1794,), "pictures": (102121,)}
PAGE = Path(__file__).parent.parent / "docs" / "fuzzing.md"


def main() -> int:
    parser = argparse.ArgumentParser(prog="fuzz")
    parser.add_argument("readers", nargs="*")
    parser.add_argument("--seconds", type=float, default=1200)
    parser.add_argument("--first", type=int, default=0, help="the first seed")
    parser.add_argument("--count", type=int, help="so many inputs, in place of seconds")
    said = parser.parse_args()
    if not said.readers:
        return fuzz_all(said.seconds, said.first)
    is_well = True
    for name in said.readers:
        outcomes = hunt(name, said.seconds, said.first, said.count)
        is_well &= all(each.is_well for each in outcomes)
        print(json.dumps({"reader": name, "inputs": len(outcomes), **told_together(outcomes)}), flush=True)
    return 0 if is_well else 1


def hunt(name: str, seconds: float, first: int = 0, count: int | None = None) -> list[Outcome]:
    """Outcomes of one reader, for so many seconds; what is not well is shown as it comes."""
    outcomes: list[Outcome] = []
    with tempfile.TemporaryDirectory(prefix="hostile-") as folder:
        case, until = READERS[name](Path(folder)), time.monotonic() + seconds
        while len(outcomes) < count if count is not None else time.monotonic() < until:
            at, few = first + len(outcomes), _AT_ONCE if count is None else min(_AT_ONCE, count - len(outcomes))
            seeds = [*KEPT.get(name, ()), *range(at, at + few)] if not outcomes else [*range(at, at + few)]
            for outcome in run(case, seeds, partial(_warmed, case)):
                outcomes.append(outcome)
                if not outcome.is_well:
                    print(f"  {name} {outcome}", flush=True)
    return outcomes


def _warmed(case: Case) -> None:
    """Libraries and kernels are loaded before anything is measured."""
    for seed in (-1, -2):
        with contextlib.suppress(Exception):
            case(seed)


def fuzz_all(seconds: float, first: int) -> int:
    """Every reader in a process of its own, three at a time, and the page."""
    with ThreadPoolExecutor(3) as pool:
        done = list(pool.map(lambda name: _apart(name, seconds, first), READERS))
    lines = [
        "# What fuzzing met",
        "",
        f"Written by `make fuzz`: every reader of input for {seconds / 60:g} min, from seed {first} on, three at a time.",
        f"Each input is read in a child that may take {LONGEST_SECONDS:g} s of a usual processor, {MOST_BYTES >> 20} MiB.",
        "Taken: what was changed did not matter. Refused: by an error of ours in one line. Anything else, a crash, a",
        "traceback, a hang, more time or memory, is a finding.",
        "",
        "| reader | inputs | taken | refused | findings | seconds at most | MiB at most |",
        "|---|---|---|---|---|---|---|",
    ]
    lines += [_row(told, findings) for told, findings in done]
    met = [line for _, findings in done for line in findings]
    lines += ["", "## Findings", "", *(f"- {line.strip()}" for line in met)] if met else []
    PAGE.write_text("\n".join(lines) + "\n")
    return 1 if met else 0


def _apart(name: str, seconds: float, first: int) -> tuple[dict[str, Any], list[str]]:
    command = [sys.executable, "-m", "fuzz", name, "--seconds", str(seconds), "--first", str(first)]
    *findings, last = subprocess.run(command, capture_output=True, text=True, check=False).stdout.splitlines()
    print("\n".join([*findings, last]), flush=True)
    return json.loads(last), findings


def _row(told: dict[str, Any], findings: list[str]) -> str:
    known = {name: told.get(name, 0) for name in ("taken", "refused")}
    numbers = (f"{told['inputs']:,}", f"{known['taken']:,}", f"{known['refused']:,}", str(len(findings)))
    return f"| {told['reader']} | {' | '.join(numbers)} | {told['seconds']:.1f} | {told['MiB']} |"


if __name__ == "__main__":
    sys.exit(main())
