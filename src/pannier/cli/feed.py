"""pannier feed"""

from __future__ import annotations

import sys
import time
from collections.abc import Iterator
from contextlib import contextmanager
from typing import TYPE_CHECKING, Annotated, Any

import typer

from pannier.cli.options import (
    AsJson,
    BatchSize,
    Color,
    Fit,
    Flip,
    Seed,
    Size,
    Split,
    Store,
    TreatmentFile,
    Values,
    read_treatment,
)
from pannier.cli.terminal import plural, print_facts, print_json

if TYPE_CHECKING:
    from pannier.feed.feed import Feed


def feed(
    store: Store,
    split: Split = None,
    size: Size = None,
    treatment: TreatmentFile = None,
    fit: Fit = None,
    color: Color = None,
    values: Values = None,
    flip: Flip = None,
    batch_size: BatchSize = 32,
    seed: Seed = 0,
    workers: Annotated[int | None, typer.Option(help="Threads; by default all usable cores.")] = None,
    ahead: Annotated[int | None, typer.Option(help="Batches kept ready; by default as the limit allows.")] = None,
    memory_limit: Annotated[str, typer.Option(help="Bound of working memory: 128MiB, auto or none.")] = "auto",
    epochs: Annotated[int, typer.Option(min=1, help="How many epochs.")] = 1,
    json: AsJson = False,
) -> int:
    """Feed an epoch, metered: what a training loop would get, and how fast.

    [dim]$[/dim] pannier feed swatches.store --split train --size 96 --batch-size 32 --memory-limit 128MiB
    """
    from pannier.measuring.memory import Sampler, fix_map_threshold, release_free_memory, working_bytes
    from pannier.store.store import open as open_snapshot

    fix_map_threshold()
    snapshot = open_snapshot(store)
    treated = read_treatment(snapshot, treatment, size, fit, color, values, flip)
    options: dict[str, Any] = {"batch_size": batch_size, "seed": seed, "workers": workers, "ahead": ahead}
    with snapshot.feed(split, treated, memory_limit=memory_limit, **options) as feed:
        if len(snapshot):
            treated(snapshot[0].bytes())  # libraries and kernels are loaded before the level is taken
        release_free_memory()
        level = working_bytes()
        sampler = Sampler(0)
        first: dict[str, Any] = {}
        try:
            with _live_meter(feed, epochs) as step:
                for epoch in feed.epochs(epochs):
                    for batch in epoch:
                        first = first or _described(batch)
                        step()
        finally:
            sampler.close()
        facts = _facts(feed, first, max(0, sampler.peak_bytes - level))
    print_json(facts) if json else _print(facts)
    return 0


def _described(batch: Any) -> dict[str, Any]:
    images = batch.images
    return {
        "shape": list(images.shape),
        "dtype": str(images.dtype),
        "lowest": float(images.min()),
        "highest": float(images.max()),
        "labels": f"{batch.labels.dtype} {tuple(batch.labels.shape)}",
    }


def _facts(feed: Feed, first: dict[str, Any], peak_bytes: int) -> dict[str, Any]:
    meter, plan = feed.meter, feed.plan
    return {
        "split": feed.split,
        "records": feed.records,
        "batches_per_epoch": len(feed),
        "batch": first,
        "shuffled": feed.shuffle,
        "augmented": feed.augment and feed.treatment is not None and feed.treatment.flip != "none",
        "pictures": meter.pictures,
        "seconds": meter.seconds,
        "pictures_per_second": meter.pictures_per_second,
        "waiting_share": meter.waiting_share,
        "plan": {name: getattr(plan, name) for name in plan.__dataclass_fields__},
        "peak_bytes": peak_bytes,
    }


def _print(facts: dict[str, Any]) -> None:
    from pannier.sizes import show_bytes

    plan, batch = facts["plan"], facts["batch"]
    limit = "unlimited" if plan["limit_bytes"] is None else f"of {show_bytes(plan['limit_bytes'])}"
    threads = plural(plan["workers"], "worker")
    threads += f" and {plural(plan['heavy_lanes'], 'heavy lane')}" if plan["heavy_lanes"] else ""
    order = "shuffled" if facts["shuffled"] else "in order of keys"
    order += ", augmented" if facts["augmented"] else ""
    shape = "x".join(map(str, batch.get("shape", []))) or "no"
    ranged = f"{batch['dtype']}, {batch['lowest']:.4g} to {batch['highest']:.4g}" if batch else "-"
    print_facts(
        [
            (
                "fed",
                f"{facts['split'] or 'all records'}: {facts['pictures']:,} pictures in {facts['seconds']:.2f} s, {order}",
            ),
            (
                "rate",
                f"{facts['pictures_per_second']:,.0f} pictures/s; waited for {facts['waiting_share']:.0%} of the time",
            ),
            ("batches", f"{facts['batches_per_epoch']:,} an epoch, the first {shape} {ranged}"),
            ("plan", f"{threads}, {plan['ahead']} ahead, {show_bytes(plan['total_bytes'])} {limit}"),
            ("memory", f"{show_bytes(facts['peak_bytes'])} at most, measured"),
        ]
    )


@contextmanager
def _live_meter(feed: Feed, epochs: int) -> Iterator[Any]:
    """A meter on standard error where that is a terminal: rate, waiting, progress."""
    if not sys.stderr.isatty():
        yield lambda: None
        return
    from rich.console import Console
    from rich.progress import BarColumn, MofNCompleteColumn, Progress, TextColumn, TimeRemainingColumn

    text = TextColumn("{task.fields[rate]:>6,.0f} pictures/s  waiting {task.fields[waiting]:>4.0%}")
    columns = (TextColumn("feed"), BarColumn(bar_width=32), MofNCompleteColumn(), text, TimeRemainingColumn())
    with Progress(*columns, console=Console(stderr=True), transient=True) as bar:
        task = bar.add_task("feed", total=len(feed) * epochs, rate=0.0, waiting=0.0)
        shown = 0.0

        def step() -> None:
            nonlocal shown
            bar.advance(task)
            if (now := time.monotonic()) - shown > 0.1:
                shown, meter = now, feed.meter
                bar.update(task, rate=meter.pictures_per_second, waiting=meter.waiting_share)

        yield step
