"""The treatment as a user holds it: read, saved, explained, called, measured on snapshots, shown in a notebook."""

from __future__ import annotations

from pathlib import Path
from typing import Any, Self

from pannier.array_types import Array
from pannier.errors import TreatmentError, UsageError
from pannier.feeding.statistics import measure_values
from pannier.images import treatment
from pannier.images.explaining import explained
from pannier.images.prepare import Preparation
from pannier.images.treatment_file import plain_fields, read_fields, read_said, save, written
from pannier.pages.notebook import of_treatment
from pannier.store.state import State

# what lower floors ask a treatment for, and no user
_INNER = ["byte_count", "check_ready", "essence", "fixed_fields", "frame", "is_canvas", "own_at", "said", "value_line"]


def as_treatment(said: Any, size: Any = None, values: str | None = None) -> Treatment | None:
    """What is said of a treatment: itself, a path, fields as text; `size`, `values` go before its own. Raises UsageError."""
    fields = {name: given for name, given in (("size", size), ("values", values)) if given is not None}
    if said is None:
        return Treatment(**fields) if fields else None
    if isinstance(said, (str, Path)):
        return Treatment.read(said, **fields)
    if not isinstance(said, treatment.Treatment):
        given = type(said).__name__
        raise UsageError(f"{given} is no treatment: give one, a TOML file's path, or fields as 'size=96,color=gray'")
    return said if isinstance(said, Treatment) and not fields else Treatment(**(said.said() | fields))


class Treatment(treatment.Treatment):
    __doc__ = treatment.Treatment.__doc__

    @classmethod
    def from_file(cls, path: str | Path, **override: Any) -> Self:
        """Reads a TOML file of the same fields; `override` goes before what it says."""
        fields = read_fields(path)
        try:
            return cls(**(fields | override))
        except TreatmentError as error:
            raise TreatmentError(f"{path}: {error}") from None

    @classmethod
    def read(cls, said: str | Path, **override: Any) -> Self:
        """A TOML file's path, or fields as text, "size=96x128,color=gray,turn=8"; `override` goes before what they say."""
        file, fields = read_said(said)
        return cls(**(fields | override)) if file is None else cls.from_file(file, **override)

    def save(self, path: str | Path) -> None:
        """Writes it as a TOML file; in one that is there, comments and the order of fields are kept."""
        save(self, path)

    def explain(self) -> str:
        """The steps with their sizes and costs, in words."""
        return explained(self)

    def __call__(self, picture: Any, *, box: tuple[float, float, float, float] | None = None) -> Array:
        """One picture from anywhere, prepared, without the random steps: a path, bytes, a Pillow picture or a uint8 array.

        box: (top, left, height, width) of the part used, in `box_unit`; of the upright picture.
        """
        return Preparation(self).one(picture, box=box)

    def __init__(self, size: Any = None, **fields: Any) -> None:
        super().__init__(size, **fields)

    def measured(
        self,
        snapshot: State,
        split: str | None = "train",
        *,
        workers: int | None = None,
        memory_limit: str | int | None = "auto",
    ) -> Treatment:
        """This treatment with values "standard", and the mean and deviation of a split through its very size, fit and color.

        Population statistics over all pixels of the fixed part, padding too, exact; bounds as of a feed. Raises
        TreatmentError for a channel that is constant, LimitError.
        """
        statistics = measure_values(snapshot, split, self, workers=workers, memory_limit=memory_limit)
        return statistics.treatment(type(self))

    def to_dict(self) -> dict[str, Any]:
        """Plain data for JSON: the fields that differ from their defaults, as a file has them."""
        return plain_fields(self)

    def __repr__(self) -> str:
        return written(self)

    __str__ = __repr__

    def __dir__(self) -> list[str]:
        return [name for name in super().__dir__() if name not in _INNER]

    def _repr_html_(self) -> str:
        return of_treatment(self)
