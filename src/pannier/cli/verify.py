"""pannier verify"""

from __future__ import annotations

from typing import Annotated

import typer

from pannier.cli.options import AsJson
from pannier.cli.terminal import plural, print_json, progress_bar


def verify(
    store: Annotated[str, typer.Argument(metavar="STORE", help="A store.")],
    json: AsJson = False,
) -> int:
    """Read every byte of a store and list all that is wrong, what it harms and what to do.

    Exit status 1 where something is damaged. What an ended writer left lying about is information.

    [dim]$[/dim] pannier verify swatches.store
    """
    from pannier.store.verify import verify as look

    with progress_bar("verify") as progress:
        findings = look(store, progress=progress)
    damage = [finding for finding in findings if finding.is_damage]
    if json:
        print_json([vars(finding) for finding in findings])
        return 1 if damage else 0
    for finding in findings:
        mark = "damaged" if finding.is_damage else "note"
        print(f"{mark}: {finding.file}: {finding.problem}")
        if finding.is_damage:
            print(f"    harms: {finding.harms}")
            print(f"    to do: {finding.advice}")
    print(
        f"{store}: {plural(len(damage), 'finding')} of damage." if damage else f"{store}: every byte is as it was written."
    )
    return 1 if damage else 0
