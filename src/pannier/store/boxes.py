"""Crop boxes of records, and the identities of canvases, which hang on them."""

from __future__ import annotations

import hashlib

import numpy as np

from pannier.columns import Digests, Rows
from pannier.errors import NotFoundError, UsageError, did_you_mean
from pannier.images.placement import Box
from pannier.images.treatment import Treatment
from pannier.store.manifest import Manifest


def boxes_of(manifest: Manifest, rows: Rows, treatment: Treatment) -> list[Box | None]:
    """The crop box of each record, from the side columns that the treatment names; None where one of them is NULL."""
    assert treatment.box is not None
    columns = [manifest.take(rows, [name]).column(0).to_pylist() for name in treatment.box]
    return [None if None in box else box for box in zip(*columns, strict=True)]


def check_boxes(manifest: Manifest, treatment: Treatment) -> None:
    """Raises NotFoundError, UsageError where the columns that hold crop boxes are not there, or hold no numbers."""
    for name in treatment.box or ():
        kind = manifest.side_type(name)
        if kind is None:
            columns = manifest.side_columns
            raise NotFoundError(f"box: there is no side column {name!r}{did_you_mean(name, columns) or '; there are none'}")
        if str(kind) not in ("double", "float", "int8", "int16", "int32", "int64", "uint8", "uint16", "uint32", "uint64"):
            raise UsageError(f"box: the side column {name!r} holds {kind}, not numbers")


def identities_of(manifest: Manifest, rows: Rows, treatment: Treatment) -> Digests:
    """The identities of some rows' canvases, (n, 32)."""
    boxes = boxes_of(manifest, rows, treatment) if treatment.box is not None else []
    return canvas_identities(manifest.gather(rows, "sha256"), boxes)


def canvas_identities(sha256: Digests, boxes: list[Box | None]) -> Digests:
    """The identity of each canvas, (n, 32): the picture's SHA-256, or with a box that of both (four float64, big-endian)."""
    if not any(box is not None for box in boxes):
        return np.ascontiguousarray(sha256)
    identities = np.array(sha256, np.uint8)
    for i, box in enumerate(boxes):
        if box is not None:
            identities[i] = np.frombuffer(canvas_identity(sha256[i].tobytes(), box), np.uint8)
    return identities


def canvas_identity(sha256: bytes, box: Box | None) -> bytes:
    """The same of one."""
    return sha256 if box is None else hashlib.sha256(sha256 + np.array(box, ">f8").tobytes()).digest()
