"""Options that several commands share: one name, one meaning throughout."""

from __future__ import annotations

import inspect
from collections.abc import Callable
from dataclasses import dataclass
from functools import wraps
from typing import TYPE_CHECKING, Annotated, Any

import typer

from pannier import choices

if TYPE_CHECKING:
    from pannier.api.objects import Snapshot
    from pannier.api.treatments import Treatment

Store = Annotated[str, typer.Argument(metavar="STORE[@NAME]", help="A store; NAME is a track, a tag or a snapshot's id.")]
Sources = Annotated[
    list[str],
    typer.Argument(metavar="SOURCE...", help="A folder, an archive, a table, arrays; or a TOML file that names several."),
]
AsJson = Annotated[bool, typer.Option("--json", metavar="", help="Print the same facts as JSON.")]
Split = Annotated[str | None, typer.Option("--split", help="Only this split.")]
Subset = Annotated[
    str | None, typer.Option("--subset", metavar="PART", help="A part, as 10%, fair in every class, fixed by the seed.")
]
Seed = Annotated[int, typer.Option("--seed", help="Seed of order and chance.")]
Figure = Annotated[str | None, typer.Option("--figure", metavar="FILE", help="Draw it into a PNG, PDF or SVG file.")]
Note = Annotated[str, typer.Option(help="A line to remember it by.")]
Workers = Annotated[int | None, typer.Option(min=1, help="Threads; by default all usable cores.")]
MemoryLimit = Annotated[str, typer.Option(help="Bound of working memory: 128MiB, auto or none.")]
Where = Annotated[str | None, typer.Option(metavar="EXPR", help="Only records for which this SQL holds.")]
StoreHint = Annotated[str | None, typer.Option("--store", help="Where the docket's store is here.")]
FactsOption = Annotated[
    list[str] | None,
    typer.Option("--fact", metavar="KEY=VALUE", help="A fact to keep with the snapshot; may be given again."),
]
Last = Annotated[choices.Last | None, typer.Option(help="What becomes of a last, smaller batch.")]
LabelAs = Annotated[choices.LabelAs | None, typer.Option(help="How labels come; by default as numbers.")]
BatchSize = Annotated[int, typer.Option("--batch-size", help="Pictures a batch.")]

_TREATMENT: dict[str, Any] = {
    "size": Annotated[str | None, typer.Option(help="Size of a prepared picture: 96, or HEIGHTxWIDTH as 96x128.")],
    "treatment": Annotated[
        str | None, typer.Option(metavar="FILE", help="A TOML file that says how a picture becomes an array.")
    ],
    "fit": Annotated[str | None, typer.Option(help="cover, contain or fill.")],
    "color": Annotated[str | None, typer.Option(help="rgb or gray.")],
    "values": Annotated[
        str | None,
        typer.Option(help="raw, unit, signed, or standard (measured on the split train at this very size)."),
    ],
    "flip": Annotated[str | None, typer.Option(help="Random mirroring: none, horizontal, vertical or both.")],
}


@dataclass(frozen=True)
class TreatmentOptions:
    """What was said of a treatment: a file, and options, which go before it."""

    file: str | None
    fields: dict[str, Any]

    @property
    def are_said(self) -> bool:
        """Whether a file or any option was given at all."""
        return bool(self.file or self.fields)

    def as_said(self) -> Treatment:
        """The treatment that they describe together; its mean and std may not be known yet."""
        from pannier.api.treatments import Treatment

        return Treatment.from_file(self.file, **self.fields) if self.file else Treatment(**self.fields)

    def treatment(self, snapshot: Snapshot, **bounds: Any) -> Treatment:
        """The same, ready for that snapshot; `bounds` are workers and memory_limit, for measuring."""
        return ready(self.as_said(), snapshot, **bounds)


def measured_split(snapshot: Snapshot) -> str | None:
    """What mean and std are measured on unless said: the split train, or all records where there is none."""
    return "train" if "train" in snapshot.splits else None


def ready(treatment: Treatment, snapshot: Snapshot | None, **bounds: Any) -> Treatment:
    """Standard values without numbers are measured on the snapshot, if there is one."""
    if treatment.is_ready or snapshot is None:
        return treatment
    return treatment.measured(snapshot, measured_split(snapshot), **bounds)


NO_TREATMENT = TreatmentOptions(None, {})

RuleOptions = dict[str, Any]
DealingOptions = dict[str, Any]
NO_RULES: RuleOptions = {}
NO_DEALING: DealingOptions = {}


def in_panel(panel: str) -> Callable[..., Any]:
    return lambda *names, **options: typer.Option(*names, rich_help_panel=panel, **options)


_rule, _dealing = in_panel("Rules over the source's columns"), in_panel("Splits")

_RULES: dict[str, Any] = {
    "label": Annotated[
        str | None,
        _rule(metavar="EXPR", help="What gives labels: a column, or SQL over columns; by default parent."),
    ],
    "label_pattern": Annotated[
        str | None, _rule(metavar="PATTERN", help="Labels out of names, as '{label}_loom{loom}_{number}'.")
    ],
    "where": Annotated[
        list[str] | None,
        _rule(metavar="EXPR", help="Only rows for which this SQL holds; may be given again."),
    ],
    "key": Annotated[str | None, _rule(metavar="EXPR", help="What gives keys; by default the path in the source.")],
    "split_by": Annotated[str | None, _rule(metavar="EXPR", help="What gives splits; NULL is dealt by --shares.")],
    "picture": Annotated[str | None, _rule(metavar="EXPR", help="Of a table: what gives a picture's path, or its bytes.")],
    "root": Annotated[str | None, _rule(metavar="FOLDER", help="Of a table: where its paths begin.")],
    "encoding": Annotated[str | None, _rule(help="Of a text table, where it is not found.")],
    "separator": Annotated[str | None, _rule(help="Of a text table, where it is not found.")],
    "include": Annotated[
        list[str] | None,
        _rule(metavar="PATTERN", help="Of a folder or archive: only paths like this, as 'a*/*.jpg'."),
    ],
    "exclude": Annotated[
        list[str] | None, _rule(metavar="PATTERN", help="Of a folder or archive: no paths like this, as 'drafts/'.")
    ],
    "rename": Annotated[list[str] | None, _rule(metavar="OLD=NEW", help="Read one class name as another.")],
    "class_names": Annotated[
        str | None, _rule(metavar="TABLE", help="Names of labels that are numbers: two columns, label and name.")
    ],
}

_DEALING: dict[str, Any] = {
    "shares": Annotated[str | None, _dealing(help="Deal records to splits, as train=75,val=15,test=10.")],
    "seed": Annotated[int | None, _dealing(help="Seed of the dealing.")],
    "count": Annotated[
        str | None, _dealing(metavar="SPLIT=N", help="A split of so many records, as test=120; the rest by --shares.")
    ],
    "carve": Annotated[str | None, _dealing(metavar="SPLIT=SHARE", help="Take a split out of another, as val=15%.")],
    "of": Annotated[str | None, _dealing(metavar="SPLIT", help="With --carve: out of which.")],
    "folds": Annotated[int | None, _dealing(help="So many equal splits, fold-1, fold-2 and so on.")],
    "group_by": Annotated[str | None, _dealing(metavar="EXPR", help="What must stay together in one split.")],
    "near": Annotated[
        int | None, _dealing(metavar="BITS", help="Near doubles stay together: hashes differ in so many bits, as 6.")
    ],
    "freeze": Annotated[
        str | None, _dealing(metavar="SPLIT,...", help="Splits that neither gain nor lose from now on; none thaws all.")
    ],
    "allow_leaks": Annotated[
        bool | None, _dealing("--allow-leaks", metavar="", help="Keep splits that leak; the snapshots say so for ever.")
    ],
}


def takes_treatment(command: Callable[..., int]) -> Callable[..., int]:
    """In place of its parameter `treatment: TreatmentOptions`, the command gets the options that describe a treatment."""

    def read(said: dict[str, Any]) -> TreatmentOptions:
        file, size = said.pop("treatment", None), said.pop("size", None)
        return TreatmentOptions(file, said if size is None else said | {"size": read_size(size)})

    return _taking(command, "treatment", _TREATMENT, read)


def takes_rules(command: Callable[..., int]) -> Callable[..., int]:
    """In place of its parameter `rules: dict`, the command gets the options that are rules over a source's columns."""
    return _taking(command, "rules", _RULES, dict)


def takes_dealing(command: Callable[..., int]) -> Callable[..., int]:
    """In place of its parameter `dealing: dict`, the command gets the options that say who goes to which split."""
    return _taking(command, "dealing", _DEALING, dict)


def _taking(
    command: Callable[..., int], name: str, options: dict[str, Any], read: Callable[[dict[str, Any]], Any]
) -> Callable[..., int]:
    """The command with `options` in place of its parameter `name`, which gets what `read` makes of those that were said."""
    own = list(inspect.signature(command, eval_str=True).parameters.values())
    at = next(i for i, parameter in enumerate(own) if parameter.name == name)
    kind = inspect.Parameter.POSITIONAL_OR_KEYWORD
    added = [inspect.Parameter(option, kind, default=None, annotation=each) for option, each in options.items()]

    @wraps(command)
    def with_options(**given: Any) -> int:
        said = {option: given.pop(option) for option in options}
        return command(**given, **{name: read({option: value for option, value in said.items() if value is not None})})

    parameters = own[:at] + added + own[at + 1 :]
    with_options.__signature__ = inspect.Signature(parameters)  # type: ignore[attr-defined]
    with_options.__annotations__ = {parameter.name: parameter.annotation for parameter in parameters}
    return with_options


def read_size(text: str | None) -> int | tuple[int, int] | None:
    from pannier.errors import UsageError

    if text is None:
        return None
    sides = text.lower().split("x")
    if len(sides) > 2 or not all(side.isdigit() for side in sides):
        raise UsageError(f"--size {text}: write one number, as 96, or HEIGHTxWIDTH, as 96x128")
    return int(sides[0]) if len(sides) == 1 else (int(sides[0]), int(sides[1]))
