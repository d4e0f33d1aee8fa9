"""Options that several commands share: one name, one meaning throughout."""

from __future__ import annotations

import inspect
from collections.abc import Callable
from dataclasses import dataclass
from functools import partial, wraps
from typing import Annotated, Any

import typer

import pannier
from pannier import choices
from pannier.errors import UsageError


def value(default: Any, help: str, metavar: str | None = None, *names: str, **more: Any) -> Any:
    """An option of a command that takes a value, in a line."""
    return typer.Option(default, *names, help=help, metavar=metavar, **more)


def flag(name: str, help: str, **more: Any) -> Any:
    """An option that is said or not."""
    return value(False, help, "", name, **more)


def argument(default: Any, help: str, **more: Any) -> Any:
    """An argument of a command, in a line."""
    return typer.Argument(default, help=help, **more)


@dataclass(frozen=True)
class Declared:
    """An option that stands in a table of options: its type, and what `value` takes."""

    kind: Any
    help: str
    metavar: str | None = None
    default: Any = None
    names: tuple[str, ...] = ()

    def parameter(self, name: str) -> inspect.Parameter:
        is_switch = self.kind == (bool | None) and not self.names
        names, metavar = ((f"--{name.replace('_', '-')}",), "") if is_switch else (self.names, self.metavar)
        made = value(self.default, self.help, metavar, *names)
        return inspect.Parameter(name, inspect.Parameter.POSITIONAL_OR_KEYWORD, default=made, annotation=self.kind)


text, texts = partial(Declared, str | None), partial(Declared, list[str] | None)
number, switch = partial(Declared, int | None), partial(Declared, bool | None)

Store = Annotated[str, typer.Argument(metavar="STORE[@NAME]", help="A store; NAME is a strand, a tag or a snapshot's id.")]
Sources = Annotated[
    list[str],
    typer.Argument(
        metavar="SOURCE...",
        help="A folder, archive, table, arrays; in a bucket too. STORE@NAME. Or a TOML file of several.",
    ),
]
Preview = Annotated[bool, typer.Option("--preview", metavar="", help="Show what would be done, and do nothing.")]
AsJson = Annotated[bool, typer.Option("--json", metavar="", help="Print the same facts as JSON.")]
Split = Annotated[str | None, typer.Option("--split", metavar="SPLIT", help="Only this split.")]
FedSplit = Annotated[
    str | None,
    typer.Option("--split", metavar="SPLIT", help="The split to feed: train by default; use all for every record."),
]
Subset = Annotated[
    str | None, typer.Option("--subset", metavar="PART", help="A part, as 10%, fair in every class, fixed by the seed.")
]
Seed = Annotated[int, typer.Option("--seed", help="Seed of order and chance.")]
Figure = Annotated[str | None, typer.Option("--figure", metavar="FILE", help="Draw it into a PNG, PDF or SVG file.")]
Note = Annotated[str, typer.Option(metavar="TEXT", help="A line to remember it by.")]
Workers = Annotated[int | None, typer.Option(min=1, help="Threads; by default all usable cores.")]
Cluster = Annotated[
    str | None,
    typer.Option("--cluster", metavar="tcp://HOST:PORT", help="A Dask scheduler, whose workers do the heavy part."),
]
MEMORY = {"memory_limit": Declared(str, "Bound of working memory: 128MiB, auto or none.", "BYTES", "auto")}
MemoryLimit = Annotated[str, typer.Option(metavar="BYTES", help=MEMORY["memory_limit"].help)]
Where = Annotated[str | None, typer.Option(metavar="EXPR", help="Only records for which this SQL holds.")]
Doubts = Annotated[
    str | None,
    typer.Option("--doubts", metavar="FILE", help="Write what harms training, a table for change --from."),
]
StoreHint = Annotated[str | None, typer.Option("--store", metavar="STORE", help="Where the docket's store is here.")]
FactsOption = Annotated[
    list[str] | None,
    typer.Option("--fact", metavar="KEY=VALUE", help="A fact to keep with the snapshot; may be given again."),
]

_TREATMENT = {
    "treatment": texts(
        "How a picture becomes an array: a TOML file, or fields, as size=96,color=gray; may be given again.", "FILE|FIELDS"
    ),
    "size": text("Size of a prepared picture: 96, or HEIGHTxWIDTH as 96x128; goes before the treatment's.", "PIXELS"),
}


@dataclass(frozen=True)
class TreatmentOptions:
    """What was said of a treatment: a file, and options, which go before it."""

    file: str | None
    fields: dict[str, Any]

    @property
    def feeding(self) -> Said:
        """What the file says of feeding."""
        from pannier.images.treatment_file import read_feeding

        return read_feeding(self.file) if self.file else {}

    @property
    def are_said(self) -> bool:
        """Whether a file or any option was given at all."""
        return bool(self.file or self.fields)

    def as_said(self) -> pannier.Treatment:
        """The treatment that they describe together; its mean and std may not be known yet."""
        return pannier.Treatment.from_file(self.file, **self.fields) if self.file else pannier.Treatment(**self.fields)

    def treatment(self, snapshot: pannier.Snapshot, **bounds: Any) -> pannier.Treatment:
        """The same, ready for that snapshot; `bounds` are workers and memory_limit, for measuring."""
        return ready(self.as_said(), snapshot, **bounds)


def measured_split(snapshot: pannier.Snapshot) -> str | None:
    """What mean and std are measured on unless said: the split train, or all records where there is none."""
    return "train" if "train" in snapshot.splits else None


def fed_split(snapshot: pannier.Snapshot, said: str | None) -> str | None:
    """The split that is fed unless another one is said: train, as in Python; all records of a snapshot without splits.

    Raises UsageError where there are splits and none of them is train.
    """
    if said is not None or not snapshot.splits:
        return said
    if "train" not in snapshot.splits:
        raise UsageError(f"say which split with --split: {', '.join(snapshot.splits)}, or all")
    return "train"


def ready(treatment: pannier.Treatment, snapshot: pannier.Snapshot | None, **bounds: Any) -> pannier.Treatment:
    """Standard values without numbers are measured on the snapshot, if there is one."""
    if treatment.is_ready or snapshot is None:
        return treatment
    return treatment.measured(snapshot, measured_split(snapshot), **bounds)


NO_TREATMENT = TreatmentOptions(None, {})

# what was said of a table of options, by name
Said = dict[str, Any]
NOTHING: Said = {}

NULL = {"null": text("Of a table: cells that mean nothing, as NULL,n/a,-.", "TOKEN,...")}
DATASET = {
    "name": text("What the dataset is called.", "TEXT"),
    "description": text("What the dataset is.", "TEXT"),
    "strand": Declared(str, "The strand to add to.", "STRAND", "main"),
}

_RULES = {
    "label": text("What gives labels: a column, or SQL over columns; by default parent.", "EXPR"),
    "labels": text("A table beside the pictures; rows are matched by path, name or stem.", "TABLE"),
    "label_pattern": text("Labels out of names, as '{label}_loom{loom}_{number}'.", "PATTERN"),
    "where": texts("Only rows for which this SQL holds; may be given again.", "EXPR"),
    "key": text("What gives keys; by default the path in the source.", "EXPR"),
    "split_by": text("What gives splits; NULL is dealt by --shares.", "EXPR"),
    "picture": text("Of a table: what gives a picture's path, or its bytes.", "EXPR"),
    "root": text("Of a table: where its paths begin.", "FOLDER"),
    **NULL,
    "shape": text("Of pixel values in a table: HEIGHTxWIDTH, or with channels last, as 48x48x3.", "SHAPE"),
    "include": texts("Of a folder or archive: only paths like this, as 'a*/*.jpg'.", "PATTERN"),
    "exclude": texts("Of a folder or archive: no paths like this, as 'drafts/'.", "PATTERN"),
    "hidden": switch("Of a folder or archive: hidden and system files too."),
    "rename": texts("Read one class name as another.", "OLD=NEW"),
}

_DEALING = {
    "shares": text("Deal records to splits, as train=75,val=15,test=10.", "SPLIT=SHARE,..."),
    "seed": number("Seed of the dealing."),
    "counts": text("A split of so many records, as test=120; the rest by --shares.", "SPLIT=N"),
    "carve": text("Take a split out of another, as val=15%.", "SPLIT=SHARE"),
    "of": text("With --carve: out of which.", "SPLIT"),
    "folds": number("So many equal splits, fold-1, fold-2 and so on."),
    "group_by": text("What must stay together in one split.", "EXPR"),
    "near": number("Near doubles stay together; how unlike they may be, 0 to 12, as 6.", "N"),
    "freeze": text("Splits that neither gain nor lose from now on; none thaws all.", "SPLIT,..."),
    "ties": Declared(choices.Ties | None, "Of records tied to a split that is fixed from outside."),
    "allow_leaks": switch("Keep splits that leak; the snapshots say so for ever."),
}


def takes(
    name: str, table: dict[str, Declared], read: Callable[[Said], Any] = dict
) -> Callable[[Callable[..., int]], Callable[..., int]]:
    """In place of its parameter `name` a command gets a table's options; in it comes what `read` makes of those said."""

    def taking(command: Callable[..., int]) -> Callable[..., int]:
        own = list(inspect.signature(command, eval_str=True).parameters.values())
        at = next(i for i, parameter in enumerate(own) if parameter.name == name)
        parameters = own[:at] + [each.parameter(key) for key, each in table.items()] + own[at + 1 :]

        @wraps(command)
        def with_options(**given: Any) -> int:
            said = {key: given.pop(key) for key in table}
            return command(**given, **{name: read({key: value for key, value in said.items() if value is not None})})

        with_options.__signature__ = inspect.Signature(parameters)  # type: ignore[attr-defined]
        with_options.__annotations__ = {parameter.name: parameter.annotation for parameter in parameters}
        return with_options

    return taking


_CACHE = {
    "cache": text("Of a store in a bucket: a folder that keeps near by what was read.", "FOLDER"),
    "cache_size": text("How much it keeps; 20GiB unless said.", "BYTES"),
}


def reads_afar(command: Callable[..., int]) -> Callable[..., int]:
    """Gives a command the options of the cache, which say for the time of its run what the environment may say too."""
    own = list(inspect.signature(command, eval_str=True).parameters.values())
    parameters = own + [each.parameter(name) for name, each in _CACHE.items()]

    @wraps(command)
    def with_cache(**given: Any) -> int:
        from pannier.machine import environment_as
        from pannier.storage.cache import FOLDER_VARIABLE, SIZE_VARIABLE

        with environment_as({FOLDER_VARIABLE: given.pop("cache"), SIZE_VARIABLE: given.pop("cache_size")}):
            return command(**given)

    with_cache.__signature__ = inspect.Signature(parameters)  # type: ignore[attr-defined]
    with_cache.__annotations__ = {parameter.name: parameter.annotation for parameter in parameters}
    return with_cache


def _read_treatment(said: Said) -> TreatmentOptions:
    from pannier.images.treatment_file import read_all_said

    file, fields = read_all_said(said.get("treatment", ()))
    return TreatmentOptions(file, fields | ({"size": said["size"]} if "size" in said else {}))


takes_treatment = takes("treatment", _TREATMENT, read=_read_treatment)
takes_rules = takes("rules", _RULES)
takes_dealing = takes("dealing", _DEALING)
