"""pannier report"""

from __future__ import annotations

from pathlib import Path

import pannier
from pannier.cli import options as opt
from pannier.cli.terminal import at_work
from pannier.errors import UsageError
from pannier.units import show_bytes


@opt.takes_treatment
def report(
    what: list[str] = opt.argument(
        ..., "A store; two to compare, or dockets or folders; or measurements that were saved, as JSON.", metavar="WHAT..."
    ),
    page: str = opt.value(..., "The HTML file to write.", "FILE"),
    labeling: bool = opt.flag("--labeling", "Of a store: a page for choosing classes by eye; it saves a table for change."),
    split: opt.Split = None,
    where: opt.Where = None,
    predicted: str | None = opt.value(None, "With --labeling: a side column of predictions; what differs.", "COLUMN"),
    near: int | None = opt.value(None, "With --labeling: pairs that look alike, so unlike at most (0 to 12).", "N"),
    suspects: bool = opt.flag("--suspects", "With --labeling: of a source in place of a store, what a survey suspects."),
    treatment: opt.TreatmentOptions = opt.NO_TREATMENT,
) -> int:
    """Write a page that a colleague reads: of a snapshot, of measurements, of a comparison; or one for labeling by eye.

    One HTML file that needs nothing else: no network, no other file. It prints, is light or dark as the reader's screen is,
    and can be used by keyboard. With --size or --treatment a snapshot's page shows its values too.

    [dim]$[/dim] pannier report swatches.store --page swatches.html
    [dim]$[/dim] pannier report spring.json --page measured.html
    [dim]$[/dim] pannier report swatches.store@spring swatches.store --page changes.html
    [dim]$[/dim] pannier report swatches.store --labeling --where "label = 'twill'" --page twill.html
    """
    is_chosen = labeling or predicted is not None or near is not None or suspects
    with at_work("report"):
        if is_chosen or where is not None:
            if len(what) != 1:
                raise UsageError("a page for labeling is of one store")
            size = _labeling(what[0], page, split, where, predicted, near, suspects=suspects)
        elif all(each.endswith(".json") for each in what):
            size = _measured(what, page)
        elif len(what) == 2:
            size = pannier.report(pannier.compare(*what), page)
        elif len(what) == 1:
            size = _snapshot(what[0], page, treatment)
        else:
            raise UsageError("give one store, two to compare, or measurements that were saved, as JSON")
    print(f"{page}: {show_bytes(size)}")
    return 0


def _measured(paths: list[str], page: str) -> int:
    from pannier.measuring.runs import read_run

    stems = [Path(path).stem for path in paths]
    names = stems if len({*stems}) == len(paths) else paths
    return pannier.report({name: read_run(path) for name, path in zip(names, paths, strict=True)}, page)


def _snapshot(address: str, page: str, treatment: opt.TreatmentOptions) -> int:
    from pannier.pages.of_snapshot import snapshot_page

    snapshot = pannier.open(address)
    through = treatment.as_said() if treatment.are_said else None
    return snapshot_page(snapshot, page, address=address, treatment=through)


def _labeling(
    address: str,
    page: str,
    split: str | None,
    where: str | None,
    predicted: str | None,
    near: int | None,
    *,
    suspects: bool,
) -> int:
    from pannier.pages.labeling import doubles_to_label, drawable_to_label, labeling_page, to_label

    if suspects:
        findings = pannier.survey(address)
        pictures = drawable_to_label(findings.suspects)
        return labeling_page(pictures, findings.classes, page, title=f"{findings.source}: pictures to look at", address="")
    snapshot = pannier.open(address)
    if near is not None:
        pictures, title = doubles_to_label(snapshot.doubles(near)), "pictures that look alike"
    else:
        pictures = to_label(snapshot, split, where=where, predicted=predicted)
        title = f"what {predicted} says otherwise" if predicted else "pictures"
    return labeling_page(pictures, snapshot.classes, page, title=f"{snapshot.title}: {title}", address=address)
