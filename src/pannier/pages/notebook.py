"""How records, batches, treatments and snapshots show themselves in a notebook: small tables and pictures, plain HTML."""

from __future__ import annotations

from html import escape
from typing import Any

import numpy as np

from pannier.errors import PictureError
from pannier.feeding.batch import Batch
from pannier.feeding.feed import Feed
from pannier.images.explaining import explained
from pannier.images.treatment import Treatment
from pannier.pages.writing import embedded, webp
from pannier.results import facts_table, grid, titled
from pannier.store.records import Record
from pannier.store.state import OpenedStore, State

SIDE = 96
MOST_PICTURES = 16


def of_record(record: Record) -> str:
    """Its picture, small, and what is known of it."""
    facts = [
        ("key", record.key),
        ("label", record.label or "no label"),
        ("split", record.split or "no split"),
        ("size", f"{record.size[0]} x {record.size[1]}, {record.format}, {record.mode}, {record.byte_count:,} bytes"),
        *[(name, "" if value is None else str(value)) for name, value in record.side.items()],
    ]
    try:
        return _beside(_image(_small(record.bytes()), ""), facts_table(_escaped(facts)))
    except PictureError as error:
        return facts_table(_escaped([*facts, ("picture", f"cannot be shown: {error}")]))


def of_batch(batch: Batch) -> str:
    """The first pictures with their labels, as far as their values can be undone, and shapes."""
    images = batch.images
    about = f"batch {batch.number} of epoch {batch.epoch}: {len(batch)} pictures"
    if isinstance(images, list):
        shown = [_small(data) for data in images[:MOST_PICTURES]]
    else:
        ends = f"{float(images.min()):.4g} to {float(images.max()):.4g}"
        about += f", {'x'.join(map(str, images.shape))} {images.dtype}, {ends}"
        shown = [_small(batch.picture(i)) for i in range(min(len(batch), MOST_PICTURES))]
    pictures = "".join(_image(each, name or "no label") for each, name in zip(shown, batch.names, strict=False))
    more = f" and {len(batch) - len(shown)} more" if len(batch) > len(shown) else ""
    return f"<div><div>{escape(about)}</div><div>{pictures}</div><div style='opacity:.7'>{more}</div></div>"


def of_feed(feed: Feed) -> str:
    """What it feeds, how, and how it does."""
    meter = feed.meter
    facts = [
        ("split", feed.split or "all"),
        ("records", f"{feed.records:,} in {len(feed):,} batches of {feed.batch_size}"),
        ("order", "shuffled" if feed.shuffle else "by key"),
        ("made by", f"{feed.plan.workers} workers, {feed.processes} processes, {feed.plan.ahead} batches ahead"),
        ("so far", meter.in_words if meter.batches else ""),
        ("notes", "; ".join(feed.notes)),
    ]
    return titled("Feed", facts_table(_escaped(facts)))


def of_store(store: OpenedStore) -> str:
    """Its strands and tags, and what they name."""
    rows = [
        [kind, name, head.snapshot[:12]]
        for kind, names in (("strand", store.strands), ("tag", store.tags))
        for name, head in names.heads()
    ]
    table = grid(["", "name", "snapshot"], rows) if rows else "<div>empty</div>"
    return titled(f"store {store.storage.address}: {len(store.snapshot_ids()):,} snapshots", table)


def _escaped(facts: list[tuple[str, str]]) -> list[tuple[str, str]]:
    return [(name, escape(value)) for name, value in facts]


def of_treatment(treatment: Treatment) -> str:
    """Its steps in words."""
    return f"<pre>{escape(explained(treatment))}</pre>"


def of_snapshot(snapshot: State) -> str:
    """Classes by splits, and a few pictures."""
    splits: list[str | None] = [*snapshot.splits]
    if any(split is None for _, split in snapshot.counts):
        splits.append(None)
    rows = [[label, *(f"{snapshot.counts.get((label, split), 0):,}" for split in splits)] for label in snapshot.classes[:30]]
    header = ["class", *(split or "no split" for split in splits)]
    table = grid(header, rows)
    more = f"<div>and {len(snapshot.classes) - 30:,} classes more</div>" if len(snapshot.classes) > 30 else ""
    title = f"snapshot {snapshot.id[:12]}: {len(snapshot):,} records"
    pictures = ""
    for at in np.linspace(0, len(snapshot) - 1, min(8, len(snapshot))).astype(int).tolist():
        record = snapshot.record(int(snapshot.in_key_order[at]))
        try:
            pictures += _image(_small(record.bytes()), record.label or "no label")
        except PictureError:
            continue
    return f"<div><div><b>{escape(title)}</b></div>{_beside(table + more, f'<div>{pictures}</div>')}</div>"


def _small(picture: Any) -> Any:
    from pannier.images.prepare import Preparation
    from pannier.images.treatment import Treatment

    pixels = picture[:, :, 0] if isinstance(picture, np.ndarray) and picture.shape[2] == 1 else picture
    small = Preparation(Treatment(SIDE, fit="contain", values="raw", dtype="uint8", layout="hwc"))
    return small.one(np.ascontiguousarray(pixels) if isinstance(pixels, np.ndarray) else pixels)


def _image(pixels: Any, label: str) -> str:
    style = "display:inline-block;margin:2px;text-align:center;font-size:11px"
    below = f"<div>{escape(label)}</div>" if label else ""
    address = embedded(webp(pixels), "webp")
    return f"<div style='{style}'><img width={SIDE} alt='{escape(label, quote=True)}' src='{address}'>{below}</div>"


def _beside(left: str, right: str) -> str:
    return f"<div style='display:flex;gap:12px;align-items:flex-start'><div>{left}</div><div>{right}</div></div>"
