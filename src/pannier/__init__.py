"""Pannier: labelled pictures to training batches: pack, version, feed and measure, under a memory limit that holds."""

from __future__ import annotations

import importlib
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from pannier.errors import (
        ConflictError,
        DamageError,
        LimitError,
        NotFoundError,
        PannierError,
        PictureError,
        SourceError,
        StoreError,
        TreatmentError,
        UsageError,
    )
    from pannier.feed.feed import Batch, Feed
    from pannier.feed.plan import Plan
    from pannier.feed.rendering import render
    from pannier.feed.reproducing import from_docket
    from pannier.images.own_steps import own_step
    from pannier.images.treatment import Treatment
    from pannier.measuring.sweep import Measurement, measure
    from pannier.sources.findings import Findings
    from pannier.sources.gathering.gather import Gathered, gather
    from pannier.sources.survey import survey
    from pannier.store.folders.exporting import restore
    from pannier.store.snapshot import Record, Snapshot
    from pannier.store.store import Store, create, open, open_store
    from pannier.store.upkeep.findings import Finding
    from pannier.store.upkeep.verify import verify
    from pannier.store.versions.comparing import Comparison, compare
    from pannier.store.versions.docket import Docket
    from pannier.store.writing.changing import ChangeResult
    from pannier.store.writing.packing import PackResult

__version__ = "0.1.0"

# where each public name lives; modules are imported when a name is first used, so that `import pannier` stays light
_HOMES = {
    "Batch": "pannier.feed.feed",
    "ChangeResult": "pannier.store.writing.changing",
    "Comparison": "pannier.store.versions.comparing",
    "ConflictError": "pannier.errors",
    "DamageError": "pannier.errors",
    "Docket": "pannier.store.versions.docket",
    "Feed": "pannier.feed.feed",
    "Finding": "pannier.store.upkeep.findings",
    "Findings": "pannier.sources.findings",
    "Gathered": "pannier.sources.gathering.gather",
    "LimitError": "pannier.errors",
    "Measurement": "pannier.measuring.sweep",
    "NotFoundError": "pannier.errors",
    "PackResult": "pannier.store.writing.packing",
    "PannierError": "pannier.errors",
    "PictureError": "pannier.errors",
    "Plan": "pannier.feed.plan",
    "Record": "pannier.store.snapshot",
    "Snapshot": "pannier.store.snapshot",
    "SourceError": "pannier.errors",
    "Store": "pannier.store.store",
    "StoreError": "pannier.errors",
    "Treatment": "pannier.images.treatment",
    "TreatmentError": "pannier.errors",
    "UsageError": "pannier.errors",
    "compare": "pannier.store.versions.comparing",
    "create": "pannier.store.store",
    "from_docket": "pannier.feed.reproducing",
    "gather": "pannier.sources.gathering.gather",
    "measure": "pannier.measuring.sweep",
    "own_step": "pannier.images.own_steps",
    "render": "pannier.feed.rendering",
    "open": "pannier.store.store",
    "open_store": "pannier.store.store",
    "restore": "pannier.store.folders.exporting",
    "survey": "pannier.sources.survey",
    "verify": "pannier.store.upkeep.verify",
}

__all__ = [
    "Batch",
    "ChangeResult",
    "Comparison",
    "ConflictError",
    "DamageError",
    "Docket",
    "Feed",
    "Finding",
    "Findings",
    "Gathered",
    "LimitError",
    "Measurement",
    "NotFoundError",
    "PackResult",
    "PannierError",
    "PictureError",
    "Plan",
    "Record",
    "Snapshot",
    "SourceError",
    "Store",
    "StoreError",
    "Treatment",
    "TreatmentError",
    "UsageError",
    "compare",
    "create",
    "from_docket",
    "gather",
    "measure",
    "open",
    "open_store",
    "own_step",
    "render",
    "restore",
    "survey",
    "verify",
]


def __getattr__(name: str) -> Any:
    home = _HOMES.get(name)
    if home is None:
        raise AttributeError(f"module 'pannier' has no attribute {name!r}")
    value = getattr(importlib.import_module(home), name)
    globals()[name] = value
    return value


def __dir__() -> list[str]:
    return [*__all__, "__version__"]
