"""The list of commands, grouped by the step of the job."""

from __future__ import annotations

import typer

import pannier
from pannier.cli import (
    annotate,
    change,
    compare,
    copy,
    demo,
    docket,
    export,
    feed,
    gather,
    history,
    look,
    measure,
    pack,
    query,
    render,
    restore,
    sheet,
    show,
    stats,
    survey,
    tag,
    tidy,
    track,
    treatment,
    verify,
)

app = typer.Typer(
    name="pannier",
    help="Labelled pictures to training batches: pack, version, feed and measure, under a memory limit that holds.",
    add_completion=False,
    no_args_is_help=True,
    rich_markup_mode="rich",
    context_settings={"help_option_names": ["-h", "--help"], "max_content_width": 100},
)

# by the step of the job; each module has a function of its own name
_STEPS = {
    "Collect": (survey, gather, pack, change),
    "Look": (show, sheet, look, query),
    "Prepare": (treatment, stats, render),
    "Version": (history, compare, track, tag, annotate, docket, export, restore, copy),
    "Feed": (feed, measure),
    "Keep": (verify, tidy),
    "Start": (demo,),
}

for _step, _modules in _STEPS.items():
    for _module in _modules:
        _name = _module.__name__.rpartition(".")[2]
        app.command(_name, rich_help_panel=_step, no_args_is_help=_name != "demo")(getattr(_module, _name))


@app.callback(invoke_without_command=True)
def _version(version: bool = typer.Option(False, "--version", metavar="", help="Print the version and stop.")) -> None:
    if version:
        print(f"pannier {pannier.__version__}")
        raise typer.Exit
