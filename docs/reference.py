"""Writes docs/commands.md, the command reference, from the commands' own help. `--check` compares and changes nothing."""

from __future__ import annotations

import os
import re
import subprocess
import sys
from pathlib import Path

PAGE = Path(__file__).parent / "commands.md"
COMMANDS = ("survey", "gather", "pack", "change", "show", "sheet", "feed", "measure", "verify", "demo")


def help_of(*arguments: str) -> str:
    environment = os.environ | {"COLUMNS": "100", "NO_COLOR": "1", "TERM": "dumb"}
    command = [sys.executable, "-m", "pannier", *arguments, "--help"]
    text = subprocess.run(command, capture_output=True, text=True, env=environment, check=True).stdout
    return "\n".join(line.rstrip() for line in re.sub(r"\x1b\[[0-9;]*m", "", text).strip().splitlines())


def page() -> str:
    parts = ["# Commands", "", "Made from the commands' own help by `make reference`.", "", "```", help_of(), "```"]
    for command in COMMANDS:
        parts += ["", f"## pannier {command}", "", "```", help_of(command), "```"]
    return "\n".join(parts) + "\n"


if __name__ == "__main__":
    if "--check" in sys.argv:
        if PAGE.read_text() != page():
            sys.exit("docs/commands.md is not what the help says: run make reference")
    else:
        PAGE.write_text(page())
