"""Commit: rows and a note become a snapshot at the end of a strand, tried again where somebody else was first."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from typing import Any, NamedTuple

from pannier.dealing.shares import Dealing
from pannier.errors import ConflictError, UsageError
from pannier.sources.rows import LeftOut
from pannier.storage.layout import snapshot_file
from pannier.store import manifest as manifests
from pannier.store.documents import Document, canonical, digest
from pannier.store.facts import FactsByKey, author, now
from pannier.store.leases import Turn, check_lease
from pannier.store.left_out import publish_left_out
from pannier.store.manifest import Manifest
from pannier.store.names import Entry
from pannier.store.snapshots import count_document
from pannier.store.state import OpenedStore, State
from pannier.versions.differing import Difference, differences

MOST_TRIES = 100


@dataclass
class Proposal:
    """What a writer wants on top of a snapshot: `changes` are manifest rows with `removed`.

    `classes` fixes the first classes' numbers; `name` and `description` are the dataset's, None for those before.
    `content` is a manifest, written before, that takes the place of parent and changes. `recipes` tell how sources were
    packed, None for those before. `second` is a snapshot that is taken in, another parent.
    """

    changes: Any
    note: str = ""
    name: str | None = None
    description: str | None = None
    dealing: Dealing = field(default_factory=Dealing)
    classes: Sequence[str] = ()
    left_out: Sequence[LeftOut] = ()
    facts: FactsByKey = field(default_factory=dict)
    content: Manifest | None = None
    recipes: Sequence[Document] | None = None
    second: str | None = None

    def upon(self, before: Manifest) -> Manifest:
        """The records that it makes of those before, not written yet."""
        return self.content or Manifest(*before.changed(self.changes))


class Committed(NamedTuple):
    """A strand's newest snapshot, whether it was made now, and how it differs from the one before; None where it was not."""

    state: State | None
    is_new: bool
    difference: Difference | None


def commit(store: OpenedStore, strand: str, build: Callable[[State | None], Proposal | None]) -> Committed:
    """Makes the next snapshot of a strand.

    `build` is asked again with the new head whenever another writer was first; None means that there is nothing to add.
    Writers that were overtaken go first.
    """
    turn = Turn(store.storage)
    try:
        return _committed(store, strand, build, turn)
    finally:
        turn.end()


def _committed(store: OpenedStore, strand: str, build: Callable[[State | None], Proposal | None], turn: Turn) -> Committed:
    for _ in range(MOST_TRIES):
        turn.wait()
        last = store.strands.last(strand)
        parent = store.state_of(last.snapshot) if last and last.snapshot else None
        proposal = build(parent)
        if proposal is None:
            return Committed(parent, False, None)
        before = parent.manifest if parent is not None else Manifest.empty()
        after = proposal.content
        if after is None:
            after = manifests.write(store.storage, before, proposal.changes)
        difference = differences(before, after)
        document = _document(store, parent, proposal, difference)
        content = canonical(document)
        snapshot_id = digest(content)
        store.storage.create(snapshot_file(snapshot_id), content)
        check_lease()
        entry = Entry(last.number + 1 if last else 1, snapshot_id, document["time"], document["author"])
        if store.strands.append(strand, entry):
            return Committed(store.state_of(snapshot_id, after), True, difference)
        turn.overtaken()
    raise ConflictError(f"strand {strand!r} was changed {MOST_TRIES} times by others in the meantime: try again later")


def _document(store: OpenedStore, parent: State | None, proposal: Proposal, difference: Difference) -> Document:
    after = difference.after
    assert after.base_file is not None
    # pairs in the order in which splits were named, which decides ties
    shares = [[name, f"{share.numerator}/{share.denominator}"] for name, share in (proposal.dealing.shares or {}).items()]
    counts = count_document(after) if parent is None else difference.counts_upon(parent.document["counts"])
    present = {label for label, _, _ in counts if label is not None}
    return {
        "format": "pannier snapshot 1",
        "parents": [each for each in (None if parent is None else parent.id, proposal.second) if each is not None],
        "time": now(),
        "author": author(),
        "note": proposal.note,
        "name": _said_or(proposal.name, parent, "name"),
        "description": _said_or(proposal.description, parent, "description"),
        "facts": proposal.facts,
        "attachments": [],
        "classes": number_classes(parent.classes if parent is not None else [], present, proposal.classes),
        "records": len(after),
        "counts": counts,
        "changes": difference.change_counts(),
        "shares": shares or None,
        "seed": proposal.dealing.seed if shares else None,
        "dealing": proposal.dealing.to_document(),
        "recipes": _recipes(proposal, parent),
        "left_out": publish_left_out(store.storage, proposal.left_out),
        "left_out_count": len(proposal.left_out),
        "base": after.base_file.to_document(),
        "delta": after.delta_file.to_document() if after.delta_file else None,
        "content_id": after.content_id,
    }


def _recipes(proposal: Proposal, parent: State | None) -> list[Document]:
    before = parent.recipes if parent is not None else []
    return list(proposal.recipes) if proposal.recipes is not None else before


def _said_or(said: str | None, parent: State | None, name: str) -> str:
    return said if said is not None else getattr(parent, name, "")


def number_classes(known: Sequence[str], present: set[str], fixed: Sequence[str] = ()) -> list[str]:
    """Classes in order of their numbers: those known keep theirs, then come those fixed, then new ones, sorted.

    Integer labels are sorted as numbers in a first numbering where all are integers; otherwise by code point. Raises
    UsageError where `fixed` gives a class that is known another number.
    """
    if fixed:
        shared = min(len(fixed), len(known))
        if list(fixed[:shared]) != list(known[:shared]) or len(set(fixed)) < len(fixed):
            names = ",".join(known) or "none"
            raise UsageError(f"`classes` {','.join(fixed)}: classes keep their numbers along a strand; there are {names}")
        known = [*known, *fixed[shared:]]
    new = present - set(known)
    if not known and new and all(_is_integer(name) for name in new):
        return sorted(new, key=lambda name: (int(name), name))
    return [*known, *sorted(new)]


def _is_integer(name: str) -> bool:
    return name.removeprefix("-").isascii() and name.removeprefix("-").isdigit()
