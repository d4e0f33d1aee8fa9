"""Going back: a new snapshot with the content of an old one. History goes on; nothing in it is rewritten."""

from __future__ import annotations

from typing import TYPE_CHECKING

from pannier.store.facts import Facts
from pannier.store.versions.differing import differences
from pannier.store.writing.changing import ChangeResult
from pannier.store.writing.commit import Proposal, commit

if TYPE_CHECKING:
    from pannier.store.snapshot import Snapshot
    from pannier.store.store import Store


def return_to(store: Store, name: str, *, track: str, note: str, facts: Facts, preview: bool) -> ChangeResult:
    """Puts the content of an older snapshot, by its name, at the end of a track; its way of dealing holds again too."""
    old = store.snapshot(name)
    result = ChangeResult(snapshot=old)

    def propose(parent: Snapshot | None) -> Proposal | None:
        assert parent is not None
        difference = differences(parent.manifest, old.manifest)
        result.snapshot, result.selected, result.changes = parent, len(old), difference.change_counts()
        if difference.is_empty:
            return None
        return Proposal(
            changes=None,
            content=old.manifest,
            note=note or f"as of {name}",
            name=old.name,
            description=old.description,
            dealing=old.dealing,
            change_counts=result.changes,
            facts=facts,
        )

    if preview:
        propose(store.snapshot(track))
        return result
    store.snapshot(track)
    found, result.is_new = commit(store, track, propose)
    assert found is not None
    result.snapshot = found
    return result
