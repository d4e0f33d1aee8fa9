"""What is tried: the settings of a grid, each of which is a trial."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from itertools import product
from pathlib import PurePath
from typing import Any, NamedTuple

from pannier.choices import Progress
from pannier.errors import UsageError
from pannier.feeding.job import MOST_PROCESSES
from pannier.images.treatment import Treatment
from pannier.units import read_limit, read_seconds

FOLDER = "folder:"
SOURCES = ("shards", "rendered")
PYTHON = "python:"

# the default number of rounds, and the least; a measurement that would take longer than SECONDS has fewer than the default
DEFAULT_ROUNDS, LEAST_ROUNDS = 12, 4
SECONDS = 70.0
DEFAULT_SLICE_SECONDS = 0.4

# the axes of a grid, those first that matter most
# the memory limit that is tried by default: none at first, then the smallest that is as fast
ENOUGH = "enough"
# the limits among which that is looked for
USUAL_LIMITS = tuple(mib << 20 for power in range(4, 24) for mib in (1 << power, 3 << power - 1))

AXES = ("workers", "processes", "source", "ahead", "batch_size")


@dataclass(frozen=True, kw_only=True)
class MeasureOptions:
    """What is tried, and how: see `Snapshot.measure`.

    source: None for shards, and rendered canvases where those can be made. rounds: None for 12, or fewer where few settings
    would take more than a minute.
    """

    size: int | tuple[int, int] | str | list[int | tuple[int, int] | str] | None = None
    batch_size: int | Sequence[int] = 32
    workers: int | Sequence[int] = (1, 2)
    processes: int | Sequence[int] = 0
    ahead: int | Sequence[int | None] | None = None
    memory_limit: str | int | Sequence[str | int | None] | None = ENOUGH
    source: str | Sequence[str] | None = None
    step: str | float | None = None
    cold: bool = False
    search: bool = False
    seed: int = 0
    subset: str | float | None = None
    rounds: int | None = None
    slice_seconds: float = DEFAULT_SLICE_SECONDS
    progress: Progress | None = field(default=None, compare=False)

    def __post_init__(self) -> None:
        is_number = self.rounds is None or (type(self.rounds) is int and self.rounds >= 1)
        if not is_number or not self.slice_seconds > 0:
            raise UsageError("rounds must be 1 or more, and slice_seconds more than 0")

    def grid(self, treatment: Treatment, *, can_render: bool = True) -> Grid:
        """All that is tried at first. Raises UsageError."""
        axes = ("batch_size", "workers", "processes", "ahead")
        counts = {name: getattr(self, name) for name in axes}
        source = self.source if self.source is not None else SOURCES if can_render else SOURCES[:1]
        return Grid.of(self.sizes(treatment), source, None if self.looks_for_enough else self.memory_limit, **counts)

    def sizes(self, treatment: Treatment) -> list[tuple[int, int]]:
        """The sizes that are tried. Raises UsageError."""
        wanted = self.size if isinstance(self.size, list) else [treatment.size if self.size is None else self.size]
        return list(_distinct("size", [treatment.with_fields(size=each).size for each in wanted]))

    @property
    def looks_for_enough(self) -> bool:
        """Whether the smallest memory limit is looked for that is as fast as none."""
        return self.memory_limit == ENOUGH


class Group(NamedTuple):
    """What ceilings are measured for."""

    size: tuple[int, int]
    source: str


@dataclass(frozen=True)
class Setting:
    """What one trial is of. `ahead`: None as planned."""

    size: tuple[int, int]
    source: str
    memory_limit_bytes: int | None
    batch_size: int
    workers: int
    processes: int
    ahead: int | None

    @property
    def group(self) -> Group:
        return Group(self.size, self.source)


@dataclass(frozen=True)
class Step:
    """A consumer: so many seconds after each batch, in which it holds the interpreter lock or does not."""

    seconds: float
    holds_lock: bool = False

    @staticmethod
    def read(text: str | float | None) -> Step | None:
        """From "20ms" or "python:20ms", or seconds. Raises UsageError."""
        if text is None:
            return None
        told = str(text).strip()
        return Step(read_seconds(told.removeprefix(PYTHON)), told.startswith(PYTHON))


@dataclass(frozen=True)
class Grid:
    """All values of each axis, checked."""

    size: tuple[tuple[int, int], ...]
    source: tuple[str, ...]
    memory_limit_bytes: tuple[int | None, ...]
    batch_size: tuple[int, ...]
    workers: tuple[int, ...]
    processes: tuple[int, ...]
    ahead: tuple[int | None, ...]

    @staticmethod
    def of(sizes: Sequence[tuple[int, int]], source: Any, memory_limit: Any, **counts: Any) -> Grid:
        """Each of them one value or several. Raises UsageError."""
        most = {"processes": MOST_PROCESSES}
        axes = {
            name: _counts(name, several(values), least=int(name != "processes"), most=most.get(name))
            for name, values in counts.items()
        }
        limits = _distinct("memory_limit", [_limit(each) for each in several(memory_limit)])
        return Grid(tuple(sizes), _distinct("source", [_source(x) for x in several(source)]), limits, **axes)

    def settings(self) -> list[Setting]:
        """All of them."""
        axes = (self.size, self.source, self.memory_limit_bytes, self.batch_size, self.workers, self.processes, self.ahead)
        all_of_them = [Setting(*each) for each in product(*axes)]
        settings = [each for each in all_of_them if not (each.processes and each.source.startswith(FOLDER))]
        if not settings:
            raise UsageError("a folder is fed by threads alone: give `processes` 0 too")
        return settings


def source_in_short(source: str) -> str:
    """A source as tables and figures call it."""
    return f"folder {PurePath(source.removeprefix(FOLDER)).name}" if source.startswith(FOLDER) else source


def several(value: Any) -> Sequence[Any]:
    """A value as one of several."""
    return value if isinstance(value, (list, tuple, range)) else (value,)


def _distinct(name: str, values: Sequence[Any]) -> tuple[Any, ...]:
    if not values:
        raise UsageError(f"{name}: nothing is given to try")
    return tuple(dict.fromkeys(values))


def _counts(name: str, values: Sequence[Any], least: int, most: int | None) -> tuple[Any, ...]:
    for value in values:
        is_free = value is None and name == "ahead"
        if not is_free and (type(value) is not int or value < least or (most is not None and value > most)):
            to = f" to {most}" if most is not None else " or more"
            raise UsageError(f"{name} = {value!r}: must be whole numbers, {least}{to}")
    return _distinct(name, values)


def _limit(limit: str | int | None) -> int | None:
    read = read_limit(limit)
    if isinstance(read, str):
        raise UsageError("a measurement needs memory limits in bytes, or none for unlimited; not auto")
    return read


def _source(source: str) -> str:
    if source in SOURCES or (isinstance(source, str) and source.startswith(FOLDER) and source != FOLDER):
        return source
    raise UsageError(f"source = {source!r}: must be 'shards', 'rendered' or 'folder:PATH'")
