"""Layouts: which path a record's picture gets in a folder, the same for the same snapshot, always."""

from __future__ import annotations

import hashlib
import re
from collections.abc import Iterable

from pannier.choices import Layout, checked_choice
from pannier.columns import Rows, order_of_keys
from pannier.errors import UsageError
from pannier.sources.laid_out import ATTACHMENTS, is_about_layout
from pannier.sources.paths import split_of_folder
from pannier.store.state import State


def paths_of(snapshot: State, rows: Rows, layout: str) -> tuple[Rows, list[str], list[str]]:
    """(the rows in order of keys, their keys, their paths).

    class: the picture lies in a folder of its label, where its key has it there already at the key itself. split: the same
    below a folder of its split. flat: all in one folder. Paths that would be taken twice get numbers. Raises UsageError.
    """
    checked_choice("layout", layout, Layout)
    table = snapshot.manifest.take(rows, ["key", "label", "split"])
    order = order_of_keys(table.column("key"))
    table = table.take(order)
    keys, labels, splits = (table.column(name).to_pylist() for name in ("key", "label", "split"))
    if layout == "split" and None in splits:
        raise UsageError("`layout` split: some records have no split; deal them, or choose `layout` class")
    if layout == "flat":
        wanted: Iterable[str] = [_short("-".join(_parts(key))) for key in keys]
    else:
        classes = set(snapshot.classes)
        wanted = [_in_class(key, label, classes) for key, label in zip(keys, labels, strict=True)]
        if layout == "split":
            wanted = [f"{_checked_folder(split)}/{path}" for split, path in zip(splits, wanted, strict=True)]
    return rows[order], keys, _unlike(wanted, keys)


def _in_class(key: str, label: str | None, classes: set[str]) -> str:
    """The path below a folder of the label: the key's own where its last folder is that, else its name alone."""
    parts = _parts(key)
    if len(parts) > 1 and split_of_folder(parts[0]):
        parts = parts[1:]
    if label is None:
        return _short("-".join(parts))
    if len(parts) > 1 and parts[-2] == label and parts[0] != ATTACHMENTS:
        return "/".join(parts)
    names = parts[:-2] + parts[-1:] if len(parts) > 1 and parts[-2] in classes else parts
    return f"{_checked_folder(label)}/{_short('-'.join(names))}"


# bytes of a name that file systems take, with room for a number and for the name of a draft
LONGEST_NAME = 200
# names that act: hidden files and folders, as those of version control; devices; what moves a terminal's cursor
_DEVICE = re.compile(r"(con|prn|aux|nul|com[0-9]|lpt[0-9])(\..*)?", re.IGNORECASE)
_CONTROL = re.compile(r"[\0-\x1f\x7f-\x9f\u202a-\u202e\u2066-\u2069]")


def _parts(key: str) -> list[str]:
    """The parts of a key that a path in a folder can have: none leads up, or elsewhere, and none acts."""
    return [harmless(part) for part in key.split("/") if part not in ("", ".", "..")] or ["picture"]


def harmless(part: str) -> str:
    """A part of a path as a file or folder may be called; what is changed in it stands in the folder's list of keys.

    A dot in front becomes "_", devices get a "_", and a name that is too long ends in digits of its SHA-256.
    """
    name = _CONTROL.sub("_", part)
    name = f"_{name[1:]}" if name.startswith(".") else name
    name = f"_{name}" if _DEVICE.fullmatch(name) else name
    name = f"{name[:-1]}_" if name.endswith((".", " ")) else name
    return _short(name)


def _short(name: str) -> str:
    if len(name.encode()) <= LONGEST_NAME:
        return name
    stem, dot, ending = name.rpartition(".")
    ending = dot + ending if dot and len(ending) <= 5 else ""
    digits = hashlib.sha256(name.encode()).hexdigest()[:12]
    kept = (stem if ending else name).encode()[: LONGEST_NAME - len(digits) - len(ending.encode()) - 1]
    return f"{kept.decode(errors='ignore')}-{digits}{ending}"


def _checked_folder(name: str) -> str:
    if "/" in name or name in (".", "..", ATTACHMENTS) or "\0" in name or harmless(name) != name:
        raise UsageError(f"class or split {name!r} cannot be a folder's name: choose `layout` flat")
    return name


def _unlike(paths: Iterable[str], keys: list[str]) -> list[str]:
    """Each path, numbered where another has it; those that are their key keep it, so that most stay as they are."""
    wanted = list(paths)
    taken = {path.casefold() for path, key in zip(wanted, keys, strict=True) if path == key}
    unlike = []
    for path, key in zip(wanted, keys, strict=True):
        number, free = 1, path
        while (free.casefold() in taken and free != key) or is_about_layout(free.split("/")):
            number += 1
            stem, dot, ending = path.rpartition(".")
            free = f"{stem}-{number}{dot}{ending}" if dot and "/" not in ending else f"{path}-{number}"
        taken.add(free.casefold())
        unlike.append(free)
    return unlike
