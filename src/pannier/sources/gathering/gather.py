"""Gather: the pictures behind a table's links, in a folder, with a table beside them that pack reads."""

from __future__ import annotations

import asyncio
from collections import Counter
from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field
from functools import partial
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from pannier.columns import as_cells
from pannier.errors import UsageError
from pannier.files import whole_file
from pannier.images.facts import MAX_PIXELS
from pannier.images.recode import read_recoding
from pannier.machine import usable_cores
from pannier.results import Result
from pannier.sources.gathering.arriving import Bounds
from pannier.sources.gathering.fetching import Fetcher, Manners, Wanted
from pannier.sources.gathering.journal import Came, Failed, Journal, looked_into, opened
from pannier.sources.gathering.links import identity, name_in, safe_path, unlike, without_credentials, without_credentials_in
from pannier.sources.picture_columns import holds_links
from pannier.sources.rules import evaluate, holds
from pannier.sources.table_files import read_table
from pannier.sources.tables import table_from
from pannier.units import read_bytes, read_seconds

TABLE = "gathered.csv"
# what the table beside the pictures says of where they came from
ORIGIN = ("file", "link", "fetched_at", "byte_count", "sha256", "http_status")

Progress = Callable[[int, int, int], None]


@dataclass(eq=False, repr=False)
class Gathered(Result):
    """What a gathering did: the folder, the table in it, how many pictures came now, were there before, did not come.

    `rows` have a picture; `without_link` rows name none; `funnel` tells how many rows each condition left. Of a preview
    `wanted` tells how many pictures would be asked for, by host.
    """

    folder: Path
    table: Path
    came: int = 0
    there_before: int = 0
    byte_count: int = 0
    rows: int = 0
    without_link: int = 0
    failed: list[Failed] = field(default_factory=list)
    wanted: dict[str, int] = field(default_factory=dict)
    funnel: list[tuple[str, int]] = field(default_factory=list)

    def to_dict(self) -> dict[str, Any]:
        """Plain data for JSON."""
        counts = ("came", "there_before", "byte_count", "rows", "without_link")
        return {
            "folder": str(self.folder),
            "table": str(self.table),
            **{name: getattr(self, name) for name in counts},
            "wanted": self.wanted,
            "funnel": [{"where": where, "rows": count} for where, count in self.funnel],
            "failed": [
                {"link": each.link, "reason": each.reason, "http_status": each.status, "is_final": each.is_final}
                for each in self.failed
            ],
        }

    @property
    def can_try_again(self) -> bool:
        """Whether some of what failed may come another time."""
        return any(not failed.is_final for failed in self.failed)


def gather(
    table: Any,
    folder: str | Path,
    *,
    link: str | None = None,
    where: str | Sequence[str] = (),
    name: str | None = None,
    pause: str | float = 0.7,
    connections: int = 2,
    attempts: int = 4,
    timeout: str | float = 60.0,
    max_bytes: str | int = "64MiB",
    max_pixels: int = MAX_PIXELS,
    longest_side: int | None = None,
    encode: str | None = None,
    again: bool = False,
    ignore_robots: bool = False,
    encoding: str | None = None,
    separator: str | None = None,
    null: str | Sequence[str] = (),
    workers: int | None = None,
    preview: bool = False,
    progress: Progress | None = None,
) -> Gathered:
    """Fetches the pictures that a table links to into a folder, each once; goes on where it was stopped.

    table: a file, a data frame, Arrow or dicts. link: a column, or SQL over columns; found where only one holds links.
    where: conditions on rows, before anything is fetched. name: SQL that names files, `/` for folders; else links do.
    pause: seconds, or "700ms", between the starts of two requests to one host; connections: at once to one host.
    timeout: seconds, or "60s", for one picture. max_bytes, max_pixels: larger ones are refused while they arrive.
    longest_side, encode: pictures are recoded as they come. again: also what was refused for good is asked for again.
    ignore_robots: do not heed what hosts say in robots.txt. preview: count what would be asked for, and ask for nothing.
    progress: called with (pictures done, pictures in all, bytes).
    Beside the pictures lies `gathered.csv`: the columns of the rows whose picture came, and where it came from. Passwords
    and the like in links are never written anywhere. Raises UsageError, SourceError.
    """
    bounds = Bounds(read_bytes(max_bytes), max_pixels, read_recoding(longest_side, encode))
    manners = Manners(read_seconds(pause), connections, attempts, read_seconds(timeout), heeds_robots=not ignore_robots)
    fetch = partial(_fetch, manners=manners, bounds=bounds, workers=workers, progress=progress)
    gathered = Gathered(Path(folder), Path(folder) / TABLE)
    rows, texts = _with_links(_read(table, encoding, separator, null), link, where, gathered)
    if preview:
        journal = looked_into(gathered.folder)
        gathered.there_before = sum(who in journal.came for who in {identity(text) for text in texts})
        gathered.wanted = _by_host(_wanted(texts, _names(rows, name), journal, again=again))
        return gathered
    with opened(gathered.folder) as journal:
        return _gather(rows, texts, _wanted(texts, _names(rows, name), journal, again=again), journal, gathered, fetch)


def _gather(
    rows: Any, texts: list[str], wanted: list[Wanted], journal: Journal, gathered: Gathered, fetch: Callable[..., None]
) -> Gathered:
    """Fetches what is wanted; the table tells of what is there, however the fetching ends."""
    everything = {identity(text) for text in texts}
    gathered.there_before = sum(who in journal.came for who in everything)
    try:
        fetch(wanted, journal, gathered)
    finally:
        gathered.failed = [failed for who, failed in journal.failed.items() if who in everything]
        gathered.rows = _write_table(rows, texts, journal, gathered.table)
    return gathered


def _read(table: Any, encoding: str | None, separator: str | None, null: str | Sequence[str]) -> Any:
    if isinstance(table, (str, Path)):
        return read_table(Path(table), encoding=encoding, separator=separator, null=null).table
    return table_from(table, null).table


def _names(rows: Any, name: str | None) -> list[str | None] | None:
    """The names that a rule gives the files of some rows."""
    names: list[str | None] = [] if name is None else evaluate(rows, name, "`name`").cast(pa.large_string()).to_pylist()
    return names or None


def _with_links(rows: Any, link: str | None, where: str | Sequence[str], gathered: Gathered) -> tuple[Any, list[str]]:
    """The rows for which all conditions hold and that have a link, and the links."""
    for condition in [where] if isinstance(where, str) else where:
        rows = rows.filter(pa.array(holds(rows, condition)))
        gathered.funnel.append((condition, len(rows)))
    links = _links(rows, link)
    has_link = pc.is_valid(links)
    gathered.without_link = len(links) - int(pc.sum(has_link).as_py() or 0)
    return rows.filter(has_link), links.filter(has_link).to_pylist()


def _fetch(
    wanted: list[Wanted], journal: Journal, gathered: Gathered, manners: Manners, bounds: Bounds, workers: Any, progress: Any
) -> None:
    done = 0

    def report(outcome: Came | Failed) -> None:
        nonlocal done
        if isinstance(outcome, Came):
            journal.add_came(outcome)
            gathered.came += 1
            gathered.byte_count += outcome.byte_count
        else:
            journal.add_failed(outcome)
        done += 1
        if progress:
            progress(done, len(wanted), gathered.byte_count)

    if wanted:
        fetcher = Fetcher(journal.arriving, manners, bounds, report)
        _run(lambda: asyncio.run(fetcher.fetch_all(wanted, workers or usable_cores())))


def _run(fetch: Callable[[], None]) -> None:
    """Here, or where an event loop is running here already, as in a notebook, in a thread of its own."""
    try:
        asyncio.get_running_loop()
    except RuntimeError:
        fetch()
        return
    with ThreadPoolExecutor(1, thread_name_prefix="pannier-gather") as pool:
        pool.submit(fetch).result()


def _links(rows: Any, link: str | None) -> Any:
    """The links, row by row; those of the one column that holds some where none is named. Raises UsageError."""
    if link is None:
        candidates = [name for name in rows.column_names if holds_links(rows.column(name))]
        if len(candidates) != 1:
            what = "no column holds links" if not candidates else "several columns hold links"
            columns = ", ".join(map(repr, candidates or rows.column_names[:12]))
            raise UsageError(f"{what}: say which with `link`; there is {columns}")
        link = candidates[0]
    values = evaluate(rows, link, "`link`")
    if not (pa.types.is_string(values.type) or pa.types.is_large_string(values.type) or pa.types.is_null(values.type)):
        raise UsageError(f"`link` {link}: gives {values.type}, not links")
    values = values.cast(pa.large_string())
    values = pc.if_else(pc.equal(values, ""), pa.scalar(None, values.type), values)
    return pa.chunked_array([values]) if isinstance(values, pa.Array) else values


def _wanted(links: list[str], names: list[str | None] | None, journal: Journal, *, again: bool) -> list[Wanted]:
    """What is to be fetched, each link once, in order of rows; names that are taken get numbers."""
    taken = {_stem(came.file).casefold() for came in journal.came.values()}
    seen: set[str] = set()
    chosen: list[tuple[str, str, str]] = []
    for row, text in enumerate(links):
        who = identity(text)
        refused = journal.failed.get(who)
        if who in seen or who in journal.came or (refused and refused.is_final and not again):
            continue
        seen.add(who)
        given = names[row] if names is not None else None
        chosen.append((text, who, safe_path(given if given else name_in(text))))
    names_given = unlike((name for _, _, name in chosen), taken)
    return [
        Wanted(text, who, without_credentials(text), name) for (text, who, _), name in zip(chosen, names_given, strict=True)
    ]


def _by_host(wanted: list[Wanted]) -> dict[str, int]:
    return dict(Counter(urlsplit(each.shown).netloc for each in wanted).most_common())


def _stem(file: str) -> str:
    return file.rpartition(".")[0]


def _write_table(rows: Any, links: list[str], journal: Journal, path: Path) -> int:
    """Writes the table of the rows whose pictures are there, whole or not at all; says how many."""
    from pyarrow import csv

    came = [journal.came.get(identity(text)) for text in links]
    kept = rows.filter(pa.array(np.array([each is not None for each in came], bool)))
    arrived = [each for each in came if each is not None]
    columns = {name: _plain(kept.column(name)) for name in kept.column_names}
    names = {name: f"gathered_{name}" if name in columns else name for name in ORIGIN}
    times = [each.time.replace("T", " ").removesuffix("Z") for each in arrived]
    origin = [[getattr(each, name) for each in arrived] for name in ("file", "link", "byte_count", "sha256", "status")]
    origin.insert(ORIGIN.index("fetched_at"), times)
    table = pa.table({**dict(zip(names.values(), origin, strict=True)), **columns})
    with whole_file(path) as draft:
        csv.write_csv(as_cells(table), draft)
    return len(table)


def _plain(column: Any) -> Any:
    """A column as it is written down: links without credentials; what no text table holds is left empty."""
    if pa.types.is_nested(column.type) or pa.types.is_binary(column.type) or pa.types.is_large_binary(column.type):
        return pa.nulls(len(column), pa.string())
    if pa.types.is_string(column.type) or pa.types.is_large_string(column.type):
        return pa.array([text and without_credentials_in(text) for text in column.to_pylist()], pa.string())
    return column
