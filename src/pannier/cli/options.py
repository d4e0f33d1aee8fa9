"""Options that several commands share: one name, one meaning throughout."""

from __future__ import annotations

import inspect
from collections.abc import Callable
from dataclasses import dataclass
from functools import wraps
from typing import Annotated, Any

import typer

Store = Annotated[str, typer.Argument(metavar="STORE[@NAME]", help="A store; NAME is a track, a tag or a snapshot's id.")]
AsJson = Annotated[bool, typer.Option("--json", metavar="", help="Print the same facts as JSON.")]
Split = Annotated[str | None, typer.Option("--split", help="Only this split.")]
Seed = Annotated[int, typer.Option("--seed", help="Seed of order and chance.")]
Figure = Annotated[str | None, typer.Option("--figure", metavar="FILE", help="Draw it into a PNG, PDF or SVG file.")]
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

    def treatment(self, snapshot: Any) -> Any:
        """The treatment that they describe together.

        Standard values without numbers are measured on the split train of the snapshot, or on all of it where it has none.
        """
        from pannier.images.treatment import Treatment

        treatment = Treatment.from_file(self.file, **self.fields) if self.file else Treatment(**self.fields)
        if not treatment.is_ready:
            treatment = treatment.measured(snapshot, "train" if "train" in snapshot.splits else None)
        return treatment


NO_TREATMENT = TreatmentOptions(None, {})


def takes_treatment(command: Callable[..., int]) -> Callable[..., int]:
    """In place of its parameter `treatment: TreatmentOptions`, the command gets the options that describe a treatment."""
    own = list(inspect.signature(command, eval_str=True).parameters.values())
    at = next(i for i, parameter in enumerate(own) if parameter.name == "treatment")
    kind = inspect.Parameter.POSITIONAL_OR_KEYWORD
    options = [inspect.Parameter(name, kind, default=None, annotation=each) for name, each in _TREATMENT.items()]

    @wraps(command)
    def with_options(**given: Any) -> int:
        said = {name: given.pop(name) for name in _TREATMENT}
        file, size = said.pop("treatment"), read_size(said.pop("size"))
        fields = {"size": size, **said}
        return command(**given, treatment=TreatmentOptions(file, {k: v for k, v in fields.items() if v is not None}))

    parameters = own[:at] + options + own[at + 1 :]
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
