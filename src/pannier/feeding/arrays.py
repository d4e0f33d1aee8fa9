"""A whole small split as arrays: pictures, labels and keys at once."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

import numpy as np

from pannier.budget import limit_bytes
from pannier.errors import LimitError, UsageError
from pannier.feeding.feed import Feed
from pannier.feeding.job import FeedOptions, job_of
from pannier.images.treatment import Treatment
from pannier.results import Result
from pannier.store.choosing import chosen_rows
from pannier.store.state import State
from pannier.units import show_bytes


@dataclass(frozen=True, eq=False, repr=False)
class Arrays(Result):
    """`images` (N, ...) as the treatment makes them, `labels` as the feed's `label_as` says, `keys` a list of N.

    `images, labels, keys = arrays` takes all three.
    """

    images: Any
    labels: Any
    keys: list[str]

    def __iter__(self) -> Iterator[Any]:
        return iter((self.images, self.labels, self.keys))


def arrays(
    snapshot: State,
    split: str | None,
    treatment: Treatment,
    options: FeedOptions,
) -> Arrays:
    """A split in memory, in order of keys, without the random steps unless told.

    memory_limit bounds the arrays and the feed that fills them. Raises LimitError where they would not fit.
    """
    if options.steps is not None or options.parts > 1 or options.position is not None:
        raise UsageError("arrays hold a whole split: leave `steps`, `parts` and `position` out, or feed it in batches")
    limit = limit_bytes(options.memory_limit)
    rows = chosen_rows(snapshot, split, options.subset, options.seed, where=options.where)
    need = len(rows) * treatment.byte_count
    rest = None if limit is None else max(1, limit - need)
    how = {**vars(options), "shuffle": bool(options.shuffle), "augment": bool(options.augment), "memory_limit": rest}
    try:
        filling = Feed(job_of(snapshot, split, treatment, **how), snapshot)
    except LimitError as error:
        smallest = need + error.smallest_limit
        raise LimitError(
            f"{len(rows):,} pictures as arrays take {show_bytes(need, up=True)}, with the feed that fills them "
            f"{show_bytes(smallest, up=True)}, over the limit of {show_bytes(limit or 0)}: feed them in batches, take a "
            "subset, or raise memory_limit",
            smallest_limit=smallest,
        ) from None
    images = np.empty((len(rows), *treatment.shape), treatment.dtype)
    labels: list[Any] = []
    keys: list[str] = []
    with filling as feed:
        for batch in feed:
            images[len(keys) : len(keys) + len(batch)] = batch.images
            labels.append(batch.labels)
            keys += batch.keys
    if labels and isinstance(labels[0], list):
        return Arrays(images[: len(keys)], [name for part in labels for name in part], keys)
    return Arrays(images[: len(keys)], np.concatenate(labels) if labels else np.empty(0, np.int64), keys)
