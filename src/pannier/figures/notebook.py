"""How records, batches, treatments and snapshots show themselves in a notebook: small tables and pictures, plain HTML."""

from __future__ import annotations

import base64
import io
from collections.abc import Sequence
from html import escape
from typing import Any

import numpy as np

from pannier.errors import PictureError
from pannier.feeding.batch import Batch
from pannier.figures.style import FAINT, GRID
from pannier.images.explaining import explained
from pannier.images.treatment import Treatment
from pannier.store.records import Record
from pannier.store.state import State

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
        return _beside(_image(_small(record.bytes()), ""), _table(facts))
    except PictureError as error:
        return _table([*facts, ("picture", f"cannot be shown: {error}")])


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
    return f"<div><div>{escape(about)}</div><div>{pictures}</div><div style='color:{FAINT}'>{more}</div></div>"


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
    table = _grid(header, rows)
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
    from PIL import Image

    sink = io.BytesIO()
    Image.fromarray(pixels).save(sink, "png")
    data = base64.b64encode(sink.getvalue()).decode()
    style = f"display:inline-block;margin:2px;text-align:center;font-size:11px;border:1px solid {GRID}"
    below = f"<div>{escape(label)}</div>" if label else ""
    image = f"<img width={SIDE} alt='{escape(label, quote=True)}' src='data:image/png;base64,{data}'>"
    return f"<div style='{style}'>{image}{below}</div>"


def _beside(left: str, right: str) -> str:
    return f"<div style='display:flex;gap:12px;align-items:flex-start'><div>{left}</div><div>{right}</div></div>"


def _table(facts: Sequence[tuple[str, str]]) -> str:
    left = "text-align:left"
    rows = "".join(
        f"<tr><td style='color:{FAINT};{left}'>{escape(name)}</td><td style='{left}'>{escape(value)}</td></tr>"
        for name, value in facts
    )
    return f"<table>{rows}</table>"


def _grid(header: Sequence[str], rows: Sequence[Sequence[str]]) -> str:
    first = "".join(f"<th>{escape(cell)}</th>" for cell in header)
    body = "".join("<tr>" + "".join(f"<td>{escape(cell)}</td>" for cell in row) + "</tr>" for row in rows)
    return f"<table><tr>{first}</tr>{body}</table>"
