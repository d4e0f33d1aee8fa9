"""What makes hostile input of good input: bytes changed anywhere, or where it hurts: numbers, lengths, nodes."""

from __future__ import annotations

import json
import random
from typing import Any

_NUMBERS = (
    0,
    1,
    2,
    127,
    128,
    255,
    256,
    0x7FFF,
    0x8000,
    0xFFFF,
    0x7FFFFFFF,
    0x80000000,
    0xFFFFFFFF,
    (1 << 63) - 1,
    (1 << 64) - 1,
)
_NODES: tuple[Any, ...] = (
    *(None, True, False, 0, -1, 1.5, 1e308, 10**40, -(10**30), "", "a", "\0", "../../etc/passwd", "/", "\ud800", "x" * 5000),
    *(
        [],
        {},
        [[]],
        {"": None},
        [None],
        "0" * 64,
        "f" * 64,
        "\n",
        "💥",
        ["main"],
        {"a": {"b": {}}},
        float("nan"),
        float("inf"),
    ),
)


def changed_bytes(data: bytes, rng: random.Random, places: Any = None) -> bytes:
    """Some bytes otherwise, at `places` or anywhere; now and then a part cut out, doubled or filled."""
    made = bytearray(data)
    for _ in range(rng.choice((1, 1, 1, 2, 3, 8))):
        if not made:
            break
        at = rng.choice(places) % len(made) if places else rng.randrange(len(made))
        how = rng.randrange(8)
        if how == 0:
            made[at] ^= 1 << rng.randrange(8)
        elif how == 1:
            made[at] = rng.randrange(256)
        elif how in (2, 3, 4):
            width = rng.choice((1, 2, 4, 8))
            number = rng.choice(_NUMBERS) & ((1 << 8 * width) - 1)
            made[at : at + width] = number.to_bytes(width, rng.choice(("little", "big")))
        elif how == 5 and not places:
            del made[at : at + rng.choice((1, 4, 64, 4096))]
        elif how == 6 and not places:
            piece = made[at : at + rng.choice((1, 4, 64, 1024))]
            made[at:at] = piece * rng.choice((1, 2, 50))
        elif how == 7 and not places:
            del made[at:]
        else:
            made[at] = 255
    return bytes(made)


def changed_node(document: Any, rng: random.Random) -> Any:
    """A document in which one node is another, gone, or there twice."""
    document = json.loads(json.dumps(document))
    holders: list[tuple[Any, Any]] = []

    def collect(node: Any) -> None:
        for key in list(node) if isinstance(node, dict) else range(len(node)) if isinstance(node, list) else ():
            holders.append((node, key))
            collect(node[key])

    collect(document)
    for _ in range(rng.choice((1, 1, 2))):
        if not holders:
            return rng.choice(_NODES)
        holder, key = rng.choice(holders)
        how = rng.randrange(8)
        try:
            if how == 0:
                del holder[key]
            elif how == 1 and isinstance(holder, dict):
                holder[str(rng.choice(("", "extra", "../x", key)))] = rng.choice(_NODES)
            elif how == 2 and isinstance(holder, list):
                holder.extend([holder[key]] * rng.choice((1, 3, 200)))
            elif how == 3:
                deep: Any = rng.choice(_NODES)
                for _ in range(rng.choice((3, 60, 3000))):
                    deep = [deep] if rng.random() < 0.5 else {"a": deep}
                holder[key] = deep
            else:
                holder[key] = rng.choice(_NODES)
        except (KeyError, IndexError):
            continue
    return document


def arrow_metadata(data: bytes) -> list[int]:
    """Where in an Arrow file its footer and the heads of its messages are."""
    footer = int.from_bytes(data[-10:-6], "little")
    end = len(data) - 10 - footer
    places, at = list(range(end, len(data) - 6)), 8
    while at < end and data[at : at + 4] == b"\xff\xff\xff\xff":
        length = int.from_bytes(data[at + 4 : at + 8], "little", signed=True)
        if length <= 0:
            break
        places += range(at + 4, at + 8 + length)
        at = data.find(b"\xff\xff\xff\xff", at + 8 + length)
        while at >= 0 and at % 8:
            at = data.find(b"\xff\xff\xff\xff", at + 1)
        if at < 0:
            break
    return places


def json_text(document: Any) -> bytes:
    """As JSON, also where no writer of ours could."""
    try:
        return json.dumps(document).encode("utf-8", "surrogatepass")
    except RecursionError:
        return b'{"a":' * 5000 + b"1" + b"}" * 5000
