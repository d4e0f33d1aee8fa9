"""What it costs to trust nothing: opening, packing and feeding with all checks of input, against the same without."""

from __future__ import annotations

import contextlib
import tempfile
import time
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
from pannier.store import arrow_files, documents, index, manifest_files, shards

PICTURES = 600
BAR = 1.03


def run(report: Report) -> None:
    report.title("What checks of input cost: processor time with them, against without")
    with tempfile.TemporaryDirectory() as folder:
        store = pannier.create(Path(folder) / "s.store")
        fill_a_million(store, Path(folder))
        _line(report, f"opening {RECORDS:,} records", lambda: pannier.open(store.path), 60)
    with tempfile.TemporaryDirectory() as folder:
        archive = write_archive(Path(folder) / "archive", PICTURES)
        number = iter(range(1000))

        def pack() -> None:
            pannier.create(Path(folder) / f"{next(number)}.store").pack(archive, workers=2)

        _line(report, f"packing {PICTURES:,} JPEG of 500 x 375, two workers", pack, 24)
        snapshot = pannier.create(Path(folder) / "s.store").pack(archive).snapshot
        path = Path(folder) / "a.docket"
        path.write_text(snapshot.docket(size=224, seed=1, shuffle=True).text())
        with (
            pannier.from_docket(path, workers=2) as docketed,
            snapshot.feed(None, size=224, shuffle=True, workers=2) as plain,
        ):
            ways = {"with": lambda: _epoch(docketed), "without": lambda: _epoch(plain)}
            times = alternate(ways, 40, time.process_time)
        share = ratio(times["with"], times["without"])
        what = "feeding them to 224 x 224 through a docket, from the second epoch on"
        report.line(what, share, f"<= {BAR}", share.median <= BAR)

        def first_epoch(open_feed: Callable[[], pannier.Feed]) -> None:
            with open_feed() as feed:
                _epoch(feed)

        ways = {
            "with": lambda: first_epoch(lambda: pannier.from_docket(path, workers=2)),
            "without": lambda: first_epoch(lambda: snapshot.feed(None, size=224, shuffle=True, workers=2)),
        }
        times = alternate(ways, 16, time.process_time)
        share = ratio(times["with"], times["without"])
        report.line(
            "the first epoch, in which every picture is held against its SHA-256", share, f"<= {BAR}", share.median <= BAR
        )


def _epoch(feed: pannier.Feed) -> None:
    for _ in feed:
        pass


def _line(report: Report, what: str, way: Callable[[], Any], slices: int) -> None:
    def unchecked() -> None:
        with _trusting():
            way()

    times = alternate({"with": way, "without": unchecked}, slices, time.process_time)
    share = ratio(times["with"], times["without"])
    report.line(what, share, f"<= {BAR}", share.median <= BAR)


@contextlib.contextmanager
def _trusting() -> Iterator[None]:
    """Every check of input left out: of documents, of Arrow files, of headers, of memory."""

    def read_file(content: Any, *_: Any, **__: Any) -> tuple[Any, list[Any]]:
        reader = pa.ipc.open_file(content)
        return reader.schema, [reader.get_batch(number) for number in range(reader.num_record_batches)]

    def read_batches(content: Any, *_: Any) -> list[Any]:
        return read_file(content)[1]

    def nothing(*_: Any) -> None:
        """Checks nothing."""

    with contextlib.ExitStack() as stack:
        for module in (arrow_files, index, shards):
            stack.enter_context(patch.object(module, "read_batches", read_batches))
        stack.enter_context(patch.object(manifest_files, "read_file", read_file))
        for check in ("_check_columns", "_check_column"):
            stack.enter_context(patch.object(manifest_files, check, nothing))
        stack.enter_context(patch.object(documents, "check_shape", nothing))
        stack.enter_context(patch("pannier.images.facts._check_scans", nothing))
        stack.enter_context(patch("pannier.sources.checking.refuse_file", nothing))
        stack.enter_context(patch("pannier.sources.checking.checking_cost", lambda *_: 0))
        stack.enter_context(patch.object(Budget, "taken", lambda *_: contextlib.nullcontext()))
        yield
