"""The treatment as a user holds it: measured on snapshots, shown in a notebook."""

from __future__ import annotations

from typing import Any

from pannier.feed.statistics import measure_values
from pannier.figures.notebook import of_treatment
from pannier.images import treatment
from pannier.store.state import HasState


class Treatment(treatment.Treatment):
    __doc__ = treatment.Treatment.__doc__

    def __init__(self, size: Any = None, **fields: Any) -> None:
        super().__init__(size, **fields)

    def measured(
        self,
        snapshot: HasState,
        split: str | None = "train",
        *,
        workers: int | None = None,
        memory_limit: str | int | None = "auto",
    ) -> Treatment:
        """This treatment with values "standard", and the mean and deviation of a split through its very size, fit and color.

        Population statistics over all pixels of the fixed part, padding too, exact; bounds as of a feed. Raises
        TreatmentError for a channel that is constant, LimitError.
        """
        found = measure_values(snapshot.state, split, self, workers=workers, memory_limit=memory_limit)
        return found.treatment(type(self))

    def _repr_html_(self) -> str:
        return of_treatment(self)
