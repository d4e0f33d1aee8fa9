"""Writes the references: docs/commands.md from the commands' own help, docs/python.md from the docstrings.

`--check` compares and changes nothing.
"""

from __future__ import annotations

import contextlib
import inspect
import io
import os
import re
import sys
from pathlib import Path
from typing import Any

import pannier
from pannier.cli.commands import CALLS, STEPS
from pannier.cli.entry import status_of

HERE = Path(__file__).parent
os.environ |= {"COLUMNS": "100", "NO_COLOR": "1", "TERM": "dumb"}
LONGEST_LINE = 100
STATUSES = {
    0: "done",
    1: "the data have a problem, said in one line with what to do; or something was found (survey, verify, compare)",
    2: "the call was wrong: an unknown option, path, split, strand or class",
    130: "interrupted; what was finished is kept, and the same command goes on from there",
}


def help_of(*arguments: str) -> str:
    with contextlib.redirect_stdout(io.StringIO()) as text:
        status_of([*arguments, "--help"])
    return "\n".join(line.rstrip() for line in re.sub(r"\x1b\[[0-9;]*m", "", text.getvalue()).strip().splitlines())


def commands_page() -> str:
    parts = ["# Commands", "", "Made from the commands' own help by `make reference`.", "", "```", help_of(), "```", ""]
    parts += ["| exit status | |", "|---|---|", *(f"| {status} | {what} |" for status, what in STATUSES.items()), ""]
    parts += ["| command | the same from Python, with options of the same names |", "|---|---|"]
    parts += [f"| `pannier {command}` | `pannier.{call}` |" for command, call in CALLS.items()]
    for command in " ".join(STEPS.values()).split():
        parts += ["", f"## pannier {command}", "", "```", help_of(command), "```"]
    return "\n".join(parts) + "\n"


def python_page() -> str:
    parts = ["# Python", "", "Made from the docstrings by `make reference`. `pannier.open` is `open_snapshot` too."]
    for name in pannier.__all__:
        thing = getattr(pannier, name)
        is_plain = not inspect.isclass(thing) or issubclass(thing, Exception)
        parts += ["", f"## {name}", "", *(called(name, thing) if inspect.isfunction(thing) else []), doc_of(thing)]
        for member, what in [] if is_plain else members_of(thing):
            value = what.fget if isinstance(what, property) else getattr(what, "func", what)
            parts += ["", f"### {name}.{member}", ""]
            parts += called(member, value) if inspect.isfunction(what) else []
            parts += [doc_of(value)]
    return "\n".join(parts).replace("\n\n\n", "\n\n").rstrip() + "\n"


def members_of(kind: type) -> list[tuple[str, Any]]:
    """Public methods and properties that say what they are, of Pannier's own classes, in order of their names."""
    found: dict[str, Any] = {}
    for base in reversed([each for each in kind.__mro__ if each.__module__.startswith("pannier")]):
        found |= {name: value for name, value in vars(base).items() if not name.startswith("_")}
    plain = {name: getattr(value, "__func__", value) for name, value in found.items()}
    kinds = {
        name: value
        for name, value in plain.items()
        if isinstance(value, property) or callable(value) or hasattr(value, "func")
    }
    return sorted((name, value) for name, value in kinds.items() if doc_of(getattr(value, "fget", None) or value))


def called(name: str, function: Any) -> list[str]:
    """How it is called, a parameter a line where that is long."""
    signature = inspect.signature(function)
    parameters = [
        re.sub(r"'([^']*)'", r"\1", str(each), count=1) for each in signature.parameters.values() if each.name != "self"
    ]
    free = [each.kind == inspect.Parameter.KEYWORD_ONLY for each in signature.parameters.values() if each.name != "self"]
    if any(free):
        parameters.insert(free.index(True), "*")
    returned = str(signature.return_annotation).strip("'")
    line = f"{name}({', '.join(parameters)}) -> {returned}"
    if len(line) > LONGEST_LINE:
        line = f"{name}(\n" + "".join(f"    {each},\n" for each in parameters) + f") -> {returned}"
    return ["```python", line, "```", ""]


def doc_of(thing: Any) -> str:
    return inspect.cleandoc(getattr(thing, "__doc__", None) or "")


if __name__ == "__main__":
    for page, made in ((HERE / "commands.md", commands_page), (HERE / "python.md", python_page)):
        if "--check" not in sys.argv:
            page.write_text(made())
        elif not page.exists() or page.read_text() != made():
            sys.exit(f"docs/{page.name} is not what the help and the docstrings say: run make reference")
