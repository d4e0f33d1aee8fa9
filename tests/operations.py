"""Every operation that writes into a store, on a made-up world: for proofs that kill, refuse and repeat them."""

from __future__ import annotations

import shutil
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pannier
from pannier.versions.naming import remove, rename
from tests.conftest import fill

SMALL_SHARDS = 30_000


def make_world(folder: Path) -> Path:
    """A store `s.store` with two seasons, a tag, a strand that was deleted, and what operations bring in."""
    folder.mkdir(parents=True, exist_ok=True)
    for number, name in enumerate(("first", "second", "third", "trial")):
        fill(folder / name, 6, first=30 * number)
    store = pannier.create(folder / "s.store")
    store.pack(folder / "first", shares="train=50,test=50", facts={"camera": "B"})
    store.tag("spring")
    store.start_strand("trial", "spring")
    store.pack(folder / "trial", strand="trial", shard_size=SMALL_SHARDS)
    for number in range(3):  # most of what these shards hold is dead once the strand is gone
        few = folder / f"few-{number}"
        for name in ("plain", "satin", "twill"):
            (few / name).mkdir(parents=True)
        shutil.copy(folder / "trial" / "twill" / f"{91 + number:04}.jpg", few / "twill")
        store.pack(few, allow_leaks=True)
    remove(store.strands, "trial")
    store.start_strand("second", "spring")
    store.change(where="label = 'plain'", set={"loom": 3}, strand="second")
    store.pack(folder / "second")
    other = pannier.create(folder / "other.store")
    other.pack(folder / "third", shares="train=50,test=50")
    other.snapshot().attach(facts={"from": "elsewhere"}, files={"log.txt": Path(__file__)})
    return folder


def _pack(world: Path, store: pannier.Store) -> None:
    store.pack(world / "third", shard_size=SMALL_SHARDS, workers=2)


def _copy(world: Path, store: pannier.Store) -> None:
    pannier.open_store(world / "other.store").copy("main", store, strand="theirs")


OPERATIONS: dict[str, Callable[[Path, pannier.Store], Any]] = {
    "pack": _pack,
    "change": lambda world, store: store.change(where="label = 'twill'", set="label=satin"),
    "change as of": lambda world, store: store.change(as_of="spring"),
    "start a strand": lambda world, store: store.start_strand("fresh", "spring"),
    "move a tag": lambda world, store: store.tag("spring", "main", overwrite=True),
    "rename": lambda world, store: rename(store.strands, "second", "third") if store.strands.head("second") else None,
    "remove": lambda world, store: remove(store.tags, "spring") if store.tags.head("spring") else None,
    "merge": lambda world, store: store.merge("second", prefer="theirs") if store.strands.head("second") else None,
    "attach": lambda world, store: store.snapshot().attach(facts={"run": 3}, files={"a.txt": Path(__file__)}),
    "copy": _copy,
    "tidy": lambda world, store: store.tidy(older_than=0, yes=True),
}


def operate(name: str, world: Path, store: Path | str) -> None:
    OPERATIONS[name](world, pannier.open_store(store))


def state(store: Path | str) -> dict[str, Any]:
    """What a user sees of a store: the content behind every name, facts and attached files; every picture is read."""
    opened = pannier.open_store(store)
    seen: dict[str, Any] = {}
    for names in (opened.strands, opened.tags):
        for name in names.all_names():
            snapshot = opened.snapshot(name)
            for record in snapshot:
                record.bytes()
            facts = tuple(snapshot.facts.items())
            seen[f"{names.kind}/{name}"] = (snapshot.content_id, facts, tuple(a.name for a in snapshot.attachments))
    return seen
