"""The list of commands, grouped by the step of the job."""

from __future__ import annotations

from collections import Counter
from importlib import import_module
from typing import Any

import typer
from typer.core import TyperCommand, TyperOption

import pannier
from pannier.cli.terminal import as_options
from pannier.errors import PannierError
from pannier.files import FIGURES, PAGES, TABLES, check_result

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
    "Look": "show sheet look query doubles",
    "Prepare": "treatment stats render",
    "Version": "history compare strand merge tag attach",
    "Share": "docket export restore copy publish",
    "Feed": "feed measure report",
    "Upkeep": "verify tidy",
}
# the call that does the same, with options of the same names
CALLS = {
    **{name: name for name in ("survey", "gather", "compare", "restore", "verify", "report")},
    **{name: f"Store.{name}" for name in ("pack", "change", "history", "merge", "tag", "copy", "publish", "tidy")},
    **{
        name: f"Snapshot.{name}"
        for name in ("sheet", "query", "doubles", "stats", "render", "attach", "docket", "export", "feed", "measure")
    },
    **{"strand": "Store.start_strand"},
}
# by the question that they answer the options of a long help
PANELS = {
    "What is taken": "picture root null shape include exclude hidden link where split subset pictures per_class "
    "only_classes max_pixels max_bytes unlabeled strict doubtful doubts again reread forget",
    "Labels, keys and columns": "labels label label_pattern rename classes allow_missing_classes relabel key "
    "prefix columns predicted probability",
    "Splits": "shares counts carve of folds group_by near ties freeze split_by resplit allow_leaks",
    "What changes": "from_ key_column new_classes set remove unlike as_of",
    "What is kept": "longest_side encode remove_missing",
    "Where to": "name description strand note fact shard_size",
    "How politely": "pause connections attempts timeout ignore_robots",
    "Order and chance": "shuffle augment arrange",
    "Batches": "batch batch_size epoch epochs last label_as treatment size treated rendered",
    "Memory and threads": "ahead memory_limit cache cache_size",
}
MANY = 15
# options that name a file to be written, and how it may be called
RESULTS: dict[str, tuple[str, ...]] = {
    **dict.fromkeys(("figure", "sheet"), FIGURES),
    **dict.fromkeys(("table", "doubts", "conflicts"), TABLES),
    **dict.fromkeys(("save", "save_to", "to"), ()),
    "page": PAGES,
}


class Grouped(TyperCommand):
    """A command whose help parts many options by the question that they answer; one alone needs no panel."""

    def __init__(self, *args: Any, **more: Any) -> None:
        super().__init__(*args, **more)
        options = {each.name: each for each in self.params if isinstance(each, TyperOption)}
        if len(options) <= MANY:
            return
        panels = {name: panel for panel, names in PANELS.items() for name in names.split() if name in options}
        near = {"seed": ("shares", "shuffle", "arrange"), "workers": ("memory_limit",)}  # of several questions
        panels |= {name: panels[other] for name, others in near.items() for other in others if other in panels}
        sizes, order = Counter(panels.values()), ["", *PANELS]
        for name, option in options.items():
            option.rich_help_panel = panels[name] if sizes[panels.get(name, "")] > 1 else None
        self.params.sort(key=lambda each: order.index(panels.get(each.name or "", "")))

    def parse_args(self, ctx: Any, args: list[str]) -> list[str]:
        """Of one value for SOURCE... STORE the parser says that SOURCE is missing; people wrote a source."""
        try:
            return super().parse_args(ctx, args)
        except Exception as error:
            missing = getattr(error, "param", None)
            places = [each for each in self.params if each.param_type_name == "argument"]
            if missing is not None and missing.nargs == -1 and len(places) > 1:
                error.param = places[-1]  # type: ignore[attr-defined]
            raise

    def invoke(self, ctx: Any) -> Any:
        """Runs it, where the files that were asked for can be written; an error names this command's options."""
        try:
            for option in (each for each in self.params if isinstance(each, TyperOption) and each.name in RESULTS):
                path, source = ctx.params.get(option.name), ctx.get_parameter_source(option.name)
                if isinstance(path, str) and source is not None and source.name == "COMMANDLINE":
                    check_result(path, RESULTS[str(option.name)])
            return super().invoke(ctx)
        except PannierError as error:
            error.args = (as_options(str(error), [each.name or "" for each in self.params]), *error.args[1:])
            raise


_STATUSES = "Exit status: 0 done, 1 the data have a problem, 2 the call was wrong, 130 interrupted."

for _step, _names in STEPS.items():
    for _name in _names.split():
        _command = getattr(import_module(f"pannier.cli.{_name}"), _name)
        _call = f"In Python: pannier.{CALLS[_name]}. " if _name in CALLS else ""
        _said = _call + _STATUSES
        app.command(_name, cls=Grouped, rich_help_panel=_step, no_args_is_help=_name != "demo", epilog=_said)(_command)


@app.callback(invoke_without_command=True)
def _version(version: bool = typer.Option(False, "--version", "-V", metavar="", help="Print the version and stop.")) -> None:
    if version:
        print(f"pannier {pannier.__version__}")
        raise typer.Exit
