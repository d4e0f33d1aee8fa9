"""Facts: keys and values that a person adds to a snapshot, and who adds them, and when."""

from __future__ import annotations

import datetime
import getpass
import math
import re
from collections.abc import Mapping, Sequence

from pannier.errors import UsageError

Fact = str | int | float | bool
FactsByKey = dict[str, Fact]

LONGEST_TEXT = 4096

_KEY = re.compile(r"[A-Za-z_][A-Za-z0-9_.-]*")


def read_facts(facts: Mapping[str, Fact] | str | Sequence[str] | None) -> FactsByKey:
    """Facts from a dict, from "seed=7", or several of those; what reads as a number or as true is one. Raises UsageError."""
    if not facts:
        return {}
    if not isinstance(facts, Mapping):
        pieces = [piece.partition("=") for piece in ([facts] if isinstance(facts, str) else facts)]
        if any(not equals for _, equals, _ in pieces):
            raise UsageError("`facts`: write a key and its value, as `facts` seed=7")
        facts = {key.strip(): plain_value(text.strip()) for key, _, text in pieces}
    for key, value in facts.items():
        if not _KEY.fullmatch(key):
            raise UsageError(f"`facts` {key}=...: a key has letters, digits, '_', '-' and '.', and begins with a letter")
        if not isinstance(value, (str, int, float, bool)) or (isinstance(value, float) and not math.isfinite(value)):
            raise UsageError(f"`facts` {key}={value!r}: must be text, a number or true or false")
        if isinstance(value, str) and len(value) > LONGEST_TEXT:
            raise UsageError(f"`facts` {key}: {len(value):,} letters; attach a text of more than {LONGEST_TEXT:,} as a file")
    return dict(facts)


def plain_value(text: str) -> Fact:
    """A typed value: a whole number (not 007), a fraction, true or false where it reads as one, else text."""
    for kind in (int, float):
        try:
            value = kind(text)
        except ValueError:
            continue
        if math.isfinite(value) and (str(value) == text if kind is int else not text.lstrip("+-").isdigit()):
            return value
    return {"true": True, "false": False}.get(text.lower(), text)


def now() -> str:
    return datetime.datetime.now(datetime.UTC).isoformat(timespec="seconds").replace("+00:00", "Z")


def author() -> str:
    try:
        return getpass.getuser()
    except (OSError, KeyError):
        return "unknown"
