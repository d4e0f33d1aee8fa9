"""Functions that a user meets, on what a user holds."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any

from pannier.api.objects import Feed, Snapshot, Store
from pannier.feed import rendering
from pannier.feed.reproducing import read_feed
from pannier.images.treatment import Treatment
from pannier.measuring import sweep
from pannier.store.state import OpenedStore
from pannier.upkeep import verify as verifying
from pannier.upkeep.findings import Finding
from pannier.versions import comparing
from pannier.versions.comparing import Comparison
from pannier.versions.docket import Docket

Progress = Callable[[int, int], None]


def compare(before: str | Path | Snapshot, after: str | Path | Snapshot, *, store: str | Path | None = None) -> Comparison:
    """What became of `before` in `after`: each a snapshot, STORE@NAME, a docket's path, or a folder or other source.

    store: where a docket's store is here. Of a folder its files are hashed, and its labels compared where folders give them.
    Between snapshots time is the size of the difference. Raises NotFoundError, UsageError.
    """
    sides = [side.state if isinstance(side, Snapshot) else side for side in (before, after)]
    return comparing.compare(*sides, store=store)


def measure(snapshot: Snapshot, treatment: Treatment, split: str | None = "train", **options: Any) -> sweep.Measurement:
    """Measures feeds of every number of workers under every limit, each in a fresh process whose limit the system enforces.

    See `pannier.measuring.sweep.measure` for the options.
    """
    return sweep.measure(snapshot.state, treatment, split, **options)


def render(
    snapshot: Snapshot,
    treatment: Treatment,
    *,
    split: str | None = None,
    cap: str | int | None = rendering.DEFAULT_CAP,
    progress: Progress | None = None,
    **options: Any,
) -> rendering.RenderPlan:
    """Renders what is not there yet, and gives what was planned; see `pannier.feed.rendering.render` for the options."""
    return rendering.render(snapshot.state, treatment, split=split, cap=cap, progress=progress, **options)


def verify(
    store: str | Path | Store,
    *,
    quick: bool = False,
    subset: str | float | None = None,
    seed: int = 0,
    repair: bool = False,
    repair_from: str | Path | Store | None = None,
    progress: Progress | None = None,
) -> Sequence[Finding]:
    """All findings of a store, damage first; an empty list, or information alone, means that every byte is as written.

    quick: structure alone, no picture is read. subset: a part of the pictures is read, as "5%" or 0.05, fixed by the seed.
    repair: makes again what is derived. repair_from: brings back from a copy of the store what that has. Then it is looked
    again, and what is still wrong is given. progress: called with (bytes done, bytes in all). Raises ConflictError while
    the store is tidied.
    """
    opened, copy = (
        each.opened if isinstance(each, Store) else None if each is None else str(each) for each in (store, repair_from)
    )
    assert opened is not None
    options: dict[str, Any] = {"quick": quick, "subset": subset, "seed": seed, "repair": repair, "repair_from": copy}
    return verifying.verify(opened, progress=progress, **options)


def from_docket(docket: str | Path | Docket, *, store: str | Path | None = None, **options: Any) -> Feed:
    """The feed that a docket describes.

    docket: a file's path, or a `Docket`. store: where the store is here, else where the docket says. options: as
    `snapshot.feed` takes them, for what the docket leaves open: workers, memory_limit and the like.
    Raises NotFoundError, UsageError where content, class numbers, treatment or decoder differ, or an option contradicts.
    """
    state, split, treatment, said = read_feed(docket, store=store, **options)
    return Feed(Snapshot(state, Store(OpenedStore(state.storage, state.index))), split, treatment, **said)
