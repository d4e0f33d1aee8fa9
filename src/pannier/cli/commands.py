"""The list of commands, grouped by the step of the job."""

from __future__ import annotations

import typer

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

_COMMANDS = (
    ("Collect", "survey", survey.survey),
    ("Collect", "gather", gather.gather),
    ("Collect", "pack", pack.pack),
    ("Collect", "change", change.change),
    ("Look", "show", show.show),
    ("Look", "sheet", sheet.sheet),
    ("Look", "look", look.look),
    ("Look", "query", query.query),
    ("Prepare", "treatment", treatment.treatment),
    ("Prepare", "stats", stats.stats),
    ("Prepare", "render", render.render),
    ("Version", "history", history.history),
    ("Version", "compare", compare.compare),
    ("Version", "track", track.track),
    ("Version", "tag", tag.tag),
    ("Version", "annotate", annotate.annotate),
    ("Version", "docket", docket.docket),
    ("Version", "export", export.export),
    ("Version", "restore", restore.restore),
    ("Version", "copy", copy.copy),
    ("Feed", "feed", feed.feed),
    ("Feed", "measure", measure.measure),
    ("Keep", "verify", verify.verify),
    ("Keep", "tidy", tidy.tidy),
    ("Start", "demo", demo.demo),
)

for _step, _name, _function in _COMMANDS:
    app.command(_name, rich_help_panel=_step, no_args_is_help=_name != "demo")(_function)


@app.callback(invoke_without_command=True)
def _version(version: bool = typer.Option(False, "--version", metavar="", help="Print the version and stop.")) -> None:
    if version:
        from pannier import __version__

        print(f"pannier {__version__}")
        raise typer.Exit
