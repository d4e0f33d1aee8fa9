"""pannier feed"""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated, Any

import typer

from pannier.cli.options import (
    NO_TREATMENT,
    AsJson,
    BatchSize,
    Seed,
    Split,
    Store,
    Subset,
    TreatmentOptions,
    takes_treatment,
)
from pannier.cli.terminal import Bar, live_bar, plural, print_facts, print_json

if TYPE_CHECKING:
    from pannier.feed.feed import Feed


@takes_treatment
def feed(
    store: Store,
    split: Split = None,
    treatment: TreatmentOptions = NO_TREATMENT,
    batch_size: BatchSize = 32,
    seed: Seed = 0,
    subset: Subset = None,
    shuffle: Annotated[
        bool | None, typer.Option("--shuffle/--no-shuffle", help="By default train is shuffled, other splits are not.")
    ] = None,
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
    treated = treatment.treatment(snapshot)
    options: dict[str, Any] = {"batch_size": batch_size, "seed": seed, "subset": subset, "shuffle": shuffle}
    options |= {"workers": workers, "ahead": ahead, "memory_limit": memory_limit}
    with snapshot.feed(split, treated, **options) as feed:
        if len(snapshot):
            treated(snapshot[0].bytes())  # libraries and kernels are loaded before the level is taken
        release_free_memory()
        level = working_bytes()
        sampler = Sampler(0)
        first: dict[str, Any] = {}
        try:
            with live_bar("feed") as bar:
                for epoch in feed.epochs(epochs):
                    for batch in epoch:
                        first = first or _described(batch)
                        if bar:
                            _show(bar, feed, epochs)
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


def _show(bar: Bar, feed: Feed, epochs: int) -> None:
    """The live meter: pictures, rate, waiting."""
    meter = feed.meter
    note = f"{meter.pictures_per_second:,.0f} pictures/s, waiting {meter.waiting_share:.0%}"
    bar.show(meter.pictures, feed.pictures_per_epoch * epochs, lambda: note)
