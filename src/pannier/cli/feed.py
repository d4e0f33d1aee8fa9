"""pannier feed"""

from __future__ import annotations

import hashlib
from pathlib import Path
from typing import TYPE_CHECKING, Any

import pannier
from pannier import choices
from pannier.cli import options as opt
from pannier.cli.terminal import Bar, live_bar, plural, print_facts, print_json, progress_bar
from pannier.errors import NotFoundError, SourceError, UsageError
from pannier.units import show_bytes

if TYPE_CHECKING:
    from pannier.feeding.describing import Description


_HOW = {
    "batch_size": opt.number("Pictures a batch; 32 unless said."),
    "seed": opt.number("Seed of order and chance; 0 unless said."),
    "subset": opt.text("A part, as 10%, fair in every class, fixed by the seed.", "PART"),
    "where": opt.text("Only records for which this SQL holds.", "EXPR"),
    "shuffle": opt.switch("By default train is shuffled, other splits are not.", names=("--shuffle/--no-shuffle",)),
    "augment": opt.switch("By default train gets the random steps, others do not.", names=("--augment/--no-augment",)),
    "rendered": opt.switch("By default rendered canvases are used where any are.", names=("--rendered/--no-rendered",)),
    "last": opt.Declared(choices.Last | None, "What becomes of a last, smaller batch."),
    "steps": opt.number("Batches an epoch; by default every record comes once."),
    "window": opt.number("Shuffle windows of so many neighbors, and the records in each."),
    "variations": opt.number("Times that every record comes in an epoch."),
    "plain": opt.switch("One of --variations comes without random steps.", names=("--plain/--no-plain",)),
    "balance": opt.text("What comes equally often: class, or a side column's values.", "COLUMN"),
    "weights": opt.text("A side column of numbers: as often as these records come.", "COLUMN"),
    "part": opt.number("One part of --parts, 0 the first."),
    "parts": opt.number("Parts that together give every record once."),
    "label_as": opt.Declared(choices.LabelAs | None, "How labels come; by default as numbers."),
    "workers": opt.number("Threads; by default all usable cores, of tiny pictures one."),
    "processes": opt.number("Processes of their own that make the batches; by default, and 0, threads of this one."),
    "ahead": opt.number("Batches kept ready; by default as the limit allows."),
    **opt.MEMORY,
}


@opt.reads_afar
@opt.takes_treatment
@opt.takes("how", _HOW)
def feed(
    store: str | None = opt.argument(None, "A store, or a source that is not packed.", metavar="[STORE[@NAME]|SOURCE]"),
    split: opt.FedSplit = None,
    treatment: opt.TreatmentOptions = opt.NO_TREATMENT,
    docket: str | None = opt.value(None, "Feed what a docket says, in place of store and options.", "FILE"),
    store_hint: opt.StoreHint = None,
    how: opt.Said = opt.NOTHING,
    epochs: int = opt.value(1, "How many epochs.", min=1),
    digest: bool = opt.flag("--digest", "Print the SHA-256 of all that was fed: equal batches, equal digest."),
    described: bool = opt.flag("--describe", "Describe the first batch, and what looks wrong; no epoch is fed."),
    expect: str | None = opt.value(None, "Fail unless the first batch is so: shape, dtype, range, ...", "NAME=VALUE,..."),
    json: opt.AsJson = False,
) -> int:
    """Feed an epoch, metered: what a training loop would get, and how fast. Or one batch, described.

    [dim]$[/dim] pannier feed swatches.store --split train --size 96 --batch-size 32 --memory-limit 128MiB
    [dim]$[/dim] pannier feed archive --size 96
    [dim]$[/dim] pannier feed --docket weave.docket
    [dim]$[/dim] pannier feed swatches.store --split train --treatment cloth.toml --describe
    [dim]$[/dim] pannier feed swatches.store --split train --size 96 --expect "shape=32x3x96x96,dtype=float32,range=0..1"
    """
    from pannier.memory import fix_map_threshold

    fix_map_threshold()
    with _opened(store, docket, store_hint, treatment, {"split": split, **treatment.feeding, **how}) as feed:
        if not feed.pictures_per_epoch:
            raise SourceError("there is nothing to feed: no record is left by split, subset and where")
        if described or expect is not None:
            return _describe(feed, expect, json)
        facts = _fed(feed, epochs, hashlib.sha256() if digest else None)
        if feed.state.storage.copies:
            left_out = plural(len(feed.snapshot.left_out), "thing")
            facts["notes"].append(f"{store} as it is, not packed; {left_out} left out, which pannier survey tells of")
    print_json(facts) if json else _print(facts)
    return 0


def _fed(feed: pannier.Feed, epochs: int, hasher: Any) -> dict[str, Any]:
    """Feeds so many epochs, and tells what came, how fast, and what memory it took."""
    from pannier.memory import Sampler, release_free_memory, working_bytes

    feed.load()  # before the level is taken
    release_free_memory()
    level, first = working_bytes(), dict[str, Any]()
    sampler = Sampler(0)
    try:
        with live_bar("feed") as bar:
            for epoch in feed.epochs(epochs):
                for batch in epoch:
                    if not first:
                        first = _described(batch)
                        for engine, its_level in feed.engines.items():
                            sampler.add(engine, its_level)
                    if hasher:
                        _add(hasher, batch)
                    _show(bar, feed, epochs)
    finally:
        sampler.close()
    facts = feed.to_dict() | {"batch": first, "peak_bytes": max(0, sampler.peak_bytes - level)}
    return facts | ({"digest": hasher.hexdigest()} if hasher else {})


def _describe(feed: pannier.Feed, expect: str | None, json: bool) -> int:
    """The first batch in words, and whether it is as expected: 1 where it is not."""
    from pannier.feeding.describing import describe

    batch = next(iter(feed), None)
    if batch is None:
        raise SourceError("there is no batch to describe: no record is left to feed")
    description = describe(feed, batch)
    problems = description.unmet(expect) if expect is not None else []
    if json:
        print_json(description.to_dict() | {"unmet": problems})
    else:
        _print_description(feed, description, len(batch))
        if expect is not None:
            print("\n" + ("\n".join(f"not as expected: {problem}" for problem in problems) or "as expected"))
    return 1 if problems else 0


def _print_description(feed: pannier.Feed, found: Description, count: int) -> None:
    classes = len(feed.snapshot.classes)
    shown = [f"{label or 'no label'} {n}" for label, n in found.labels[:8]]
    more = f" and {len(found.labels) - 8} more" if len(found.labels) > 8 else ""
    labelled = sum(label is not None for label, _ in found.labels)
    told = f"{labelled} of {plural(classes, 'class', 'classes')}: {', '.join(shown)}{more}"
    print_facts(
        ("batch", f"{'x'.join(map(str, found.shape))} {found.dtype}, {found.layout}, the first of {len(feed):,}"),
        ("range", f"{found.lowest:.4g} to {found.highest:.4g}"),
        ("mean", "  ".join(f"{mean:.4f}" for mean in found.mean)),
        ("std", "  ".join(f"{deviation:.4f}" for deviation in found.std)),
        ("labels", f"{found.label_dtype}; {told}"),
        ("memory", f"{show_bytes(found.batch_bytes)} a batch, {show_bytes(found.epoch_bytes)} an epoch"),
        *[("note", note) for note in feed.notes],
        *[("warning", warning) for warning in found.warnings],
    )


def _opened(
    store: str | None, docket: str | None, store_hint: str | None, treatment: opt.TreatmentOptions, options: dict[str, Any]
) -> pannier.Feed:
    """The feed of a store, or of a docket."""
    from pannier.api.reproducing import from_docket

    given = {name: value for name, value in options.items() if value is not None}
    if docket is not None:
        if store is not None:
            raise UsageError("a docket names its store; say where that is here with --store")
        if treatment.are_said and not (treatment.file or "size" in treatment.fields):
            raise UsageError(f"a docket says how pictures are treated: leave --{min(treatment.fields)} out")
        if treatment.are_said:
            given["treatment"] = treatment.as_said()
        return from_docket(docket, store=store_hint, **{"processes": 0, **given})
    if store is None:
        raise UsageError("name a store, or a docket with --docket FILE")
    snapshot = _snapshot(store)
    made = treatment.treatment(snapshot, workers=options.get("workers"), memory_limit=options["memory_limit"])
    return snapshot.feed(opt.fed_split(snapshot, given.pop("split", None)), made, **{"processes": 0, **given})


def _snapshot(named: str) -> pannier.Snapshot:
    """A store's snapshot; a folder, archive or table as it is, where that is what is named."""
    try:
        return pannier.open(named)
    except NotFoundError:
        if not Path(named).exists():
            raise
    with progress_bar("reading") as progress:
        return pannier.unpacked(named, progress=progress)


def _add(hasher: Any, batch: Any) -> None:
    """A batch's keys, labels and pictures."""
    hasher.update(repr((batch.keys, batch.names)).encode())
    for picture in batch.images:
        hasher.update(picture if isinstance(picture, bytes) else memoryview(picture).cast("B"))


def _described(batch: Any) -> dict[str, Any]:
    images, labels = batch.images, batch.labels
    about = f"{len(labels)} names" if isinstance(labels, list) else f"{labels.dtype} {tuple(labels.shape)}"
    if isinstance(images, list):  # without a treatment pictures come as they are stored
        return {"labels": about}
    ends = {"lowest": float(images.min()), "highest": float(images.max())}
    return {"shape": list(images.shape), "dtype": str(images.dtype), **ends, "labels": about}


def _print(facts: dict[str, Any]) -> None:
    from pannier.feeding.metering import STAGES

    plan, batch = facts["plan"], facts["batch"]
    limit = "unlimited" if plan["limit_bytes"] is None else f"of {show_bytes(plan['limit_bytes'])}"
    threads = plural(plan["workers"], "worker")
    threads += f" and {plural(plan['heavy_lanes'], 'heavy lane')}" if plan["heavy_lanes"] else ""
    if facts["processes"]:
        count = facts["processes"]
        threads += " in a process of its own" if count == 1 else f" in {count} processes of their own"
    order = "shuffled" if facts["shuffled"] else "in order of keys"
    order += ", augmented" if facts["augmented"] else ""
    shape = "x".join(map(str, batch.get("shape", []))) or "of files as they are stored"
    ranged = f" {batch['dtype']}, {batch['lowest']:.4g} to {batch['highest']:.4g}" if "shape" in batch else ""
    stages = facts["stages"]
    split, rate, waited = facts["split"] or "all records", facts["pictures_per_second"], facts["waiting_share"]
    print_facts(
        ("fed", f"{split}: {facts['pictures']:,} pictures in {facts['seconds']:.2f} s, {order}"),
        ("rate", f"{rate:,.0f} pictures/s; waited for {waited:.0%} of the time"),
        ("batches", f"{facts['batches_per_epoch']:,} an epoch, the first {shape}{ranged}"),
        ("plan", f"{threads}, {plan['ahead']} ahead, {show_bytes(plan['total_bytes'])} {limit}"),
        *([("work", ", ".join(f"{STAGES[name]} {share:.0%}" for name, share in stages.items()))] if stages else []),
        ("memory", f"{show_bytes(facts['peak_bytes'])} at most, measured{_beside(facts)}"),
        *[("note", note) for note in facts["notes"]],
        *([("digest", facts["digest"][:32])] if "digest" in facts else []),
    )


def _beside(facts: dict[str, Any]) -> str:
    """The libraries that were loaded, which no limit bounds."""
    loaded = facts["library_bytes"]
    return f"; libraries {show_bytes(loaded)}" if loaded else ""


def _show(bar: Bar, feed: pannier.Feed, epochs: int) -> None:
    """The live meter: pictures, rate, waiting."""
    meter = feed.meter
    note = f"{meter.pictures_per_second:,.0f} pictures/s, waiting {meter.waiting_share:.0%}"
    bar.show(meter.pictures, feed.pictures_per_epoch * epochs, lambda: note)
