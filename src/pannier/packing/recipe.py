"""The recipe: how a source was packed, kept in the snapshot, so that packing it again does the same."""

from __future__ import annotations

import os
import shlex
from collections.abc import Sequence
from dataclasses import fields, replace
from pathlib import Path
from typing import Any, TypeVar

from pannier.dealing.shares import Dealing, SaidDealing
from pannier.sources.opening import ReadingOptions
from pannier.sources.rules import read_rename
from pannier.storage.objects import is_in_bucket

# a source, and what was said of it but for what is of one pack alone
Recipe = dict[str, Any]
# what is said of a pack: a dataclass with the fields below
Said = TypeVar("Said", bound=ReadingOptions)
OF_AN_ENTRY = (
    *("picture", "root", "encoding", "separator", "null", "shape", "include", "exclude", "hidden", "label", "label_pattern"),
    *("where", "key", "split_by", "columns", "rename", "class_names"),
)
FOLLOWED = (
    *(*OF_AN_ENTRY, "labels", "unlabeled", "only_classes", "per_class", "longest_side", "encode"),
    *("prefix", "resplit", "allow_missing_classes", "max_pixels"),
)
# what on the command line an entry of a file of sources alone may say
OF_ENTRIES_ALONE = ("encoding", "separator", "class_names")


def named(source: Any) -> list[str] | None:
    """A source as it was named; None for data from Python, which have no name to come back under."""
    if isinstance(source, (str, Path)):
        return [_named(source)]
    if isinstance(source, Sequence) and source and all(isinstance(each, (str, Path)) for each in source):
        return [_named(each) for each in source]
    return None


def _named(source: str | Path) -> str:
    return str(source).rstrip("/") if is_in_bucket(source) else os.path.normpath(source)


def recipe_of(source: Sequence[str], options: ReadingOptions) -> Recipe:
    """What was said of a source, as plain data."""
    defaults = {each.name: each.default for each in fields(options)}
    said = {name: getattr(options, name) for name in FOLLOWED if name != "labels" or isinstance(options.labels, (str, Path))}
    said = {name: _written(name, value) for name, value in said.items() if value != defaults[name]}
    return {"source": [*source], **said}


def of_source(recipes: Sequence[Recipe], source: Sequence[str] | None, prefix: str = "") -> Recipe | None:
    """The recipe of a source below a prefix, where it was packed before; the only one of it where no prefix is said."""
    its = [each for each in recipes if each["source"] == source]
    below = [each for each in its if each.get("prefix", "") == prefix]
    return below[0] if below else its[0] if len(its) == 1 and not prefix else None


def followed(options: Said, recipe: Recipe | None) -> tuple[Said, list[tuple[str, Any, Any]]]:
    """The options with what is not said now as it was said before; and what is said otherwise: (option, before, now)."""
    if recipe is None:
        return options, []
    defaults = {each.name: each.default for each in fields(options)}
    taken, otherwise = {}, []
    for name in FOLLOWED:
        now, before = getattr(options, name), recipe.get(name, defaults[name])
        if name == "labels" and now is not None and not isinstance(now, (str, Path)):
            continue  # from Python, so of this call alone
        if now == defaults[name]:
            taken[name] = before
        elif name in recipe and _comparable(name, now) != _comparable(name, before):
            otherwise.append((name, before, _written(name, now)))
        elif name not in recipe:
            otherwise.append((name, None, _written(name, now)))
    return replace(options, **taken), otherwise


def dealt_otherwise(said: SaidDealing, before: Dealing) -> list[tuple[str, Any, Any]]:
    """What is said of dealing, where another thing held before: (option, before, now)."""
    earlier, now = before.in_words(), said.upon(before).in_words()
    options = ("shares", "counts", "carve", "seed", "group_by", "near", "ties")
    return [(name, earlier[name], now.get(name)) for name in options if name in earlier and earlier[name] != now.get(name)]


def with_recipe(recipes: Sequence[Recipe], recipe: Recipe | None) -> list[Recipe]:
    """Those of other sources, and of this one below other prefixes, as they are, and this one last."""
    if recipe is None:
        return [*recipes]
    own = (recipe["source"], recipe.get("prefix"))
    return [*(each for each in recipes if (each["source"], each.get("prefix")) != own), recipe]


def as_command(recipe: Recipe, store: str, dealing: Dealing | None = None) -> str:
    """The command that packs the source so, and deals so."""
    words = ["pannier", "pack", *recipe["source"], store]
    told = {name: recipe[name] for name in FOLLOWED if name in recipe and name not in OF_ENTRIES_ALONE}
    for name, value in (told | (dealing.in_words() if dealing is not None else {})).items():
        option = f"--{name.replace('_', '-')}"
        if value is True:
            words.append(option)
        elif isinstance(value, dict):
            words += [word for old, new in value.items() for word in (option, f"{old}={new}")]
        else:
            words += [word for each in (value if isinstance(value, list) else [value]) for word in (option, str(each))]
    return shlex.join(words)


def as_toml(recipe: Recipe) -> str:
    """The same as an entry for each path in a file of sources; what holds for all of them stands before."""
    import tomlkit

    document = tomlkit.document()
    for name in filter(recipe.__contains__, FOLLOWED):
        if name not in OF_AN_ENTRY:
            text = tomlkit.item(recipe[name]).as_string()
            document.add(tomlkit.comment(f"{name} = {text}, which stands on the command line"))
    entries = tomlkit.aot()
    for path in recipe["source"]:
        entry = tomlkit.table()
        entry.update({"path": path} | {name: recipe[name] for name in OF_AN_ENTRY if name in recipe})
        entries.append(entry)
    document.append("source", entries)
    return document.as_string()


def _plain(value: Any) -> Any:
    if isinstance(value, dict):
        return {str(key): each for key, each in value.items()}
    if isinstance(value, (list, tuple)):
        return [str(each) for each in value]
    return str(value) if isinstance(value, Path) else value


def _written(name: str, value: Any) -> Any:
    return read_rename(value) if name == "rename" else _plain(value)


def _comparable(name: str, value: Any) -> Any:
    if name == "rename":
        return read_rename(value)
    return [value] if isinstance(value, str) else _plain(value)
