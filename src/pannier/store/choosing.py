"""Which of a snapshot's rows: of a split, of a condition, a fair part of those."""

from __future__ import annotations

import numpy as np

from pannier.columns import Rows
from pannier.dealing.shares import read_part
from pannier.dealing.splits import fair_part
from pannier.hashing import checked_seed
from pannier.store.records import rows_where
from pannier.store.state import State


def chosen_rows(
    state: State, split: str | None, part: str | float | None, seed: int = 0, *, where: str | None = None
) -> Rows:
    """The manifest's rows of a part of a split, as "10%" or 0.1, fair in every class, fixed by the seed; None: all.

    where: SQL over the records' columns, before the part is taken. Raises NotFoundError, UsageError.
    """
    rows = state.rows_of(split)
    if where is not None:
        rows = np.intersect1d(rows, rows_where(state.manifest, where), assume_unique=True)
    if part is None:
        return rows
    labels, _ = state.manifest.codes("label")
    return rows[fair_part(labels[rows], state.manifest.hashes_at(rows), read_part(part), checked_seed(seed))]
