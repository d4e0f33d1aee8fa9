"""The feed that a docket describes, as a user calls for it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any, Literal

from pannier.api.feeding import Feed
from pannier.api.objects import Snapshot, Store
from pannier.api.treatments import Treatment, as_treatment
from pannier.choices import LabelAs, Last
from pannier.feeding.job import job_of
from pannier.feeding.reproducing import read_feed
from pannier.spelling import spelled
from pannier.versions.docket import Docket


@dataclass(frozen=True, kw_only=True)
class _Reproducing:
    docket: str | Path | Docket = field(kw_only=False)
    store: str | Path | None = None
    split: str | None = None
    treatment: Treatment | str | Path | None = None
    batch_size: int | None = None
    seed: int | None = None
    subset: str | float | None = None
    where: str | None = None
    shuffle: bool | None = None
    augment: bool | None = None
    rendered: bool | None = None
    last: Last | None = None
    steps: int | None = None
    part: int | None = None
    parts: int | None = None
    position: Mapping[str, Any] | None = None
    window: int | None = None
    variations: int | None = None
    plain: bool | None = None
    balance: str | None = None
    weights: str | None = None
    columns: str | Sequence[str] = ()
    label_as: LabelAs | None = None
    workers: int | None = None
    processes: int | Literal["auto"] = "auto"
    ahead: int | None = None
    memory_limit: str | int | None = "auto"


@spelled(_Reproducing)
def from_docket(said: _Reproducing) -> Feed:
    """The feed that a docket describes.

    docket: a file's path, or a `Docket`. store: where the store is here, else where the docket says. The others as of
    `Snapshot.feed`, for what the docket leaves open: workers, memory_limit and the like.
    Raises NotFoundError, UsageError where content, class numbers, treatment or decoder differ, or an option contradicts.
    """
    options = vars(said) | {"treatment": as_treatment(said.treatment)}
    docket, store = options.pop("docket"), options.pop("store")
    state, split, treatment, how = read_feed(docket, store=store, **options)
    snapshot = Snapshot.of(state, Store(state.storage, state.index))
    return Feed(job_of(snapshot, split, as_treatment(treatment), **how), snapshot)
