"""pannier export"""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

import pannier
from pannier import choices
from pannier.cli import options as opt
from pannier.cli.terminal import plural, print_json, progress_bar
from pannier.errors import UsageError
from pannier.units import show_bytes

if TYPE_CHECKING:
    from pannier.folders.laying_out import LayOutResult


@opt.reads_afar
@opt.takes_treatment
def export(
    store: opt.Store,
    directory: str | None = opt.argument(None, "A folder: new, empty, or exported into before.", metavar="[DIR]"),
    layout: choices.Layout = opt.value("class", "Class folders, split folders of them, or one folder."),
    where: opt.Where = None,
    split: opt.Split = None,
    hard_links: bool = opt.flag("--hard-links", "Files are links to one copy of each picture in the store."),
    table: str | None = opt.value(None, "The label table alone, into a .csv or .parquet file.", "FILE"),
    arrays: bool = opt.flag("--arrays", "Prepared pictures as .npy arrays."),
    encode: str | None = opt.value(None, "Prepared pictures as files: png, jpeg:90 or webp:80.", "FORMAT"),
    treatment: opt.TreatmentOptions = opt.NO_TREATMENT,
    docket: str | None = opt.value(None, "Write a docket that says what lies there.", "FILE"),
    workers: opt.Workers = None,
    overwrite: bool = opt.flag("--overwrite", "Undo what was changed there by hand."),
    preview: opt.Preview = False,
    json: opt.AsJson = False,
) -> int:
    """Write a snapshot's pictures as files again, byte for byte, in class folders, with a table of labels.

    With --docket a small text file says what lies there: pannier restore brings the folder back by it.

    [dim]$[/dim] pannier export swatches.store@spring swatches/
    [dim]$[/dim] pannier export swatches.store --table labels.csv
    [dim]$[/dim] pannier export swatches.store small/ --size 96 --encode png
    """
    if preview and (table is not None or arrays or encode):
        raise UsageError("--preview is of original pictures in a folder: without --table, --arrays, --encode")
    snapshot = pannier.open(store)
    if table is not None:
        count = _table(snapshot, table, split, where)
        print_json({"records": count, "table": table}) if json else print(f"{plural(count, 'record')} in {table}.")
        return 0
    if directory is None:
        raise UsageError("name the folder to export into, or --table FILE for the labels alone")
    if arrays or encode:
        count = _prepared(snapshot, directory, treatment, arrays, encode, layout=layout, where=where, split=split)
        told = f"{plural(count, 'prepared picture')} in {directory}."
        print_json({"pictures": count, "folder": directory}) if json else print(told)
        return 0
    if treatment.file or treatment.fields:
        raise UsageError("prepared pictures are written with --encode png, or as --arrays; say one of them")
    with progress_bar("export") as progress:
        options: dict[str, Any] = {
            "layout": layout,
            "where": _condition(where, split),
            "hard_links": hard_links,
            "docket": docket,
            "workers": workers,
            "preview": preview,
        }
        result = snapshot.export(directory, **options, overwrite=overwrite, progress=progress)
    print_json(result.to_dict()) if json else print_laid_out(result, is_preview=preview)
    return 0


def _condition(where: str | None, split: str | None) -> str | None:
    """One SQL condition out of --where and --split."""
    splits = [name.strip().replace("'", "''") for name in (split or "").split(",")]
    names = ", ".join(f"'{name}'" for name in splits if name)
    parts = [f"({where})"] if where else []
    parts += [f"split IN ({names})"] if names else []
    return where if parts == [f"({where})"] else " AND ".join(parts) or None


def _table(snapshot: pannier.Snapshot, path: str, split: str | None, where: str | None) -> int:
    import numpy as np

    from pannier.folders.label_table import write_label_table

    rows = snapshot.in_key_order
    if split is not None or where is not None:
        rows = rows[np.isin(rows, snapshot.subset_of(split, None, where=where))]
    return write_label_table(snapshot, rows, Path(path))


def _prepared(
    snapshot: pannier.Snapshot,
    directory: str,
    treatment: opt.TreatmentOptions,
    arrays: bool,
    encode: str | None,
    **chosen: Any,
) -> int:
    from pannier.folders.prepared import export_arrays, export_prepared

    treated = treatment.treatment(snapshot)
    with progress_bar("export") as progress:
        if arrays:
            chosen.pop("layout")
            return export_arrays(snapshot, directory, treated, progress=progress, **chosen)
        return export_prepared(snapshot, directory, treated, encode=encode or "png", progress=progress, **chosen)


def print_laid_out(result: LayOutResult, *, is_preview: bool = False) -> None:
    would = "would be " if is_preview else ""
    parts = [f"{plural(result.written, 'picture')} {would}written, {show_bytes(result.byte_count)}"]
    parts += [f"{result.kept:,} there already"] if result.kept else []
    parts += [f"{result.removed:,} {would}removed"] if result.removed else []
    print(f"{result.folder}: {'; '.join(parts)}{'; nothing is touched' if is_preview else ''}.")
    if result.attachments:
        print(f"Attachments in {result.folder / 'attachments'}: {', '.join(result.attachments)}.")
    if result.docket:
        print(f"Docket: {result.docket}. To bring the folder back: pannier restore {result.docket}")
