"""pannier annotate"""

from __future__ import annotations

from pathlib import Path

import pannier
from pannier.cli import options as opt
from pannier.cli.terminal import plural, print_json, print_table
from pannier.errors import UsageError
from pannier.units import show_bytes


def annotate(
    store: opt.Store,
    fact: opt.FactsOption = None,
    attach: list[str] | None = opt.value(None, "Attach a file; may be given again.", "FILE"),
    as_: list[str] | None = opt.value(None, "What it is called here, as results/run-3.npz.", "NAME", "--as"),
    detach: list[str] | None = opt.value(None, "Take an attachment off.", "NAME"),
    save: str | None = opt.value(None, "Write an attachment into the file that --to names.", "NAME"),
    to: str | None = opt.value(None, "With --save: where to.", "FILE"),
    json: opt.AsJson = False,
) -> int:
    """Add facts and files to a snapshot, each as an entry of its own: who, when. Alone: list them.

    [dim]$[/dim] pannier annotate swatches.store@spring --fact accuracy=0.93 --fact run=weave-3
    [dim]$[/dim] pannier annotate swatches.store --attach run-3.npz --as results/run-3.npz
    """
    from pannier.store.facts import read_facts

    snapshot = pannier.open(store)
    names = as_ or [Path(file).name for file in attach or []]
    if len(names) != len(attach or []) or len(set(names)) < len(names):
        raise UsageError("give each --attach an --as of its own, in the same order, or none of them one")
    if (save is None) != (to is None):
        raise UsageError("--save and --to belong together, as --save results/run-3.npz --to run-3.npz")
    if save is not None and to is not None:
        snapshot.attachment(save).save(to)
        print(f"{save} is written to {to}.")
    if fact or attach or detach:
        files = dict(zip(names, attach or [], strict=True))
        snapshot.annotate(facts=read_facts(fact), attach=files, detach=detach or ())
        parts = [f"{plural(len(fact), 'fact')} added"] if fact else []
        parts += [f"{plural(len(files), 'file')} attached"] if files else []
        parts += [f"{plural(len(detach), 'file')} taken off"] if detach else []
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
    for annotation in snapshot.annotations:
        rows += [[key, str(value), annotation.time, annotation.author] for key, value in annotation.facts.items()]
        rows += [
            [file.name, f"file, {show_bytes(file.byte_count)}", annotation.time, annotation.author]
            for file in annotation.attachments
        ]
        rows += [[name, "taken off", annotation.time, annotation.author] for name in annotation.detached]
    if rows:
        print_table(["name", "value", "time", "by"], rows, left=4)
    else:
        print("No facts and no attachments yet.")
