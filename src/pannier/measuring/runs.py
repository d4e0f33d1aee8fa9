"""Measurements that are kept: as documents, and held against one another a day or a year later.

A run is one JSON document: "pannier": "measurement 1", and what `Measurement.to_dict` gives, with every round's rate.
"""

from __future__ import annotations

import json
from dataclasses import dataclass
from pathlib import Path
from typing import Any, Literal

import numpy as np
from pydantic import TypeAdapter, with_config
from typing_extensions import TypedDict

from pannier.errors import NotFoundError, SourceError
from pannier.files import explain_os_error, write_whole
from pannier.measuring.measurement import Measurement
from pannier.measuring.rows import Rate, Trial
from pannier.measuring.settings import source_in_short
from pannier.results import Result
from pannier.strict import STRICT, read_strictly
from pannier.units import show_bytes

KIND = "measurement 1"
_MOST_BYTES = 64 << 20
# ratios of medians are drawn so often, with a seed of their own, for their interval (Efron, "Bootstrap methods", 1979)
DRAWS = 2000
INTERVAL = (2.5, 97.5)
# what must be equal for rates to be of the same work
SAME_WORK = ("content_id", "treatment", "split", "subset", "step", "cold")


@with_config(STRICT)
class _RunTold(TypedDict):
    pannier: Literal["measurement 1"]
    ceiling: list[Trial]
    trials: list[Trial]
    settings: dict[str, Any]
    reading: list[Trial]
    copying: list[Trial]
    machine: dict[str, Any]


@dataclass(frozen=True, repr=False)
class Ratio(Result):
    """One setting now against then: of medians, with the interval that 95 % of resampled rounds lie in.

    Pictures a second, and shares of the ceiling, on which a slower or busier machine weighs less.
    """

    now: Trial
    then: Trial
    of_rates: Rate
    of_shares: Rate

    def is_slower(self, tolerance: float) -> bool:
        """Whether it is slower than the tolerance allows, beyond the noise."""
        return self.of_rates.high < 1 - tolerance


@dataclass(frozen=True, repr=False)
class Against(Result):
    """A measurement against one of before: ratios by setting; `reasons`: what cannot be compared, and why."""

    ratios: list[Ratio]
    reasons: list[str]

    def slower(self, tolerance: float) -> list[Ratio]:
        """Settings that are slower than the tolerance allows, beyond the noise."""
        return [ratio for ratio in self.ratios if ratio.is_slower(tolerance)]


def save_run(found: Measurement, path: str | Path) -> None:
    """Writes a measurement as a document. Raises StoreError where that cannot be."""
    write_whole(Path(path), json.dumps({"pannier": KIND, **found.to_dict()}, indent=1).encode() + b"\n")


def read_run(path: str | Path) -> Measurement:
    """A measurement that was saved. Raises NotFoundError, SourceError."""
    file = Path(path)
    try:
        if file.stat().st_size > _MOST_BYTES:
            raise SourceError(f"{path} is larger than any measurement that was saved")
        told = read_strictly(TypeAdapter(_RunTold), file.read_bytes())
    except FileNotFoundError:
        raise NotFoundError(f"no measurement {path}: save one first") from None
    except OSError as error:
        raise SourceError(explain_os_error(error, str(path))) from error
    except ValueError as error:
        raise SourceError(f"{path} is no measurement that was saved by this version: {error}") from error
    return Measurement(**{name: value for name, value in told.items() if name != "pannier"})


def against(now: Measurement, then: Measurement) -> Against:
    """Rates of equal settings as ratios, now to then; where the work is not the same, none."""
    reasons = [
        f"{name.replace('_', ' ')} differs: {_brief(now.settings.get(name))}, then {_brief(then.settings.get(name))}"
        for name in SAME_WORK
        if _plain(now.settings.get(name)) != _plain(then.settings.get(name))
    ]
    if reasons:
        return Against([], reasons)
    before, ratios = {_setting(trial): trial for trial in then.trials}, []
    for trial in now.trials:
        other = before.pop(_setting(trial), None)
        if other is None:
            reasons.append(f"{named(trial)}: was not measured then")
        elif not (trial.samples and other.samples):
            failed = "now" if not trial.samples else "then"
            reasons.append(f"{named(trial)}: failed {failed}: {(trial if failed == 'now' else other).reason}")
        else:
            ratios.append(_ratio(trial, other))
    reasons += [f"{named(trial)}: was not measured now" for trial in before.values()]
    machines = [run.machine.get("processor") for run in (now, then)]
    if machines[0] != machines[1]:
        reasons.append(f"another machine ({machines[0]}, then {machines[1]}): compare the shares of the ceiling alone")
    return Against(ratios, reasons)


def _ratio(now: Trial, then: Trial) -> Ratio:
    of_rates = _interval(np.array(now.samples), np.array(then.samples))
    share = (now.share_of_ceiling or 0) / (then.share_of_ceiling or 1)
    scale = share / of_rates.median if of_rates.median else 0.0
    return Ratio(now, then, of_rates, Rate(share, of_rates.low * scale, of_rates.high * scale))


def _interval(now: Any, then: Any) -> Rate:
    rng = np.random.default_rng(0)
    drawn = [np.median(rng.choice(each, (DRAWS, len(each))), axis=1) for each in (now, then)]
    low, high = (float(each) for each in np.percentile(drawn[0] / drawn[1], INTERVAL))
    return Rate(float(np.median(now) / np.median(then)), low, high)


def _setting(trial: Trial) -> tuple[Any, ...]:
    names = ("size", "source", "memory_limit_bytes", "batch_size", "workers", "processes", "ahead")
    return tuple(getattr(trial, name) for name in names)


def named(trial: Trial) -> str:
    """A setting in words."""
    limit = "no limit" if trial.memory_limit_bytes is None else show_bytes(trial.memory_limit_bytes)
    who = [f"{trial.processes} process{'es' * (trial.processes != 1)}"] if trial.processes else []
    who.append(f"{trial.workers} worker{'s' * (trial.workers != 1)}")
    size = "x".join(map(str, trial.size))
    return f"{size}, {source_in_short(trial.source)}, batches of {trial.batch_size}, {', '.join(who)}, {limit}"


def _plain(value: Any) -> Any:
    return json.loads(json.dumps(value, default=str))


def _brief(value: Any) -> str:
    text = "none" if value is None else str(value)
    return text if len(text) <= 40 else f"{text[:37]}..."
