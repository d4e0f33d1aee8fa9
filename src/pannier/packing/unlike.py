"""Pairs declared unlike: pictures that look alike and are none, so that they need not stay together. They hold for good."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import Any

from pannier.errors import UsageError, did_you_mean
from pannier.images.near import Pair
from pannier.sources.table_files import read_table
from pannier.sources.tables import table_from
from pannier.store.state import State

_NO = ("", "no", "n", "false", "0")


def unlike_pairs(said: Any, state: State) -> tuple[Pair, ...]:
    """The pairs declared unlike from now on: those of the snapshot and those said; "none" takes all back.

    said: pairs of keys, as ("a.jpg", "b.jpg") or "a.jpg=b.jpg", or a table with the columns key, other and unlike, of which
    rows count whose `unlike` is filled in. Raises UsageError, NotFoundError for a key that no record has.
    """
    if said in ("none", ["none"]):
        return ()
    pairs = dict.fromkeys(state.dealing.unlike)
    for keys in _pairs_of_keys(said):
        one, other = sorted(state.record(state.row_of(key)).sha256 for key in keys)
        if one == other:
            raise UsageError(f"`unlike` {keys[0]}={keys[1]}: both show the same picture, byte for byte")
        pairs[one, other] = None
    return tuple(pairs)


def _pairs_of_keys(said: Any) -> list[tuple[str, str]]:
    if isinstance(said, (str, Path)) or (isinstance(said, list) and all(isinstance(each, str) for each in said)):
        texts = [str(each) for each in (said if isinstance(said, list) else [said])]
        return [pair for text in texts for pair in _written(text)]
    if isinstance(said, Sequence) and all(isinstance(each, (tuple, list)) and len(each) == 2 for each in said):
        return [(str(one), str(other)) for one, other in said]
    return _filled_in(table_from(said).table, "the table")


def _written(text: str) -> list[tuple[str, str]]:
    """Pairs of a table's file, or one written as KEY=KEY."""
    if Path(text).is_file():
        return _filled_in(read_table(Path(text)).table, text)
    one, equals, other = text.partition("=")
    if not equals or not one.strip() or not other.strip():
        raise UsageError(f"`unlike` {text}: there is no such table; write a pair as a.jpg=b.jpg, or none")
    return [(one.strip(), other.strip())]


def _filled_in(table: Any, name: str) -> list[tuple[str, str]]:
    for column in ("key", "other", "unlike"):
        if column not in table.column_names:
            near = did_you_mean(column, table.column_names)
            raise UsageError(f"`unlike` {name}: it has no column {column!r}, as pannier doubles writes it{near}")
    rows = zip(*(table.column(column).to_pylist() for column in ("key", "other", "unlike")), strict=True)
    return [(str(one), str(other)) for one, other, unlike in rows if str(unlike or "").strip().lower() not in _NO]
