"""The page of measurements: the answer, the figure, the table, the machine; of several, how they differ."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from typing import Any

from pannier.errors import SourceError, UsageError
from pannier.figures.measurement import draw_measurement
from pannier.measuring.answer import Answer
from pannier.measuring.measurement import Measurement
from pannier.measuring.rows import Trial
from pannier.measuring.runs import Against, against
from pannier.measuring.settings import source_in_short
from pannier.pages.writing import figure, write_page
from pannier.units import show_bytes


def runs_page(runs: Mapping[str, Measurement], path: str | Path) -> int:
    """Writes it of measurements by name, each after the first held against that: how many bytes it has.

    Raises UsageError, StoreError.
    """
    if not runs:
        raise UsageError("a page of measurements needs one at least")
    shown = [_shown(name, run) for name, run in runs.items()]
    first, *others = runs.items()
    held = [{"name": name, "before": first[0], **_held(against(run, first[1]))} for name, run in others]
    return write_page(path, "runs.html", runs=shown, held=held)


def _shown(name: str, run: Measurement) -> dict[str, Any]:
    told: Answer | None = None
    try:
        told = run.answer
    except SourceError:
        pass
    treatment = {field: value for field, value in (run.settings.get("treatment") or {}).items() if value is not None}
    settings = {key.replace("_", " "): value for key, value in run.settings.items() if value not in (None, {}, False)}
    settings.pop("treatment", None)
    return {
        "name": name,
        "answer": told,
        "figure": figure(lambda file: draw_measurement(run, file)),
        "rows": [_row(trial, told) for trial in run.trials],
        "ceilings": [
            (what, _row(row, None))
            for what, rows in (("treatment", run.ceiling), ("reading alone", run.reading), ("copying alone", run.copying))
            for row in rows
        ],
        "settings": settings,
        "treatment": treatment,
        "machine": {key.replace("_", " "): _of_machine(key, value) for key, value in run.machine.items()},
        "failed": [(_setting(trial), trial.reason) for trial in run.trials if trial.reason],
    }


def _row(trial: Trial, told: Answer | None) -> dict[str, Any]:
    rate = trial.pictures_per_second
    return {
        "size": "x".join(map(str, trial.size)),
        "source": source_in_short(trial.source),
        "batch": trial.batch_size,
        "processes": trial.processes,
        "workers": trial.workers,
        "ahead": "-" if trial.ahead is None else trial.ahead,
        "limit": "none" if trial.memory_limit_bytes is None else show_bytes(trial.memory_limit_bytes),
        "rate": "-" if rate is None else f"{rate.median:,.0f}",
        "spread": "-" if rate is None else f"{rate.low:,.0f} to {rate.high:,.0f}",
        "share": "-" if trial.share_of_ceiling is None else f"{trial.share_of_ceiling:.2f}",
        "peak": "-" if trial.peak_bytes is None else show_bytes(trial.peak_bytes),
        "starved": "-" if trial.starved_share is None else f"{trial.starved_share:.0%}",
        "binds": trial.binds if trial.status == "ok" else trial.status.replace("_", " "),
        "is_best": told is not None and trial is told.best,
    }


def _setting(trial: Trial) -> str:
    limit = "no limit" if trial.memory_limit_bytes is None else show_bytes(trial.memory_limit_bytes)
    return f"{trial.workers} workers, batches of {trial.batch_size}, {limit}"


def _held(found: Against) -> dict[str, Any]:
    rows = [
        (_setting(ratio.now), f"{ratio.of_rates.median:.2f}", f"{ratio.of_rates.low:.2f} to {ratio.of_rates.high:.2f}",
         f"{ratio.of_shares.median:.2f}")
        for ratio in found.ratios
    ]  # fmt: skip
    return {"rows": rows, "reasons": found.reasons}


def _of_machine(key: str, value: Any) -> str:
    if isinstance(value, dict):
        return ", ".join(f"{name} {version}" for name, version in value.items())
    return show_bytes(value) if key.endswith("bytes") else str(value)
