"""What a source is told by: a folder, an archive, a table or arrays file, a list of them in TOML; or data from Python."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from pathlib import Path, PurePosixPath
from typing import Any

import pyarrow as pa

from pannier.budget import limit_bytes
from pannier.errors import NotFoundError, UsageError
from pannier.sources import archives, arrays
from pannier.sources.archives import ArchiveSource
from pannier.sources.arrays import ArraysSource, arrays_file
from pannier.sources.bucket_folders import BucketFolder
from pannier.sources.files import file_stamp, here
from pannier.sources.folders import FolderSource
from pannier.sources.label_tables import with_labels
from pannier.sources.paths import Patterns
from pannier.sources.rows import FileStamp, Source
from pannier.sources.rules import Rules
from pannier.sources.several import NamedSource, Several, read_source_file
from pannier.sources.table_files import ENDINGS as TABLE_ENDINGS
from pannier.sources.table_files import Nulls
from pannier.sources.tables import TableSource, table_file, table_from
from pannier.storage.objects import is_in_bucket

TABLE_OPTIONS = ("picture", "root", "encoding", "separator", "null", "shape")
# what reading may take by default, however little is free
LEAST_BYTES = 256 << 20
PATTERN_OPTIONS = ("include", "exclude", "hidden")


@dataclass(frozen=True, kw_only=True)
class ReadingOptions:
    """How a source is read, not what comes of it: the first six for tables, the next three for folders and archives.

    labels: a table (a path, a data frame or dicts) whose rows are told by the pictures' paths, names or stems; its columns
    are for rules, `label` among them labels. memory_limit: bytes, "256MiB", "auto" (half of what is free) or None.
    """

    picture: str | None = None
    root: str | Path | None = None
    encoding: str | None = None
    separator: str | None = None
    null: Nulls = ()
    shape: str | None = None
    include: str | Sequence[str] = ()
    exclude: str | Sequence[str] = ()
    hidden: bool = False
    labels: Any = None
    memory_limit: str | int | None = "auto"

    @cached_property
    def most_bytes(self) -> int | None:
        """The memory limit in bytes, None for none; by default no less than a few large pictures take. Raises UsageError."""
        limit = limit_bytes(self.memory_limit)
        is_said = self.memory_limit != type(self).memory_limit
        return limit if limit is None or is_said else max(limit, LEAST_BYTES)

    def reading(self) -> dict[str, Any]:
        """What was said, as `as_source` takes it."""
        wanted = {name: getattr(self, name) for name in (*TABLE_OPTIONS, *PATTERN_OPTIONS, "labels")}
        return {name: value for name, value in wanted.items() if value is not None and (name == "labels" or value)}


# opens what is no folder and no file of a source, with the splits that it has or without; None for what is
Elsewhere = Callable[[str, bool], Source | None]


@dataclass(frozen=True)
class _Way:
    """How sources are opened, whatever they are; see `as_source`."""

    keep_splits: bool
    elsewhere: Elsewhere
    most_bytes: int | None
    is_known: Callable[[FileStamp], bool] | None = None


def as_source(
    source: Any,
    *,
    keep_splits: bool = True,
    is_known: Callable[[FileStamp], bool] | None = None,
    elsewhere: Elsewhere = lambda *_: None,
    most_bytes: int | None = None,
    **reading: Any,
) -> Source:
    """Whatever names pictures, as a source: paths, a data frame, dicts, arrays, pictures themselves; a source as it is.

    `is_known` says of a file in a folder that it need not be looked into. `elsewhere` opens what is named by no path of a
    source, as a snapshot. `most_bytes` of memory may be taken to open it. `reading` are picture, root, encoding, separator
    and null for tables, include, exclude and hidden for folders and archives.
    Raises UsageError, NotFoundError, SourceError.
    """
    labels = reading.pop("labels", None)
    wanted = {name: value for name, value in reading.items() if value}
    if labels is not None:
        null = wanted.pop("null", ())  # of the table of labels, not of the pictures
        wanted |= {"is_known": is_known, "elsewhere": elsewhere, "most_bytes": most_bytes}
        return with_labels(as_source(source, keep_splits=keep_splits, **wanted), labels, null)
    way = _Way(keep_splits, elsewhere, most_bytes)
    if isinstance(source, (str, Path)):
        return _path(source, wanted, replace(way, is_known=is_known))
    if hasattr(source, "table") and hasattr(source, "read"):
        found: Source = source
        return found
    if are_pictures(source):
        _refuse(wanted, (*PATTERN_OPTIONS, "encoding", "separator", "picture"), "pictures themselves")
        pictures = [each if isinstance(each, bytes) else str(each) for each in source]
        table = pa.table({"picture": pictures, "label": pa.nulls(len(pictures), pa.string())})
        return TableSource(table_from(table, ()), "pictures", wanted.get("root", "."), "picture", wanted.get("shape"))
    if isinstance(source, Sequence) and source and all(isinstance(each, (str, Path)) for each in source):
        if len(source) == 1:
            return _path(source[0], wanted, replace(way, is_known=is_known))
        return Several([_part(each, wanted, way) for each in source])
    if isinstance(source, Mapping):
        _refuse(wanted, (*TABLE_OPTIONS, *PATTERN_OPTIONS), "arrays")
        return ArraysSource(source, "arrays", keep_splits=keep_splits)
    _refuse(wanted, (*PATTERN_OPTIONS, "encoding", "separator"), "data from Python")
    how = (wanted.get("root", "."), wanted.get("picture"), wanted.get("shape"))
    return TableSource(table_from(source, wanted.get("null", ())), "table", *how)


def are_pictures(source: Any) -> bool:
    """Whether it is a list of pictures themselves, encoded bytes or paths of their files."""
    if isinstance(source, (str, bytes)) or not isinstance(source, Sequence) or not source:
        return False
    return all(isinstance(each, bytes) for each in source) or all(map(_is_picture_file, source))


def _is_picture_file(named: Any) -> bool:
    if not isinstance(named, (str, Path)):
        return False
    if is_in_bucket(named):
        return False
    name = Path(named).name.lower()
    return not name.endswith((*TABLE_ENDINGS, *archives.ENDINGS, *arrays.ENDINGS, ".toml")) and Path(named).is_file()


def _path(named: str | Path, said: dict[str, Any], way: _Way) -> Source:
    found = way.elsewhere(str(named), way.keep_splits)
    if found is not None:
        if said:
            raise UsageError(f"`{next(iter(said))}` is not for a snapshot; what of it is wanted is said by `where`")
        return found
    if is_in_bucket(named):
        return _in_bucket(str(named), said, way)
    path = Path(named)
    if not path.exists():
        raise NotFoundError(f"there is no folder or file {path}")
    ending = path.suffix.lower()
    if path.is_dir() or path.name.lower().endswith(archives.ENDINGS):
        patterns = _patterns(said, path)
        if path.is_dir():
            return FolderSource(path, keep_splits=way.keep_splits, patterns=patterns, is_known=way.is_known)
        return ArchiveSource(path, keep_splits=way.keep_splits, patterns=patterns, most_bytes=way.most_bytes)
    if ending in TABLE_ENDINGS:
        _refuse(said, PATTERN_OPTIONS, f"folders and archives; {path} is a table: say `where`")
        return table_file(path, most_bytes=way.most_bytes, **said)
    _refuse(said, (*TABLE_OPTIONS, *PATTERN_OPTIONS), f"other sources than {path}")
    if ending in arrays.ENDINGS:
        return arrays_file(path, keep_splits=way.keep_splits)
    if ending == ".toml":
        entries = read_source_file(path)
        parts = ((entry.path, entry.reading, way, entry.name, entry.rules) for entry in entries)
        return Several([_part(*part) for part in parts])
    endings = ", ".join((*TABLE_ENDINGS, *archives.ENDINGS, *arrays.ENDINGS, ".toml"))
    raise UsageError(f"{path} is a file of a kind that is no source: a folder is, or a file that ends in {endings}")


def _in_bucket(address: str, said: dict[str, Any], way: _Way) -> Source:
    """A folder in a bucket; or an archive, a table or an arrays file there, which is brought here whole."""
    ending = PurePosixPath(address).suffix.lower()
    if address.lower().endswith(archives.ENDINGS):
        patterns = _patterns(said, address)
        how: dict[str, Any] = {"patterns": patterns, "most_bytes": way.most_bytes, "stamp": file_stamp(address)}
        with here(address) as path:
            return ArchiveSource(path, keep_splits=way.keep_splits, **how)
    if ending in TABLE_ENDINGS:
        _refuse(said, PATTERN_OPTIONS, f"folders and archives; {address} is a table: say `where`")
        return table_file(address, most_bytes=way.most_bytes, **said)
    if ending in arrays.ENDINGS:
        _refuse(said, (*TABLE_OPTIONS, *PATTERN_OPTIONS), f"other sources than {address}")
        with here(address) as path:
            return arrays_file(path, keep_splits=way.keep_splits)
    return BucketFolder(address, keep_splits=way.keep_splits, patterns=_patterns(said, address))


def _patterns(said: dict[str, Any], named: object) -> Patterns:
    _refuse(said, TABLE_OPTIONS, f"tables; {named} is none")
    return Patterns(_listed(said.get("include")), _listed(said.get("exclude")), bool(said.get("hidden")))


def _part(
    path: str | Path, said: dict[str, Any], way: _Way, name: str | None = None, rules: Rules | None = None
) -> NamedSource:
    """One of several sources; of what is said for all it takes what is for its kind. Snapshots bring side columns."""
    is_table = Path(path).suffix.lower() in TABLE_ENDINGS
    own = {key: value for key, value in said.items() if (key in TABLE_OPTIONS) == is_table}
    source = _path(path, own if name is None and rules is None else said, way)
    rules = rules or Rules()
    rules = rules if rules.columns else replace(rules, columns=getattr(source, "side_columns", ()))
    return NamedSource(name or source.name.rpartition("/")[2].partition(".")[0], source, rules)


def _refuse(said: dict[str, Any], options: Sequence[str], what: str) -> None:
    wrong = next((name for name in said if name in options), None)
    if wrong:
        raise UsageError(f"`{wrong}` is for {what}" if ";" in what else f"`{wrong}` is not for {what}")


def _listed(patterns: Any) -> list[str]:
    return [] if not patterns else [patterns] if isinstance(patterns, str) else list(patterns)
