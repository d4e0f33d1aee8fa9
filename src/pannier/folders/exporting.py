"""Exporting and restoring: a snapshot as a folder, and in a git work tree its docket beside it, to bring it back by."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from pannier.errors import UsageError
from pannier.files import write_whole
from pannier.folders.laying_out import LayOutResult, lay_out
from pannier.store.state import State
from pannier.versions.docket import ENDING, Docket, ExportPart, relative_to

GIT_IGNORE = ".gitignore"


def export(snapshot: State, folder: str | Path, **options: Any) -> LayOutResult:
    """Lays the pictures out in a folder, original bytes; see `pannier.folders.laying_out.lay_out` for the options.

    In a git work tree the folder goes into .gitignore, and a docket is written beside it, which is what is committed.
    """
    result = lay_out(snapshot, folder, **options)
    target = Path(folder).absolute()
    if is_in_work_tree(target):
        said = {name: options[name] for name in ("layout", "where", "hard_links") if name in options}
        part = ExportPart(folder=target.name, **said)
        result.docket = _write_docket(snapshot, target, part)
        _ignore(target)
    return result


def restore(
    docket: str | Path, folder: str | Path | None = None, *, store: str | Path | None = None, **options: Any
) -> LayOutResult:
    """Brings back the folder that a docket tells of, attachments too; in one that is there the differences alone.

    folder: where to, else beside the docket under the name that it says. store: where the store is here. options:
    hard_links, overwrite, workers, progress, as `export` takes them. Raises NotFoundError, UsageError, PannierError for
    changes made by hand.
    """
    path = Path(docket)
    read = Docket.read(path)
    snapshot = read.open(store, beside=path.parent)
    part = read.export or ExportPart(folder=path.name.removesuffix(ENDING))
    target = Path(folder) if folder is not None else path.parent / _checked_name(part.folder)
    options["hard_links"] = options.get("hard_links") or part.hard_links
    return lay_out(snapshot, target, layout=part.layout, where=part.where, **options)


def is_in_work_tree(path: Path) -> bool:
    """Whether a path lies in a git work tree."""
    return any((parent / ".git").exists() for parent in path.absolute().parents)


def _write_docket(snapshot: State, folder: Path, part: ExportPart) -> Path:
    """The docket beside a folder; how it says that the snapshot is fed stays as it was."""
    path = folder.with_name(folder.name + ENDING)
    fields = Docket.of(snapshot, store=relative_to(Path(snapshot.storage.address).absolute(), folder.parent), export=part)
    if path.exists():
        before = Docket.read(path)
        fields = fields.model_copy(update={"feed": before.feed, "treatment": before.treatment})
    write_whole(path, fields.text())
    return path


def _ignore(folder: Path) -> None:
    """Adds a folder to the .gitignore beside it, unless it is there."""
    path, line = folder.parent / GIT_IGNORE, f"/{folder.name}/"
    text = path.read_text(encoding="utf-8") if path.exists() else ""
    if line not in text.splitlines():
        write_whole(path, text + ("" if not text or text.endswith("\n") else "\n") + line + "\n")


def _checked_name(folder: str) -> str:
    if Path(folder).is_absolute() or ".." in Path(folder).parts or folder in ("", "."):
        raise UsageError(f"the docket names the folder {folder!r}, which leads elsewhere: say which folder is meant")
    return folder
