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
    from pathlib import Path

    from pannier.api.feeding import Batch, Feed
    from pannier.api.objects import (
        ChangeResult,
        Copied,
        MergeResult,
        PackResult,
        Record,
        Snapshot,
        Store,
    )
    from pannier.api.opening import create, feed, open_snapshot, open_store, unpacked
    from pannier.api.reproducing import from_docket
    from pannier.api.treatments import Treatment
    from pannier.dealing.shares import Dealing
    from pannier.feeding.arrays import Arrays
    from pannier.feeding.describing import Description
    from pannier.feeding.metering import Meter
    from pannier.feeding.mixing import Mix, mix
    from pannier.feeding.plan import Plan
    from pannier.feeding.render_plan import RenderPlan
    from pannier.feeding.rendering import Rendered
    from pannier.feeding.several import Feeds
    from pannier.feeding.statistics import Statistics
    from pannier.feeding.view import View
    from pannier.figures.drawing import draw
    from pannier.folders.exporting import restore
    from pannier.folders.laying_out import LayOutResult
    from pannier.images.own_steps import own_step
    from pannier.images.seen import Stage
    from pannier.measuring.answer import Answer
    from pannier.measuring.measurement import Measurement
    from pannier.measuring.rows import Rate, Trial
    from pannier.packing.doubts import Doubt
    from pannier.packing.three_way import Conflict
    from pannier.packing.two_sides import SideConflict
    from pannier.pages.reporting import report
    from pannier.sources.findings import Findings, Problem, Suspect
    from pannier.sources.gathering.gather import Gathered, gather
    from pannier.sources.gathering.journal import Failed
    from pannier.sources.rows import LeftOut
    from pannier.sources.survey import survey
    from pannier.sources.table_facts import ColumnFacts
    from pannier.upkeep.findings import Finding
    from pannier.upkeep.tidying import Going, Tidied
    from pannier.upkeep.verify import verify
    from pannier.versions.attaching import Addition, Attachment
    from pannier.versions.comparing import Compared, Comparison, compare
    from pannier.versions.docket import Docket
    from pannier.versions.doubles import Double, Doubles
    from pannier.versions.history import HistoryStep, RecordStep
    from pannier.versions.reasons import Reason

__version__ = "1.0.0"

# where public names live; modules are imported when a name is first used, so that `import pannier` stays light
_HOMES = {
    "pannier.api.feeding": "Batch Feed",
    "pannier.api.objects": "ChangeResult Copied MergeResult PackResult Record Snapshot Store",
    "pannier.api.opening": "create feed open_snapshot open_store unpacked",
    "pannier.api.reproducing": "from_docket",
    "pannier.api.treatments": "Treatment",
    "pannier.dealing.shares": "Dealing",
    "pannier.feeding.arrays": "Arrays",
    "pannier.feeding.describing": "Description",
    "pannier.feeding.metering": "Meter",
    "pannier.feeding.mixing": "Mix mix",
    "pannier.feeding.plan": "Plan",
    "pannier.feeding.render_plan": "RenderPlan",
    "pannier.feeding.rendering": "Rendered",
    "pannier.feeding.several": "Feeds",
    "pannier.feeding.statistics": "Statistics",
    "pannier.feeding.view": "View",
    "pannier.figures.drawing": "draw",
    "pannier.folders.exporting": "restore",
    "pannier.folders.laying_out": "LayOutResult",
    "pannier.images.own_steps": "own_step",
    "pannier.images.seen": "Stage",
    "pannier.measuring.answer": "Answer",
    "pannier.measuring.measurement": "Measurement",
    "pannier.measuring.rows": "Rate Trial",
    "pannier.packing.doubts": "Doubt",
    "pannier.packing.three_way": "Conflict",
    "pannier.packing.two_sides": "SideConflict",
    "pannier.pages.reporting": "report",
    "pannier.sources.findings": "Findings Problem Suspect",
    "pannier.sources.gathering.gather": "Gathered gather",
    "pannier.sources.gathering.journal": "Failed",
    "pannier.sources.rows": "LeftOut",
    "pannier.sources.survey": "survey",
    "pannier.sources.table_facts": "ColumnFacts",
    "pannier.upkeep.findings": "Finding",
    "pannier.upkeep.tidying": "Going Tidied",
    "pannier.upkeep.verify": "verify",
    "pannier.versions.attaching": "Addition Attachment",
    "pannier.versions.comparing": "Compared Comparison compare",
    "pannier.versions.docket": "Docket",
    "pannier.versions.doubles": "Double Doubles",
    "pannier.versions.history": "HistoryStep RecordStep",
    "pannier.versions.reasons": "Reason",
}
_HOME_OF = {name: home for home, names in _HOMES.items() for name in names.split()}

# without `open`, so that a star import leaves Python's own alone
__all__ = [
    "Addition",
    "Answer",
    "Arrays",
    "Attachment",
    "Batch",
    "ChangeResult",
    "ColumnFacts",
    "Compared",
    "Comparison",
    "Conflict",
    "ConflictError",
    "Copied",
    "DamageError",
    "Dealing",
    "Description",
    "Docket",
    "Double",
    "Doubles",
    "Doubt",
    "Failed",
    "Feed",
    "Feeds",
    "Finding",
    "Findings",
    "Gathered",
    "Going",
    "HistoryStep",
    "LayOutResult",
    "LeftOut",
    "LimitError",
    "Measurement",
    "MergeResult",
    "Meter",
    "Mix",
    "NotFoundError",
    "PackResult",
    "PannierError",
    "PictureError",
    "Plan",
    "Problem",
    "Rate",
    "Reason",
    "Record",
    "RecordStep",
    "RenderPlan",
    "Rendered",
    "SideConflict",
    "Snapshot",
    "SourceError",
    "Stage",
    "Statistics",
    "Store",
    "StoreError",
    "Suspect",
    "Tidied",
    "Treatment",
    "TreatmentError",
    "Trial",
    "UsageError",
    "View",
    "compare",
    "create",
    "draw",
    "feed",
    "from_docket",
    "gather",
    "mix",
    "open_snapshot",
    "open_store",
    "own_step",
    "report",
    "restore",
    "survey",
    "unpacked",
    "verify",
]


def open(address: str | Path, *, cache: str | Path | None = None, cache_size: str | int | None = None) -> Snapshot:
    """A snapshot by its address STORE@NAME; bare STORE is STORE@main. Also `open_snapshot`."""
    from pannier.api.opening import open_snapshot

    return open_snapshot(address, cache=cache, cache_size=cache_size)


def __getattr__(name: str) -> Any:
    home = _HOME_OF.get(name)
    if home is None:
        raise AttributeError(f"module 'pannier' has no attribute {name!r}")
    value = getattr(importlib.import_module(home), name)
    globals()[name] = value
    return value


def __dir__() -> list[str]:
    return [*__all__, "__version__", "open"]
