"""Exporting and restoring: a snapshot as a folder, and by a docket, where one is wanted, back again."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from pannier.choices import Progress
from pannier.errors import UsageError
from pannier.files import write_whole
from pannier.folders.laying_out import LayOutResult, lay_out, refuse_links
from pannier.store.state import State
from pannier.versions.docket import ENDING, Docket, ExportPart, relative_to


def export(snapshot: State, folder: str | Path, *, docket: str | Path | None = None, **options: Any) -> LayOutResult:
    """Lays the pictures out in a folder, original bytes; see `pannier.folders.laying_out.lay_out` for the options.

    docket: a file that is to say what lies there, by which anyone with the store brings the folder back.
    """
    result = lay_out(snapshot, folder, **options)
    if docket is not None and not options.get("preview"):
        said = {name: options[name] for name in ("layout", "where", "hard_links") if name in options}
        path = Path(docket)
        part = ExportPart(folder=relative_to(folder, path.parent), **said)
        _write_docket(snapshot, path, part)
        result.docket = path
    return result


def restore(
    docket: str | Path,
    folder: str | Path | None = None,
    *,
    store: str | Path | None = None,
    hard_links: bool = False,
    overwrite: bool = False,
    workers: int | None = None,
    preview: bool = False,
    progress: Progress | None = None,
) -> LayOutResult:
    """Brings back the folder that a docket tells of, attachments too; in one that is there the differences alone.

    folder: where to, else where the docket says, below the folder in which it lies. store: where the store is here. The
    others as of `Snapshot.export`. Raises NotFoundError, UsageError, PannierError for changes made by hand.
    """
    path = Path(docket)
    read = Docket.read(path)
    snapshot = read.open(store, beside=path.parent)
    part = read.export or ExportPart(folder=path.name.removesuffix(ENDING))
    target = Path(folder) if folder is not None else path.parent / _checked_name(part.folder)
    if folder is None:
        refuse_links(path.parent, [f"{part.folder}/-"])
    how: dict[str, Any] = {"hard_links": hard_links or part.hard_links, "overwrite": overwrite, "workers": workers}
    return lay_out(snapshot, target, layout=part.layout, where=part.where, preview=preview, progress=progress, **how)


def _write_docket(snapshot: State, path: Path, part: ExportPart) -> None:
    """The docket of a folder; how it says that the snapshot is fed stays as it was."""
    fields = Docket.of(snapshot, store=relative_to(snapshot.storage.address, path.parent), export=part)
    if path.exists():
        before = Docket.read(path)
        fields = fields.model_copy(update={"feed": before.feed, "treatment": before.treatment})
    write_whole(path, fields.text())


def _checked_name(folder: str) -> str:
    if Path(folder).is_absolute() or ".." in Path(folder).parts or folder in ("", "."):
        raise UsageError(f"the docket names the folder {folder!r}, which leads elsewhere: say which folder is meant")
    return folder
