"""TIFF files to the byte (TIFF 6.0), so that decoders meet what no library writes."""

from __future__ import annotations

import struct

import numpy as np

BITS, PHOTOMETRIC, ORIENTATION, SAMPLES, PLANES, EXTRA, SAMPLE_FORMAT = 258, 262, 274, 277, 284, 338, 339


def tiff(samples: np.ndarray, photometric: int, *, order: str = "<", planes: bool = False, **tags: int) -> bytes:
    """Uncompressed: samples (h, w) or (h, w, n) of uint8 or uint16; `tags` by TIFF number, as t338=2."""
    samples = samples[..., None] if samples.ndim == 2 else samples
    height, width, count = samples.shape
    kind = samples.dtype.newbyteorder(order)
    parts = [samples[..., i] for i in range(count)] if planes else [samples]
    strips = [np.ascontiguousarray(part).astype(kind).tobytes() for part in parts]
    fields: dict[int, list[int]] = {
        256: [width],
        257: [height],
        BITS: [8 * samples.itemsize] * count,
        259: [1],
        PHOTOMETRIC: [photometric],
        SAMPLES: [count],
        278: [height],
        PLANES: [2 if planes else 1],
        **{int(name[1:]): [value] for name, value in tags.items()},
    }
    fields[273], fields[279] = [0] * len(strips), [len(strip) for strip in strips]
    head = 8 + 2 + 12 * len(fields) + 4
    beyond = sum(4 * len(values) for values in fields.values() if len(values) > 1)
    at = head + beyond
    for i, strip in enumerate(strips):
        fields[273][i] = at
        at += len(strip)
    entries, values_at, more = b"", head, b""
    for tag in sorted(fields):
        values = fields[tag]
        entries += struct.pack(order + "HHI", tag, 4, len(values))
        if len(values) == 1:
            entries += struct.pack(order + "I", values[0])
        else:
            entries += struct.pack(order + "I", values_at + len(more))
            more += struct.pack(order + f"{len(values)}I", *values)
    magic = b"II*\0" if order == "<" else b"MM\0*"
    return magic + struct.pack(order + "IH", 8, len(fields)) + entries + bytes(4) + more + b"".join(strips)
