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
    from pannier.feed.reproducing import from_docket
    from pannier.images.treatment import Treatment
    from pannier.measuring.sweep import Measurement, measure
    from pannier.sources.findings import Findings
    from pannier.sources.gathering.gather import Gathered, gather
    from pannier.sources.survey import survey
    from pannier.store.changing import ChangeResult
    from pannier.store.comparing import Comparison, compare
    from pannier.store.docket import Docket
    from pannier.store.exporting import restore
    from pannier.store.findings import Finding
    from pannier.store.packing import PackResult
    from pannier.store.snapshot import Record, Snapshot
    from pannier.store.store import Store, create, open, open_store
    from pannier.store.verify import verify

__version__ = "0.1.0"

# where each public name lives; modules are imported when a name is first used, so that `import pannier` stays light
_HOMES = {
    "Batch": "pannier.feed.feed",
    "ChangeResult": "pannier.store.changing",
    "Comparison": "pannier.store.comparing",
    "ConflictError": "pannier.errors",
    "DamageError": "pannier.errors",
    "Docket": "pannier.store.docket",
    "Feed": "pannier.feed.feed",
    "Finding": "pannier.store.findings",
    "Findings": "pannier.sources.findings",
    "Gathered": "pannier.sources.gathering.gather",
    "LimitError": "pannier.errors",
    "Measurement": "pannier.measuring.sweep",
    "NotFoundError": "pannier.errors",
    "PackResult": "pannier.store.packing",
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
    "compare": "pannier.store.comparing",
    "create": "pannier.store.store",
    "from_docket": "pannier.feed.reproducing",
    "gather": "pannier.sources.gathering.gather",
    "measure": "pannier.measuring.sweep",
    "open": "pannier.store.store",
    "open_store": "pannier.store.store",
    "restore": "pannier.store.exporting",
    "survey": "pannier.sources.survey",
    "verify": "pannier.store.verify",
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
