"""Several sources in one snapshot: named in one TOML file or one after another, each with rules of its own."""

from __future__ import annotations

import tomllib
from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
from pydantic import BaseModel, ConfigDict, ValidationError

from pannier.columns import joined, keys_below
from pannier.errors import NotFoundError, SourceError, UsageError, did_you_mean
from pannier.sources.rows import Chosen, FileStamp, LeftOut, Row, Source, reads_at_once
from pannier.sources.rules import RuleOptions, Rules, choose_rows
from pannier.storage.objects import is_in_bucket


class SourceEntry(BaseModel):
    """One `[[source]]` of a TOML file: where it is, what it is called, how it is read, and rules of its own."""

    model_config = ConfigDict(extra="forbid", strict=True)

    path: str
    name: str | None = None
    picture: str | None = None
    root: str | None = None
    encoding: str | None = None
    separator: str | None = None
    null: str | list[str] = []
    shape: str | None = None
    include: str | list[str] = []
    exclude: str | list[str] = []
    hidden: bool = False
    label: str | None = None
    label_pattern: str | None = None
    where: str | list[str] = []
    key: str | None = None
    split_by: str | None = None
    columns: str | list[str] = []
    rename: dict[str, str] = {}
    class_names: str | dict[str, str] | None = None

    @property
    def reading(self) -> dict[str, Any]:
        """How it is read: what `as_source` takes beside the path."""
        names = ("picture", "root", "encoding", "separator", "null", "shape", "include", "exclude", "hidden")
        return {name: value for name in names if (value := getattr(self, name))}

    @property
    def rules(self) -> Rules:
        names = Rules.__dataclass_fields__
        return RuleOptions(**{name: value for name in names if (value := getattr(self, name, None))}).read_rules()


@dataclass(frozen=True)
class NamedSource:
    """One of several sources: its keys lie below its name; `rules` are its own, before those said for all."""

    name: str
    source: Source
    rules: Rules


class Several:
    """Several sources as one. Its rows are those of the first, then those of the second, and so on.

    Each has a column `source` more, its name; what is left out by rules is chosen part by part.
    """

    default_label = None

    def __init__(self, parts: Sequence[NamedSource]) -> None:
        names = Counter(part.name for part in parts)
        twice = [name for name, count in names.items() if count > 1]
        if twice:
            raise UsageError(
                f"two sources are called {twice[0]!r}, which their keys begin with: name them in a TOML file, as "
                f'[[source]] path = "..." name = "..."'
            )
        self.parts = list(parts)
        self.name = ", ".join(names)
        self.fixed_splits = all(part.source.fixed_splits for part in parts)
        self.reads_at_once = max(reads_at_once(part.source) for part in parts)
        self.passed = [
            LeftOut(f"{part.name}/{item.key}", item.kind, item.reason) for part in parts for item in part.source.passed
        ]
        counts = [len(part.source.table()) for part in parts]
        self._starts = np.cumsum([0, *counts])

    def table(self) -> Any:
        return pa.table({"source": np.repeat([part.name for part in self.parts], np.diff(self._starts))})

    def keys(self) -> Any:
        return pa.concat_arrays([keys_below(f"{part.name}/", part.source.keys()) for part in self.parts])

    def byte_counts(self, numbers: Any) -> np.ndarray[Any, np.dtype[np.int64]]:
        out = np.zeros(len(numbers), np.int64)
        for at, part in enumerate(self.parts):
            here = (numbers >= self._starts[at]) & (numbers < self._starts[at + 1])
            out[here] = part.source.byte_counts(numbers[here] - self._starts[at])
        return out

    def read(self, row: Row, most: int | None = None) -> bytes:
        """The picture's bytes, from the source that has it."""
        source, own = self._part_of(row)
        return source.read(own, most)

    def file(self, row: Row) -> FileStamp | None:
        source, own = self._part_of(row)
        return source.file(own)

    def choose(self, rules: Rules) -> Chosen:
        """What every part's own rules, and those said for all, leave of it."""
        parts = []
        for at, part in enumerate(self.parts):
            table = part.source.table()
            if "source" not in table.column_names:
                table = table.append_column("source", pa.array([part.name] * len(table)))
            chosen = choose_rows(part.source, _joined(part.rules, rules), table)
            parts.append(_placed(chosen, part.name, int(self._starts[at])))
        return _concatenated(parts)

    def _part_of(self, row: Row) -> tuple[Source, Row]:
        at = int(np.searchsorted(self._starts, row.number, side="right")) - 1
        own = row.number - int(self._starts[at])
        return self.parts[at].source, row._replace(number=own)


def choose(source: Source, rules: Rules) -> Chosen:
    """The rows of one source, or of several, that the rules leave, with what they make of them."""
    return source.choose(rules) if isinstance(source, Several) else choose_rows(source, rules)


def read_source_file(path: str | Path) -> list[SourceEntry]:
    """The sources that a TOML file names, their paths relative to it. Raises UsageError with the field that is wrong."""
    file = Path(path)
    try:
        document = tomllib.loads(file.read_text(encoding="utf-8"))
    except (tomllib.TOMLDecodeError, UnicodeDecodeError) as error:
        raise UsageError(f"{path} is no TOML file: {error}") from None
    entries = document.pop("source", None)
    if document or not isinstance(entries, list) or not entries:
        unknown = f"; {next(iter(document))!r} is not known" if document else ""
        raise UsageError(f'{path} names no sources: write [[source]] and path = "..." for each{unknown}')
    return [_entry(entry, number, file) for number, entry in enumerate(entries, 1)]


def _entry(entry: Mapping[str, Any], number: int, file: Path) -> SourceEntry:
    try:
        read = SourceEntry(**entry)
    except ValidationError as error:
        first = error.errors()[0]
        field = ".".join(map(str, first["loc"]))
        near = did_you_mean(field, SourceEntry.model_fields) if first["type"] == "extra_forbidden" else ""
        raise UsageError(f"{file}: source {number}: {field}: {first['msg'].lower()}{near}") from None
    path = _beside(file, read.path)
    if not is_in_bucket(path) and not Path(path).exists():
        raise NotFoundError(f"{file}: source {number}: there is no {path}")
    root = None if read.root is None else _beside(file, read.root)
    names = _beside(file, read.class_names) if isinstance(read.class_names, str) else read.class_names
    return read.model_copy(update={"path": path, "root": root, "class_names": names})


def _beside(file: Path, named: str) -> str:
    """A path that a file tells, which is relative to it; an address in a bucket is one as it is."""
    return named if is_in_bucket(named) else str(file.parent / named)


def _joined(own: Rules, general: Rules) -> Rules:
    """A part's own rules where it has them, conditions and renames of both."""
    return replace(
        own,
        label=own.label or (None if own.label_pattern else general.label),
        label_pattern=own.label_pattern or (None if own.label else general.label_pattern),
        where=[*own.where, *general.where],
        key=own.key or general.key,
        split_by=own.split_by or general.split_by,
        columns=own.columns or general.columns,
        rename={**general.rename, **own.rename},
        class_names={**general.class_names, **own.class_names},
        group_by=own.group_by or general.group_by,
    )


def _placed(chosen: Chosen, name: str, start: int) -> Chosen:
    """A part's rows among those of all, its keys below its name."""
    left_out = [LeftOut(f"{name}/{item.key}", item.kind, item.reason) for item in chosen.left_out]
    funnel = [(f"{where} (of {name})", count) for where, count in chosen.funnel]
    keys = keys_below(f"{name}/", chosen.keys)
    return replace(chosen, numbers=chosen.numbers + start, keys=keys, left_out=left_out, funnel=funnel)


def _concatenated(parts: list[Chosen]) -> Chosen:
    return Chosen(
        np.concatenate([part.numbers for part in parts]),
        pa.concat_arrays([_flat(part.keys) for part in parts]),
        joined([part.labels for part in parts]),
        joined([part.splits for part in parts]),
        _sides(parts),
        joined([part.raw_labels or part.labels for part in parts]),
        [step for part in parts for step in part.funnel],
        [item for part in parts for item in part.left_out],
    )


def _flat(keys: Any) -> Any:
    return keys.combine_chunks() if isinstance(keys, pa.ChunkedArray) else keys


def _sides(parts: list[Chosen]) -> Any:
    """The parts' side columns, NULL where a part has none. Raises SourceError where two are of different types."""
    if all(part.side is None for part in parts):
        return None
    tables = [part.side if part.side is not None else pa.table({"-": pa.nulls(len(part))}) for part in parts]
    try:
        joined = pa.concat_tables(tables, promote_options="default")
    except pa.ArrowException as error:
        raise SourceError(f"the sources' side columns do not fit together: {error}; cast them in `columns`") from error
    return joined.drop_columns(["-"]) if "-" in joined.column_names else joined
