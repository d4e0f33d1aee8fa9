"""pannier sheet"""

from __future__ import annotations

from typing import TYPE_CHECKING, Literal

import pannier
from pannier.cli import options as opt
from pannier.cli.terminal import at_work, drawing, plural
from pannier.errors import UsageError

if TYPE_CHECKING:
    from pannier.figures.sheet import Shown
    from pannier.store.records import Record


_BATCH = {
    "batch": opt.number("This batch of an epoch, exactly as it is fed, the first being 0."),
    "epoch": opt.Declared(int, "With --batch: of this epoch.", default=0),
    "batch_size": opt.Declared(int, "With --batch: pictures a batch.", default=32),
}


@opt.reads_afar
@opt.takes_treatment
@opt.takes("fed", _BATCH)
def sheet(
    store: opt.Store,
    split: opt.Split = None,
    pictures: int = opt.value(40, "How many pictures, to 240."),
    arrange: Literal["class", "chance"] = opt.value("class", "Alike from every class, in their order; or as chance has it."),
    seed: opt.Seed = 0,
    subset: opt.Subset = None,
    where: opt.Where = None,
    treated: bool = opt.flag("--treated", "As the treatment makes them, not as they are stored."),
    fed: opt.Said = opt.NOTHING,
    treatment: opt.TreatmentOptions = opt.NO_TREATMENT,
    predicted: str | None = opt.value(None, "A side column with the label that a model gave: right or wrong.", "COLUMN"),
    probability: str | None = opt.value(None, "With --predicted: a side column with how sure it was.", "COLUMN"),
    figure: opt.Figure = "sheet.png",
) -> int:
    """Many pictures with their labels on one sheet: chosen by chance, by SQL, or a batch exactly as it is fed.

    [dim]$[/dim] pannier sheet swatches.store --split train --figure sheet.png
    [dim]$[/dim] pannier sheet swatches.store --split train --treatment cloth.toml --batch 3 --epoch 1
    [dim]$[/dim] pannier sheet swatches.store --where "predicted <> label" --predicted predicted --probability sure
    """
    from pannier.figures.sheet import choose_records, draw_sheet, with_predictions

    _check(treated, treatment.are_said, batch := fed.get("batch"), predicted, probability)
    path = figure or "sheet.png"
    with drawing(path, "sheet"), at_work("sheet"):
        snapshot = pannier.open(store)
        made = treatment.treatment(snapshot) if treatment.are_said else None
        if batch is not None:
            feed = snapshot.feed(split, made, subset=subset, where=where, seed=seed, batch_size=fed["batch_size"])
            shown, title = _as_fed(feed, batch, fed["epoch"])
        else:
            records = choose_records(snapshot, split, pictures, seed, subset, where, arrange)
            shown = _as_made(records, made)
            title = f"{len(records)} of {len(snapshot.subset_of(split, None, where=where)):,}"
        if predicted is not None:
            shown = with_predictions(shown, predicted, probability)
            title += _score(shown)
        draw_sheet(shown, path, title=f"{snapshot.store.path.name}, {split or 'all splits'}: {title}")
    return 0


def _as_fed(feed: pannier.Feed, batch: int, epoch: int) -> tuple[list[Shown], str]:
    from pannier.figures.sheet import as_fed

    with feed:
        return as_fed(feed, batch, epoch), f"batch {batch} of epoch {epoch}, as fed"


def _as_made(records: list[Record], treatment: pannier.Treatment | None) -> list[Shown]:
    """Through the treatment, or as they are stored."""
    from pannier.figures.sheet import Shown, treated

    return treated(records, treatment) if treatment else [Shown(r.key, r.label, r.split, None, r) for r in records]


def _check(treated: bool, has_treatment: bool, batch: int | None, predicted: str | None, probability: str | None) -> None:
    if probability is not None and predicted is None:
        raise UsageError("--probability goes with --predicted COLUMN, whose values it is about")
    if treated and not has_treatment:
        raise UsageError("--treated: say how, with --treatment FILE or --size")
    if has_treatment and not treated and batch is None:
        raise UsageError("a treatment goes with --treated, or with --batch")


def _score(shown: list[Shown]) -> str:
    marks = [each.mark for each in shown if each.mark is not None]
    wrong = marks.count(False)
    return f", {plural(wrong, 'wrong', 'wrong')} and {len(marks) - wrong} right of these"
