"""pannier attach"""

from __future__ import annotations

from pathlib import Path

import pannier
from pannier.cli import options as opt
from pannier.cli.terminal import plural, print_json, print_table
from pannier.errors import UsageError
from pannier.units import show_bytes


def attach(
    store: opt.Store,
    fact: opt.FactsOption = None,
    file: list[str] | None = opt.value(None, "A file that belongs to it; may be given again.", "FILE"),
    as_: list[str] | None = opt.value(None, "What it is called here, as results/run-3.npz.", "NAME", "--as"),
    remove: list[str] | None = opt.value(None, "Take an attachment off.", "NAME"),
    save: str | None = opt.value(None, "Write an attachment into the file that --to names.", "NAME"),
    to: str | None = opt.value(None, "With --save: where to.", "FILE"),
    json: opt.AsJson = False,
) -> int:
    """Add facts and files to a snapshot, each as an entry of its own: who, when. Alone: list them.

    [dim]$[/dim] pannier attach swatches.store@spring --fact accuracy=0.93 --fact run=weave-3
    [dim]$[/dim] pannier attach swatches.store --file predictions.csv --as run-3/predictions.csv
    """
    from pannier.store.facts import read_facts

    snapshot = pannier.open(store)
    names = as_ or [Path(path).name for path in file or []]
    if len(names) != len(file or []) or len(set(names)) < len(names):
        raise UsageError("give each --file an --as of its own, in the same order, or none of them one")
    if (save is None) != (to is None):
        raise UsageError("--save and --to belong together, as --save results/run-3.npz --to run-3.npz")
    if save is not None and to is not None:
        snapshot.attachment(save).save(to)
        print(f"{save} is written to {to}.")
    if fact or file or remove:
        files = dict(zip(names, file or [], strict=True))
        snapshot.attach(facts=read_facts(fact), files=files, remove=remove or ())
        parts = [f"{plural(len(fact), 'fact')} added"] if fact else []
        parts += [f"{plural(len(files), 'file')} attached"] if files else []
        parts += [f"{plural(len(remove), 'file')} taken off"] if remove else []
        print(f"Snapshot {snapshot.id[:12]}: {', '.join(parts)}.")
    elif save is None:
        _list(snapshot, json)
    return 0


def _list(snapshot: pannier.Snapshot, json: bool) -> None:
    files = [attachment.to_document() for attachment in snapshot.attachments]
    if json:
        print_json({"snapshot": snapshot.id, "facts": snapshot.facts, "attachments": files})
        return
    rows = [[key, str(value), snapshot.time, snapshot.author] for key, value in snapshot.document["facts"].items()]
    for addition in snapshot.additions:
        rows += [[key, str(value), addition.time, addition.author] for key, value in addition.facts.items()]
        rows += [
            [file.name, f"file, {show_bytes(file.byte_count)}", addition.time, addition.author]
            for file in addition.attachments
        ]
        rows += [[name, "taken off", addition.time, addition.author] for name in addition.removed]
    if rows:
        print_table(["name", "value", "time", "by"], rows, left=4)
    else:
        print("No facts and no attachments yet.")
