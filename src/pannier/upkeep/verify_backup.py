"""A backup held against its original: what the original has and the backup lacks, or has otherwise."""

from __future__ import annotations

from collections.abc import Iterator

from pannier.storage.layout import ADDITIONS, STRANDS, TAGS, attached_file, snapshot_file
from pannier.store.names import MovingNames
from pannier.store.state import OpenedStore
from pannier.upkeep.copying import additions_without_number, once_named
from pannier.upkeep.findings import Finding
from pannier.upkeep.referenced import referenced
from pannier.versions.attaching import read_additions

_ADVICE = "renew it: copy the original into it with `all`"


def lacking(backup: OpenedStore, original: OpenedStore) -> Iterator[Finding]:
    """Strands, tags, snapshots, what was added to them, files and pictures of the original that the backup has not."""
    for folder, ours, theirs in ((STRANDS, backup.strands, original.strands), (TAGS, backup.tags, original.tags)):
        yield from _names(folder, ours, theirs, original)
    wanted = referenced(original.storage, once_named(original))
    for file in sorted({*wanted.files(), *map(snapshot_file, wanted.documents)}):
        if not backup.storage.exists(file):
            yield Finding(file, "the original has it, and the backup does not", "what needs it", _ADVICE)
    for snapshot_id in wanted.documents:
        for each in read_additions(original.storage, snapshot_id):
            for file in sorted(attached_file(attachment.sha256) for attachment in each.attachments):
                if original.storage.exists(file) and not backup.storage.exists(file):
                    yield Finding(file, "the original has it, and the backup does not", "what needs it", _ADVICE)
        added = additions_without_number(original, snapshot_id)
        there = additions_without_number(backup, snapshot_id)
        count = sum(each not in there for each in added)
        if count:
            what = f"{count} of what was added to this snapshot is in the original alone"
            yield Finding(f"{ADDITIONS}/{snapshot_id}", what, "its facts and files", _ADVICE)
    backup.index.refresh()
    lost = int((backup.index.find(wanted.pictures).segment < 0).sum())
    if lost:
        what = f"{lost:,} of {len(wanted.pictures):,} pictures of the original are in no shard of the backup"
        yield Finding("shards", what, "the records that show them", _ADVICE)


def _names(folder: str, ours: MovingNames, theirs: MovingNames, original: OpenedStore) -> Iterator[Finding]:
    for name in theirs.ever_used():
        yield from _entries(ours, theirs, name)
    for name, head in theirs.heads():
        here = ours.head(name)
        if here is None:
            yield Finding(f"{folder}/{name}", "the original has it, and the backup does not", "that name", _ADVICE)
        elif here.snapshot != head.snapshot:
            what = f"it is at snapshot {head.snapshot[:12]} in the original, and at {here.snapshot[:12]} here"
            is_older = here.snapshot in original.snapshot_ids()
            advice = _ADVICE if is_older else "find out which of the two is right: this one is not the original's"
            yield Finding(f"{folder}/{name}", what, "what came since", advice)


def _entries(ours: MovingNames, theirs: MovingNames, name: str) -> Iterator[Finding]:
    """Entries of a name that the original has, and the backup lacks or has otherwise: it could not repair those."""
    lacking = [number for number in theirs.numbers(name) if ours.content(name, number) is None]
    other = [
        number
        for number in theirs.numbers(name)
        if number not in lacking and ours.content(name, number) != theirs.content(name, number)
    ]
    if other:
        what = f"{len(other)} of its entries are not those of the original, which it cannot repair therefore"
        advice = "copy the original with `all` into an empty store, and keep that as the backup"
        yield Finding(ours.file(name, other[0]), what, f"the history of {name}", advice)
    elif lacking:
        what = f"the original has {len(lacking)} more entries of {name}"
        yield Finding(ours.file(name, lacking[0]), what, f"the history of {name}", _ADVICE)
