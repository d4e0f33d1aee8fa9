"""Options that several commands share: one name, one meaning throughout."""

from __future__ import annotations

from typing import Annotated, Any

import typer

Store = Annotated[str, typer.Argument(metavar="STORE[@NAME]", help="A store; NAME is a track, a tag or a snapshot's id.")]
AsJson = Annotated[bool, typer.Option("--json", metavar="", help="Print the same facts as JSON.")]
Split = Annotated[str | None, typer.Option("--split", help="Only this split.")]
Seed = Annotated[int, typer.Option("--seed", help="Seed of order and chance.")]
Figure = Annotated[str | None, typer.Option("--figure", metavar="FILE", help="Draw it into a PNG, PDF or SVG file.")]
TreatmentFile = Annotated[
    str | None,
    typer.Option("--treatment", metavar="FILE", help="A TOML file that says how a picture becomes an array."),
]
Size = Annotated[str | None, typer.Option("--size", help="Size of a prepared picture: 96, or HEIGHTxWIDTH as 96x128.")]
Fit = Annotated[str | None, typer.Option("--fit", help="cover, contain or fill.")]
Color = Annotated[str | None, typer.Option("--color", help="rgb or gray.")]
Values = Annotated[
    str | None,
    typer.Option("--values", help="raw, unit, signed, or standard (measured on the split train at this very size)."),
]
Flip = Annotated[str | None, typer.Option("--flip", help="Random mirroring: none, horizontal, vertical or both.")]
BatchSize = Annotated[int, typer.Option("--batch-size", help="Pictures a batch.")]


def read_treatment(
    snapshot: Any,
    file: str | None,
    size: str | None,
    fit: str | None,
    color: str | None,
    values: str | None,
    flip: str | None,
) -> Any:
    """The treatment that a file and options describe together; options go before the file.

    Standard values without numbers are measured on the split train of the snapshot, or on all of it where it has none.
    """
    from pannier.images.treatment import Treatment

    given = {"size": read_size(size), "fit": fit, "color": color, "values": values, "flip": flip}
    fields: dict[str, Any] = {name: value for name, value in given.items() if value is not None}
    treatment = Treatment.from_file(file, **fields) if file else Treatment(**fields)
    if not treatment.is_ready:
        treatment = treatment.measured(snapshot, "train" if "train" in snapshot.splits else None)
    return treatment


def read_size(text: str | None) -> int | tuple[int, int] | None:
    from pannier.errors import UsageError

    if text is None:
        return None
    sides = text.lower().split("x")
    if len(sides) > 2 or not all(side.isdigit() for side in sides):
        raise UsageError(f"--size {text}: write one number, as 96, or HEIGHTxWIDTH, as 96x128")
    return int(sides[0]) if len(sides) == 1 else (int(sides[0]), int(sides[1]))
