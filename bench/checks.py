"""What it costs to trust nothing: opening, packing and feeding with all checks of input, against the same without."""

from __future__ import annotations

import contextlib
import tempfile
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any
from unittest.mock import patch

import pyarrow as pa

import pannier
from bench.data import write_archive
from bench.million import RECORDS, fill_a_million
from bench.slices import Report, alternate, ratio
from pannier.budget import Budget
from pannier.store import arrow_files, documents, index, manifest, shards

PICTURES = 600
BAR = 1.03


def run(report: Report) -> None:
    report.title("What checks of input cost: with them, against without")
    with tempfile.TemporaryDirectory() as folder:
        store = pannier.create(Path(folder) / "s.store")
        fill_a_million(store, Path(folder))
        _line(report, f"opening {RECORDS:,} records", lambda: pannier.open(store.path), 24)
    with tempfile.TemporaryDirectory() as folder:
        archive = write_archive(Path(folder) / "archive", PICTURES)
        number = iter(range(1000))

        def pack() -> None:
            pannier.create(Path(folder) / f"{next(number)}.store").pack(archive, workers=2)

        _line(report, f"packing {PICTURES:,} JPEG of 500 x 375, two workers", pack, 12)
        snapshot = pannier.create(Path(folder) / "s.store").pack(archive).snapshot
        path = Path(folder) / "a.docket"
        path.write_text(snapshot.docket(size=224, seed=1, shuffle=True).text())
        with (
            pannier.from_docket(path, workers=2) as docketed,
            snapshot.feed(None, size=224, shuffle=True, workers=2) as plain,
        ):
            ways = {"with": lambda: _epoch(docketed), "without": lambda: _epoch(plain)}
            times = alternate(ways, 24)
        share = ratio(times["with"], times["without"])
        report.line(
            "feeding them to 224 x 224 by SHA-256, as a docket does, against CRC-32", share, f"<= {BAR}", share.median <= BAR
        )


def _epoch(feed: pannier.Feed) -> None:
    for _ in feed:
        pass


def _line(report: Report, what: str, way: Callable[[], Any], slices: int) -> None:
    def unchecked() -> None:
        with _trusting():
            way()

    times = alternate({"with": way, "without": unchecked}, slices)
    share = ratio(times["with"], times["without"])
    report.line(what, share, f"<= {BAR}", share.median <= BAR)


@contextlib.contextmanager
def _trusting() -> Iterator[None]:
    """Every check of input left out: of documents, of Arrow files, of headers, of memory."""

    def read_file(content: Any, *_: Any) -> tuple[Any, list[Any]]:
        reader = pa.ipc.open_file(content)
        return reader.schema, [reader.get_batch(number) for number in range(reader.num_record_batches)]

    def read_batches(content: Any, *_: Any) -> list[Any]:
        return read_file(content)[1]

    def table(content: Any, *_: Any) -> Any:
        schema, batches = read_file(content)
        return pa.Table.from_batches(batches, schema)

    def nothing(*_: Any) -> None:
        """Checks nothing."""

    with contextlib.ExitStack() as stack:
        for module in (arrow_files, index, shards):
            stack.enter_context(patch.object(module, "read_batches", read_batches))
        stack.enter_context(patch.object(manifest, "_checked", table))
        stack.enter_context(patch.object(documents, "check_shape", nothing))
        stack.enter_context(patch("pannier.images.facts._check_scans", nothing))
        stack.enter_context(patch("pannier.sources.checking.refuse_file", nothing))
        stack.enter_context(patch("pannier.sources.checking.checking_cost", lambda *_: 0))
        stack.enter_context(patch.object(Budget, "taken", lambda *_: contextlib.nullcontext()))
        yield
