"""Pannier: labelled pictures to training batches: pack, version, feed and measure, under a memory limit that holds."""

from __future__ import annotations

import importlib
from typing import TYPE_CHECKING, Any

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

# where public names live; modules are imported when a name is first used, so that `import pannier` stays light
_HOMES = {
    "pannier.api.objects": "Batch ChangeResult Feed PackResult Record Snapshot Store create from_docket open open_store",
    "pannier.api.treatments": "Treatment",
    "pannier.feed.plan": "Plan",
    "pannier.feed.rendering": "render",
    "pannier.folders.exporting": "restore",
    "pannier.images.own_steps": "own_step",
    "pannier.measuring.sweep": "Measurement measure",
    "pannier.sources.findings": "Findings",
    "pannier.sources.gathering.gather": "Gathered gather",
    "pannier.sources.survey": "survey",
    "pannier.upkeep.findings": "Finding",
    "pannier.upkeep.verify": "verify",
    "pannier.versions.comparing": "Comparison compare",
    "pannier.versions.docket": "Docket",
}
_HOME_OF = {name: home for home, names in _HOMES.items() for name in names.split()}

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
    home = _HOME_OF.get(name)
    if home is None:
        raise AttributeError(f"module 'pannier' has no attribute {name!r}")
    value = getattr(importlib.import_module(home), name)
    globals()[name] = value
    return value


def __dir__() -> list[str]:
    return [*__all__, "__version__"]
