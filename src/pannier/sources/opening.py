"""What a source is told by: a folder, a table file, or rows from Python."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from pannier.errors import UsageError
from pannier.sources.folders import FolderSource
from pannier.sources.rows import Source
from pannier.sources.table_files import ENDINGS
from pannier.sources.tables import TableSource, table_file, table_from

# the options that say how a table is read; a folder needs none of them
TABLE_OPTIONS = ("picture", "root", "encoding", "separator")


def as_source(source: Any, *, keep_splits: bool = True, **table_options: Any) -> Source:
    """A path as the source it is; a data frame or dicts as a table; a source as it is. Raises UsageError."""
    said = {name: value for name, value in table_options.items() if value is not None}
    if isinstance(source, (str, Path)):
        if Path(source).is_file() and Path(source).suffix.lower() in ENDINGS:
            return table_file(source, **said)
        if said:
            raise UsageError(f"--{next(iter(said))} is for tables; {source} is none")
        return FolderSource(source, keep_splits=keep_splits)
    if hasattr(source, "table") and hasattr(source, "read"):
        found: Source = source
        return found
    return TableSource(table_from(source), "table", said.get("root", "."), said.get("picture"))
