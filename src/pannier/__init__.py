"""Pannier: labelled pictures to training batches: pack, version, feed and measure, under a memory limit that holds."""

from __future__ import annotations

import importlib
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from pannier.api.objects import (
        Batch,
        ChangeResult,
        Feed,
        PackResult,
        Record,
        Snapshot,
        Store,
        create,
        from_docket,
        open,
        open_store,
    )
    from pannier.api.treatments import Treatment
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
    from pannier.feed.plan import Plan
    from pannier.feed.rendering import render
    from pannier.folders.exporting import restore
    from pannier.images.own_steps import own_step
    from pannier.measuring.sweep import Measurement, measure
    from pannier.sources.findings import Findings
    from pannier.sources.gathering.gather import Gathered, gather
    from pannier.sources.survey import survey
    from pannier.upkeep.findings import Finding
    from pannier.upkeep.verify import verify
    from pannier.versions.comparing import Comparison, compare
    from pannier.versions.docket import Docket

__version__ = "0.1.0"

# where each public name lives; modules are imported when a name is first used, so that `import pannier` stays light
_HOMES = {
    "Batch": "pannier.api.objects",
    "ChangeResult": "pannier.api.objects",
    "Comparison": "pannier.versions.comparing",
    "ConflictError": "pannier.errors",
    "DamageError": "pannier.errors",
    "Docket": "pannier.versions.docket",
    "Feed": "pannier.api.objects",
    "Finding": "pannier.upkeep.findings",
    "Findings": "pannier.sources.findings",
    "Gathered": "pannier.sources.gathering.gather",
    "LimitError": "pannier.errors",
    "Measurement": "pannier.measuring.sweep",
    "NotFoundError": "pannier.errors",
    "PackResult": "pannier.api.objects",
    "PannierError": "pannier.errors",
    "PictureError": "pannier.errors",
    "Plan": "pannier.feed.plan",
    "Record": "pannier.api.objects",
    "Snapshot": "pannier.api.objects",
    "SourceError": "pannier.errors",
    "Store": "pannier.api.objects",
    "StoreError": "pannier.errors",
    "Treatment": "pannier.api.treatments",
    "TreatmentError": "pannier.errors",
    "UsageError": "pannier.errors",
    "compare": "pannier.versions.comparing",
    "create": "pannier.api.objects",
    "from_docket": "pannier.api.objects",
    "gather": "pannier.sources.gathering.gather",
    "measure": "pannier.measuring.sweep",
    "own_step": "pannier.images.own_steps",
    "render": "pannier.feed.rendering",
    "open": "pannier.api.objects",
    "open_store": "pannier.api.objects",
    "restore": "pannier.folders.exporting",
    "survey": "pannier.sources.survey",
    "verify": "pannier.upkeep.verify",
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
