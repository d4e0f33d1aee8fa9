"""The list of commands, grouped by the step of the job."""

from __future__ import annotations

from importlib import import_module

import typer

import pannier

app = typer.Typer(
    name="pannier",
    help="Labelled pictures to training batches: pack, version, feed and measure, under a memory limit that holds.",
    no_args_is_help=True,
    rich_markup_mode="rich",
    context_settings={"help_option_names": ["-h", "--help"], "max_content_width": 100},
)

# by the step of the job: each is a module of this folder with a function of its own name
STEPS = {
    "Start": "demo",
    "Collect": "survey gather pack change",
    "Look": "show sheet look query",
    "Prepare": "treatment stats render",
    "Version": "history compare strand tag attach",
    "Share": "docket export restore copy",
    "Feed": "feed measure",
    "Upkeep": "verify tidy",
}
# the call that does the same, with options of the same names
CALLS = {
    **{"survey": "survey", "gather": "gather", "compare": "compare", "restore": "restore", "verify": "verify"},
    **{name: f"Store.{name}" for name in ("pack", "change", "history", "tag", "copy", "tidy")},
    **{
        name: f"Snapshot.{name}"
        for name in ("sheet", "query", "stats", "render", "attach", "docket", "export", "feed", "measure")
    },
    **{"strand": "Store.start_strand"},
}
_STATUSES = "Exit status: 0 done, 1 the data have a problem, 2 the call was wrong, 130 interrupted."

for _step, _names in STEPS.items():
    for _name in _names.split():
        _command = getattr(import_module(f"pannier.cli.{_name}"), _name)
        _call = f"In Python: pannier.{CALLS[_name]}. " if _name in CALLS else ""
        app.command(_name, rich_help_panel=_step, no_args_is_help=_name != "demo", epilog=_call + _STATUSES)(_command)


@app.callback(invoke_without_command=True)
def _version(version: bool = typer.Option(False, "--version", "-V", metavar="", help="Print the version and stop.")) -> None:
    if version:
        print(f"pannier {pannier.__version__}")
        raise typer.Exit
