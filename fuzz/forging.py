"""Forged stores: one file otherwise, and every name, checksum and seal above it made to fit, as by a patient stranger."""

from __future__ import annotations

import json
import random
import zlib
from collections.abc import Callable
from pathlib import Path
from typing import Any

from fuzz.mutating import arrow_metadata, changed_bytes, changed_node, json_text
from pannier.store.documents import canonical, digest, sealed

_NAMES = (
    "a",
    "x" * 200,
    "0" * 64,
    "f" * 63,
    "-",
    "\udcff",
    "\n",
    " ",
    "00000001",
    "99999999999999999999",
    "main",
    "\u202e",
    "..a",
)

Change = Callable[[bytes], bytes]


def forge(store: Path, rng: random.Random) -> str:
    """Changes one file of a store and makes the rest fit; which one."""
    files = sorted(path.relative_to(store).as_posix() for path in store.rglob("*") if path.is_file())
    folders = sorted({name.partition("/")[0] for name in files})
    folder = rng.choice(folders)
    name = rng.choice([name for name in files if name.partition("/")[0] == folder])
    path = store / name
    path.chmod(0o644)
    if rng.random() < 0.1:  # a name that none of ours has, in place of another or beside it
        odd = path.with_name(rng.choice(_NAMES) + rng.choice(("", path.suffix, ".json", ".arrow")))
        odd.write_bytes(path.read_bytes()) if rng.random() < 0.5 or odd.exists() else path.rename(odd)
    elif name.endswith(".json"):
        _forge_document(store, path, rng)
    elif name.endswith(".arrow"):
        _forge_arrow(store, path, rng)
    else:
        path.write_bytes(changed_bytes(path.read_bytes(), rng))
    return name


def _forge_document(store: Path, path: Path, rng: random.Random) -> None:
    if rng.random() < 0.1:
        path.write_bytes(changed_bytes(path.read_bytes(), rng))
        return
    document = json.loads(path.read_bytes())
    is_sealed = document.pop("sha256", None) is not None
    forged = changed_node(document, rng)
    if path.parent.name == "snapshots":
        _renamed(store, path, _as_bytes(forged, canonical))
    else:
        path.write_bytes(_as_bytes(forged, sealed if is_sealed else canonical))


def _as_bytes(document: Any, write: Callable[[Any], bytes]) -> bytes:
    try:
        return write(document)
    except (ValueError, TypeError, RecursionError):
        return json_text(document)


def _forge_arrow(store: Path, path: Path, rng: random.Random) -> None:
    data = path.read_bytes()
    places = arrow_metadata(data)
    forged = changed_bytes(data, rng, places if rng.random() < 0.8 else None)
    kind = path.relative_to(store).parts[0]
    if kind == "manifests":
        name = digest(forged)
        path.rename(path.with_name(f"{name}.arrow")).write_bytes(forged)
        file = {"name": name, "crc32": zlib.crc32(forged), "byte_count": len(forged)}
        _in_snapshots(store, {path.stem: file})
    elif kind == "left-out":
        path.rename(path.with_name(f"{digest(forged)}.arrow")).write_bytes(forged)
        _in_snapshots(store, {path.stem: digest(forged)})
    elif kind == "miniatures":
        path.rename(path.with_name(f"{digest(forged)[:32]}.arrow")).write_bytes(forged)
    elif kind == "seen":
        time = path.stem.partition("-")[0]
        path.rename(path.with_name(f"{time}-{digest(forged)[:32]}.arrow")).write_bytes(forged)
    else:
        path.write_bytes(forged)


def _in_snapshots(store: Path, names: dict[str, Any]) -> None:
    """Lets the documents of snapshots name other files."""
    for path in list((store / "snapshots").iterdir()):
        if not path.exists():
            continue  # it has another id by now
        document = json.loads(path.read_bytes())
        for part in ("base", "delta"):
            if document[part] and document[part]["name"] in names:
                document[part] |= names[document[part]["name"]]
        if document["left_out"] in names:
            document["left_out"] = names[document["left_out"]]
        content = canonical(document)
        if digest(content) != path.stem:
            _renamed(store, path, content)


def _renamed(store: Path, path: Path, content: bytes) -> None:
    """A snapshot under the id of its new document, which its children and the names follow."""
    before, after = path.stem, digest(content)
    path.chmod(0o644)
    path.rename(path.with_name(f"{after}.json")).write_bytes(content)
    for entry in [*store.glob("strands/*/*.json"), *store.glob("tags/*/*.json")]:
        document = json.loads(entry.read_bytes())
        document.pop("sha256")
        if document["snapshot"] == before:
            entry.chmod(0o644)
            entry.write_bytes(sealed(document | {"snapshot": after}))
    for child in list((store / "snapshots").iterdir()):
        try:
            document = json.loads(child.read_bytes())
            parents = document["parents"]
        except (OSError, ValueError, TypeError, KeyError, RecursionError):
            continue
        if isinstance(parents, list) and before in parents:
            document["parents"] = [after if each == before else each for each in parents]
            _renamed(store, child, canonical(document))


def with_equal_crc(before: bytes, after: bytes, at: int) -> bytes:
    """`after` with four bytes at `at` such that its CRC-32 is that of `before`: it is linear in them (ISO/IEC 13239)."""
    made = bytearray(after)
    made[at : at + 4] = bytes(4)
    plain = zlib.crc32(made)
    rows = []
    for bit in range(32):
        made[at : at + 4] = (1 << bit).to_bytes(4, "little")
        rows.append((zlib.crc32(made) ^ plain, 1 << bit))
    wanted, value = zlib.crc32(before) ^ plain, 0
    for bit in reversed(range(32)):  # Gauss: a row with each highest bit in turn
        pivot = next(row for row in rows if row[0] >> bit & 1)
        rows.remove(pivot)
        rows = [(row[0] ^ pivot[0], row[1] ^ pivot[1]) if row[0] >> bit & 1 else row for row in rows]
        if wanted >> bit & 1:
            wanted, value = wanted ^ pivot[0], value ^ pivot[1]
    made[at : at + 4] = value.to_bytes(4, "little")
    return bytes(made)
