"""Exports that are not the original bytes: pictures through a treatment, as files or as arrays."""

from __future__ import annotations

import io
import os
import shutil
from collections import Counter
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import numpy as np

from pannier.choices import Progress
from pannier.columns import Rows, numbers_of
from pannier.errors import SourceError, UsageError
from pannier.files import disk_refusals_said, write_whole
from pannier.folders.label_table import write_label_table
from pannier.folders.layout import paths_of
from pannier.images.prepare import Preparation
from pannier.images.recode import read_recoding
from pannier.images.treatment import Treatment
from pannier.machine import usable_cores
from pannier.store.boxes import boxes_of, check_boxes
from pannier.store.choosing import chosen_rows
from pannier.store.places import pictures_of
from pannier.store.state import State

IMAGES, LABELS, KEYS, TABLE = "images.npy", "labels.npy", "keys.npy", "labels.csv"
_AT_ONCE = 64


def export_prepared(
    snapshot: State,
    folder: str | Path,
    treatment: Treatment,
    *,
    encode: str = "png",
    layout: str = "class",
    where: str | None = None,
    split: str | None = None,
    progress: Progress | None = None,
) -> int:
    """Writes prepared pictures, without the random steps, as files of another format: how many. Into a new or empty folder.

    encode: "png", "jpeg:90" or "webp:80". Values are undone: files hold what one sees. Raises UsageError, SourceError.
    """
    recoding = read_recoding(None, encode)
    assert recoding is not None
    ending = {"jpeg": "jpg"}.get(str(recoding.encoding), str(recoding.encoding))
    rows, _, paths = paths_of(snapshot, _chosen(snapshot, split, where), layout)
    names = [f"{path.rpartition('.')[0] or path}.{ending}" for path in paths]
    counts = Counter(names)
    names = [name if counts[name] == 1 else f"{path}.{ending}" for name, path in zip(names, paths, strict=True)]
    with _new_folder(folder) as target:
        for at, array in enumerate(_prepared(snapshot, rows, treatment)):
            path = target / names[at]
            path.parent.mkdir(parents=True, exist_ok=True)
            encoded = _encoded(treatment.undo(array), str(recoding.encoding), recoding.quality)
            write_whole(path, encoded, flushed=False)
            if progress:
                progress(at + 1, len(rows))
        write_label_table(snapshot, rows, target / TABLE, files=names)
    return len(rows)


def export_arrays(
    snapshot: State,
    folder: str | Path,
    treatment: Treatment,
    *,
    where: str | None = None,
    split: str | None = None,
    progress: Progress | None = None,
) -> int:
    """Writes images.npy (N, ...) as the treatment makes them, labels.npy int64 (N,), keys.npy, in order of keys: how many.

    Written as they are made: memory is a few pictures. A record without a label has -1. Raises UsageError, SourceError.
    """
    rows, keys, _ = paths_of(snapshot, _chosen(snapshot, split, where), "flat")
    shape = (len(rows), *treatment.shape)
    with _new_folder(folder) as target:
        images = np.lib.format.open_memmap(target / IMAGES, "w+", np.dtype(treatment.dtype), shape)
        _allocate(target / IMAGES)
        for at, array in enumerate(_prepared(snapshot, rows, treatment)):
            images[at] = array
            if progress:
                progress(at + 1, len(rows))
        images.flush()
        np.save(target / LABELS, numbers_of(*snapshot.manifest.codes("label"), snapshot.classes)[rows])
        np.save(target / KEYS, np.array(keys, np.str_))
        write_label_table(snapshot, rows, target / TABLE)
    return len(rows)


def _allocate(path: Path) -> None:
    """Takes a file's room on the disk before it is written through a map: a full disk would end the process there."""
    with disk_refusals_said(path), open(path, "rb+") as file:
        os.posix_fallocate(file.fileno(), 0, path.stat().st_size)


def _chosen(snapshot: State, split: str | None, where: str | None) -> Rows:
    rows = chosen_rows(snapshot, split, None, where=where)
    if not len(rows):
        raise SourceError("no record is left to export")
    return rows


def _prepared(snapshot: State, rows: Rows, treatment: Treatment) -> Iterator[Any]:
    """The rows' pictures, prepared in parallel, in order."""
    treatment.check_ready()
    check_boxes(snapshot.manifest, treatment)
    boxes = boxes_of(snapshot.manifest, rows, treatment) if treatment.box is not None else [None] * len(rows)
    with ThreadPoolExecutor(usable_cores(), thread_name_prefix="pannier-prepare") as pool:
        for at in range(0, len(rows), _AT_ONCE):
            some, own = rows[at : at + _AT_ONCE], boxes[at : at + _AT_ONCE]
            read = pictures_of(snapshot.manifest, snapshot.index, snapshot.storage, some)
            pictures = [data for _, data in read]
            yield from pool.map(lambda data, box: Preparation(treatment).one(data, box=box), pictures, own)


def _encoded(pixels: Any, kind: str, quality: int | None) -> bytes:
    from PIL import Image

    sink = io.BytesIO()
    options = {} if quality is None else {"quality": quality}
    Image.fromarray(pixels[:, :, 0] if pixels.shape[2] == 1 else pixels).save(sink, kind, **options)
    return sink.getvalue()


@contextmanager
def _new_folder(folder: str | Path) -> Iterator[Path]:
    """A new or empty folder, which is as it was after any exception: what goes there does not go on from a half."""
    target = Path(folder)
    if target.exists() and (not target.is_dir() or any(target.iterdir())):
        raise UsageError(f"{folder} is not empty: prepared pictures and arrays go into a new folder")
    was_there = target.exists()
    try:
        with disk_refusals_said(target):
            target.mkdir(parents=True, exist_ok=True)
            yield target
    except BaseException:
        for each in target.iterdir() if target.exists() else ():
            shutil.rmtree(each, ignore_errors=True) if each.is_dir() else each.unlink()
        if not was_there:
            shutil.rmtree(target, ignore_errors=True)
        raise
