"""TIFF files to the byte (TIFF 6.0), so that decoders meet what no library writes."""

from __future__ import annotations

import struct

import numpy as np

from tests.bare_files import packed_rows

BITS, PHOTOMETRIC, ORIENTATION, SAMPLES, PLANES, EXTRA, SAMPLE_FORMAT = 258, 262, 274, 277, 284, 338, 339
OFFSETS, LENGTHS = 273, 279

Values = int | tuple[int, ...] | None


def tiff(
    samples: np.ndarray, photometric: int, *, order: str = "<", planes: bool = False, bits: int | None = None, **tags: Values
) -> bytes:
    """Uncompressed: samples (h, w) or (h, w, n) of uint8, uint16 or uint32, or (h, w) of so many `bits` each.

    `tags` by TIFF number, as t338=2; those that are None are left out.
    """
    samples = samples[..., None] if samples.ndim == 2 else samples
    height, width, count = samples.shape
    parts = [samples[..., i] for i in range(count)] if planes else [samples]
    if bits is None:
        kind = samples.dtype.newbyteorder(order)
        strips = [np.ascontiguousarray(part).astype(kind).tobytes() for part in parts]
    else:
        strips = [b"".join(packed_rows(samples[..., 0], bits))]
    fields: dict[int, Values] = {
        256: width,
        257: height,
        BITS: (bits or 8 * samples.itemsize,) * count,
        259: 1,
        PHOTOMETRIC: photometric,
        SAMPLES: count,
        278: height,
        PLANES: 2 if planes else 1,
        OFFSETS: (0,) * len(strips),
        LENGTHS: tuple(map(len, strips)),
    }
    said = {int(name[1:]): value for name, value in tags.items()}
    several = {tag: _several(value) for tag, value in (fields | said).items() if value is not None}
    head = 8 + 2 + 12 * len(several) + 4
    at = head + sum(4 * len(values) for values in several.values() if len(values) > 1)
    if OFFSETS not in said:
        several[OFFSETS] = tuple(at + sum(map(len, strips[:i])) for i in range(len(strips)))
    entries, more = b"", b""
    for tag in sorted(several):
        values = several[tag]
        entries += struct.pack(order + "HHI", tag, 4, len(values))
        if len(values) == 1:
            entries += struct.pack(order + "I", values[0])
        else:
            entries += struct.pack(order + "I", head + len(more))
            more += struct.pack(order + f"{len(values)}I", *values)
    magic = b"II*\0" if order == "<" else b"MM\0*"
    return magic + struct.pack(order + "IH", 8, len(several)) + entries + bytes(4) + more + b"".join(strips)


def _several(value: Values) -> tuple[int, ...]:
    return (value,) if isinstance(value, int) else value or ()
