"""Where a feed stands, as plain data: with it another feed, anywhere, goes on with exactly the next batch."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from pannier.errors import UsageError
from pannier.feeding.job import FeedWork

FORMAT = 1
# what says which batch comes when, and what is in it; workers, `ahead` and limits do not
_SAID = (
    *("split", "seed", "batch_size", "last", "steps", "part", "parts", "shuffle", "augment", "subset", "where"),
    *("variations", "balance", "weights", "window", "plain"),
)


def position_of(work: FeedWork, epoch: int, batch: int) -> dict[str, Any]:
    """The position before a batch of an epoch, as JSON can hold it."""
    return {"position": FORMAT, "epoch": epoch, "batch": batch, "of": _told(work)}


# places of an epoch and the epochs before it stay far below what 64 bits hold
LAST_EPOCH = 1_000_000_000


def read_position(work: FeedWork, position: Mapping[str, Any] | None) -> tuple[int, int]:
    """(epoch, batch) to go on with, (0, 0) for None. Raises UsageError where it is of another feed, or none."""
    if position is None:
        return 0, 0
    if not isinstance(position, Mapping) or position.keys() != {"position", "epoch", "batch", "of"}:
        raise UsageError("`position` is none: give what `feed.position` was")
    if position["position"] != FORMAT:
        raise UsageError(f"the position is of another version of Pannier ({position['position']!r})")
    own, told = _told(work), position["of"]
    differing = [name for name in own if not isinstance(told, Mapping) or told.get(name) != own[name]]
    if differing:
        name = differing[0]
        theirs = told.get(name) if isinstance(told, Mapping) else None
        raise UsageError(f"the position is of another feed: its {name} is {theirs!r}, here it is {own[name]!r}")
    epoch, batch = position["epoch"], position["batch"]
    are_numbers = all(isinstance(each, int) and not isinstance(each, bool) and each >= 0 for each in (epoch, batch))
    if are_numbers and epoch > LAST_EPOCH:
        raise UsageError(f"epoch {str(epoch)[:24]}: a position has the epochs 0 to {LAST_EPOCH:,}")
    if not are_numbers or batch >= max(1, work.course.batches):
        raise UsageError(f"epoch {epoch!r}, batch {batch!r}: an epoch has the batches 0 to {work.course.batches - 1}")
    return epoch, batch


def _told(work: FeedWork) -> dict[str, Any]:
    treatment = work.job.treatment
    said = {name: getattr(work.job, name) for name in _SAID}
    return {"content": work.state.content_id, **said, "treatment": treatment.identity if treatment else None}
