"""Laying a snapshot out in a folder: the original bytes, class by class; what lies there already is not written again."""

from __future__ import annotations

import hashlib
import os
from collections.abc import Iterable, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field, replace
from pathlib import Path

import numpy as np

from pannier.choices import Progress
from pannier.columns import Rows, digest_list
from pannier.errors import DamageError, NotFoundError, PannierError, SourceError, UsageError
from pannier.files import disk_refusals_said, is_draft, write_whole
from pannier.folders.label_table import write_label_table
from pannier.folders.layout import paths_of
from pannier.folders.unpacking import Unpacker
from pannier.images.facts import looks_like_picture
from pannier.machine import usable_cores
from pannier.results import Result
from pannier.sources.files import read_file
from pannier.sources.laid_out import ATTACHMENTS, LABELS, OWN_IGNORE, LaidOut, is_about_layout
from pannier.store.records import rows_where
from pannier.store.state import OpenedStore, State
from pannier.versions.attaching import attachments_at

_SHOWN = 5


@dataclass(eq=False, repr=False)
class LayOutResult(Result):
    """What laying out did to a folder: files written, kept as they were, removed; `byte_count` of what was written.

    `docket` is the file that says so, where one was wanted.
    """

    folder: Path
    written: int = 0
    kept: int = 0
    removed: int = 0
    byte_count: int = 0
    attachments: list[str] = field(default_factory=list)
    docket: Path | None = None


def lay_out(
    snapshot: State,
    folder: str | Path,
    *,
    layout: str = "class",
    where: str | None = None,
    hard_links: bool = False,
    overwrite: bool = False,
    workers: int | None = None,
    preview: bool = False,
    progress: Progress | None = None,
) -> LayOutResult:
    """Brings a folder to what a snapshot says: new or empty, or laid out before, which then gets the differences alone.

    Interrupted, it goes on when it is called again. Changes made by hand since the last time are refused unless `overwrite`.
    hard_links: files are links to one copy of each picture beside the store's shards. preview: say what would be written
    and removed, and touch nothing. Some 300 bytes of memory a record. Raises UsageError, SourceError, DamageError.
    """
    laying = _LayingOut(snapshot, Path(folder), layout, where)
    if not overwrite:
        laying.refuse_changes_by_hand()
    if preview:
        return laying.previewed()
    with disk_refusals_said(folder):
        last = laying.begin()
        laying.write(hard_links, workers or usable_cores(), progress)
        laying.finish(last)
    return laying.result


class _LayingOut:
    """What a folder is to hold, what it holds, and the way from there to here."""

    def __init__(self, snapshot: State, folder: Path, layout: str, where: str | None) -> None:
        self._snapshot, self._folder = snapshot, folder
        self._before = _before(folder)
        rows = np.arange(len(snapshot)) if where is None else rows_where(snapshot.manifest, where)
        if not len(rows):
            raise SourceError(f"no record is left by `where` {where}" if where else "the snapshot holds no record")
        self._rows, keys, self._paths = paths_of(snapshot, rows, layout)
        told = LaidOut(snapshot.id, layout, where, False, below_split=layout == "split")
        own = {path: key for path, key in zip(self._paths, keys, strict=True) if told.key_of(path) != key}
        self._told = replace(told, keys=own)
        self._wanted = _digests_by_path(snapshot, self._rows, self._paths)
        self._known = _known(snapshot, self._before, self._wanted)
        self._there = _files_in(folder, self._known)
        self._hashed = _hashed(folder, sorted(self._there), usable_cores())
        kept = sum(self._wanted.get(path) == digest for path, digest in self._hashed.items())
        self.result = LayOutResult(folder=folder, kept=kept)

    def refuse_changes_by_hand(self) -> None:
        if self._before is not None:
            _refuse_changes_by_hand(self._before, self._hashed, self._known)

    def begin(self) -> LaidOut:
        """Notes what the folder is on its way to."""
        refuse_links(
            self._folder, [*self._paths, *(f"{ATTACHMENTS}/{each.name}" for each in attachments_at(self._snapshot))]
        )
        before = self._before
        last = None if before is None else before.snapshot if before.is_whole else before.before
        told = replace(self._told, before=last)
        self._folder.mkdir(parents=True, exist_ok=True)
        told.write(self._folder)
        return told

    def previewed(self) -> LayOutResult:
        """What would be done."""
        result, rows = self.result, np.array([row for _, row in self._missing()], np.int64)
        result.written, result.removed = len(rows), len(self._there - set(self._wanted))
        result.byte_count = int(self._snapshot.manifest.column("byte_count")[rows].sum())
        return result

    def _missing(self) -> list[tuple[str, int]]:
        """Paths of what has to be written, and rows."""
        rows = zip(self._paths, self._rows.tolist(), strict=True)
        return [(path, row) for path, row in rows if self._hashed.get(path) != self._wanted[path]]

    def write(self, hard_links: bool, workers: int, progress: Progress | None) -> None:
        """Takes away what is not wanted, and writes what is missing."""
        result, folder = self.result, self._folder
        _remove_drafts(folder)  # left behind when laying out was ended
        for path in self._there - set(self._wanted):
            os.unlink(folder / path)
            result.removed += 1
        jobs = [(folder / path, row) for path, row in self._missing()]
        with Unpacker(self._snapshot, hard_links=hard_links, workers=workers) as unpacker:
            for written, byte_count in unpacker.write(jobs):
                result.written, result.byte_count = result.written + written, result.byte_count + byte_count
                if progress:
                    progress(result.written, len(jobs))

    def finish(self, told: LaidOut) -> None:
        """Labels and attachments beside the pictures; then the folder is whole."""
        _remove_empty_folders(self._folder)
        write_label_table(self._snapshot, self._rows, self._folder / LABELS, files=self._paths)
        self.result.attachments = _lay_out_attachments(self._snapshot, self._folder)
        write_whole(self._folder / OWN_IGNORE, "*\n")  # so that a code repository around it lets the pictures alone
        replace(told, is_whole=True, before=None).write(self._folder)


def refuse_links(folder: Path, paths: Iterable[str]) -> None:
    """Raises UsageError where a folder below that one, in which something is to be written, is a link."""
    folders = {tuple(path.split("/")[:-1]) for path in paths}
    steps = {"/".join(parts[:end]) for parts in folders for end in range(1, len(parts) + 1)}
    for step in sorted(steps):
        if (folder / step).is_symlink():
            raise UsageError(f"{folder / step} is a link, which leads elsewhere: remove it, or name another folder")


def _digests_by_path(snapshot: State, rows: Rows, paths: Sequence[str]) -> dict[str, bytes]:
    digests = snapshot.manifest.pictures(rows)
    return dict(zip(paths, digest_list(digests), strict=True))


def _before(folder: Path) -> LaidOut | None:
    """How the folder was laid out; None where it is new or empty. Raises UsageError where something else is in it."""
    if not folder.exists():
        return None
    if not folder.is_dir():
        raise UsageError(f"{folder} is a file; name a folder, new, empty, or exported into before")
    before = LaidOut.read(folder)
    if before is None and any(folder.iterdir()):
        raise UsageError(f"{folder} is not empty and was not exported into before: name another folder")
    return before


def _known(snapshot: State, before: LaidOut | None, wanted: dict[str, bytes]) -> list[dict[str, bytes]]:
    """Digests by path: of what is wanted, and of what was laid out before, the newest first."""
    ids = [] if before is None else [each for each in (before.snapshot, before.before) if each]
    return [wanted, *(_laid_out_before(snapshot, each, before) for each in ids if before is not None)]


def _files_in(folder: Path, known: list[dict[str, bytes]]) -> set[str]:
    """The pictures in it, and what is known by its path; what else lies there is let alone."""
    paths: set[str] = set()
    for root, _, names in os.walk(folder):
        relative = os.path.relpath(root, folder)
        below = "" if relative == "." else relative.replace(os.sep, "/") + "/"
        for name in names:
            path = below + name
            if os.path.islink(os.path.join(root, name)) or not os.path.isfile(os.path.join(root, name)):
                continue  # what is written takes its place; nothing behind it is read
            if (
                not is_draft(name)
                and not is_about_layout(path.split("/"))
                and (any(path in each for each in known) or looks_like_picture(name))
            ):
                paths.add(path)
    return paths


def _remove_drafts(folder: Path) -> None:
    for root, _, names in os.walk(folder):
        for name in filter(is_draft, names):
            os.unlink(os.path.join(root, name))


def _hashed(folder: Path, paths: Sequence[str], workers: int) -> dict[str, bytes]:
    root = os.fsencode(folder)

    def digest(path: str) -> bytes:
        full = os.path.join(root, os.fsencode(path))
        return hashlib.sha256(read_file(full, os.stat(full).st_size)).digest()

    with ThreadPoolExecutor(workers, thread_name_prefix="pannier-hash") as pool:
        return dict(zip(paths, pool.map(digest, paths, chunksize=1), strict=True))


def _refuse_changes_by_hand(before: LaidOut, hashed: dict[str, bytes], known: list[dict[str, bytes]]) -> None:
    """Raises PannierError where the folder is neither as it was laid out, nor on its way to what is wanted."""
    changed = [
        f"{path} ({'changed' if any(path in each for each in known) else 'new'})"
        for path, digest in sorted(hashed.items())
        if not any(each.get(path) == digest for each in known)
    ]
    if before.is_whole and len(known) > 1:
        changed += [f"{path} (removed)" for path in sorted(known[1].keys() - hashed.keys())]
    if changed:
        shown = ", ".join(changed[:_SHOWN]) + (f" and {len(changed) - _SHOWN:,} more" if len(changed) > _SHOWN else "")
        raise PannierError(
            f"changed by hand since it was laid out: {shown}; bring that in by packing it, or say `overwrite` to undo it"
        )


def _laid_out_before(snapshot: State, snapshot_id: str, before: LaidOut) -> dict[str, bytes]:
    """The digests by path of what was laid out; nothing where that snapshot is gone."""
    try:
        old = OpenedStore(snapshot.storage, snapshot.index).state_of(snapshot_id)
    except (NotFoundError, DamageError):
        return {}
    rows = np.arange(len(old)) if before.where is None else rows_where(old.manifest, before.where)
    rows, _, paths = paths_of(old, rows, before.layout)
    return _digests_by_path(old, rows, paths)


def _lay_out_attachments(snapshot: State, folder: Path) -> list[str]:
    attachments = attachments_at(snapshot)
    for attachment in attachments:
        path = folder / ATTACHMENTS / attachment.name
        if not (path.is_file() and path.stat().st_size == attachment.byte_count and _is(path, attachment.sha256)):
            attachment.save(path)
    return [attachment.name for attachment in attachments]


def _is(path: Path, sha256: str) -> bool:
    with open(path, "rb") as file:
        return hashlib.file_digest(file, "sha256").hexdigest() == sha256


def _remove_empty_folders(folder: Path) -> None:
    for root, folders, names in os.walk(folder, topdown=False):
        if not folders and not names and Path(root) != folder:
            os.rmdir(root)
