"""Stores as versions of Pannier wrote them, kept as files: `python -m tests.kept_stores` keeps one of this version.

Done once for each version of the format: what is kept here is never written again.
"""

from __future__ import annotations

import hashlib
import json
import tarfile
import tempfile
from datetime import datetime
from pathlib import Path
from typing import Any

import numpy as np
from PIL import Image

import pannier
from pannier.store.state import FORMAT_VERSION
from pannier.versions.naming import remove
from tests.conftest import encoded

FOLDER = Path(__file__).parent / "data"


TREATMENT: dict[str, Any] = {"crop": {"area": [0.5, 1]}, "turn": [-9, 9], "brightness": [0.8, 1.2], "flip": "horizontal"}


def make(folder: Path) -> pannier.Store:
    """A small store with some of everything: packs that move, correct and leave out, a change, names that came and went,
    facts, files, a long delta, strands brought together, canvases, miniatures; a docket beside it."""
    store = pannier.create(folder / "s.store")
    rows = [_row(number) for number in range(60)]
    options: dict[str, Any] = {"key": "id", "label": "weave", "picture": "file", "columns": "loom,threads,note,dyed,woven"}
    first = [*rows[:30], {"id": "plain/broken.png", "weave": "plain", "file": b"no picture"}]
    dealt: dict[str, Any] = {"shares": "train=60,val=40", "seed": 3, "near": 6, "group_by": "loom"}
    store.pack(first, **options, **dealt, prefix="mill", facts={"camera": "B", "lux": 400}, note="first")
    store.tag("spring", note="what the first model saw")
    store.change(where="key LIKE '%/001.%'", set="label=basket", new_classes=True, note="corrected here")
    moved = [row | {"id": "moved/" + row["id"]} if number % 7 == 0 else row for number, row in enumerate(rows)]
    store.pack(moved, **options, prefix="mill", note="second, some of it moved")
    store.start_strand("trial")
    store.change(where="label = 'twill' AND loom = 1", set="label=rib", new_classes=True, strand="trial", note="put right")
    store.merge("trial", note="brought together")
    store.start_strand("gone", "spring")
    remove(store.strands, "gone")
    (folder / "log.txt").write_text("12 epochs\n")
    store.snapshot("spring").attach(
        facts={"accuracy": 0.5}, files={"results/log.txt": folder / "log.txt", "old": folder / "log.txt"}
    )
    store.snapshot("spring").attach(facts={"by": "the mill"}, remove=["old"])
    treatment = pannier.Treatment((12, 16), **TREATMENT)
    store.snapshot().render("train", treatment)
    docket = store.snapshot("spring").docket("train", treatment, batch_size=8, seed=5, store="s.store")
    (folder / "train.docket").write_text(docket.text())
    return store


def _row(number: int) -> dict[str, Any]:
    rng = np.random.default_rng(number)
    coarse = Image.fromarray(rng.integers(0, 256, (3, 4, 3), dtype=np.uint8)).resize((24, 18))
    weave = ("twill", "satin", "plain")[number % 3]
    kind = "png" if number % 2 else "jpeg"
    data = encoded(np.asarray(coarse), kind)
    side = {
        "loom": number % 4 or None,
        "threads": number / 8,
        "note": f"für {number}" if number % 5 else None,
        "dyed": number % 2 == 0,
        "woven": datetime(2026, 3, 1 + number % 28, 6, 30),
    }
    return {"id": f"{weave}/{number:03}.{kind}", "weave": weave, **side, "file": data}


def told(store: pannier.Store) -> dict[str, Any]:
    """All that a user is told of a store, as plain data."""
    names = {}
    for kind in (store.strands, store.tags):
        for name in kind.all_names():
            snapshot = store.snapshot(name)
            names[f"{kind.kind}/{name}"] = {
                "id": snapshot.id,
                "content_id": snapshot.content_id,
                "classes": snapshot.classes,
                "facts": snapshot.facts,
                "attachments": [(each.name, each.sha256) for each in snapshot.attachments],
                "history": [step.id for step in store.history(name)],
                "left_out": snapshot.left_out,
                "records": [[r.key, r.label, r.split, r.sha256, r.side, list(r.size)] for r in snapshot],
            }
    snapshot, treatment = store.snapshot(), pannier.Treatment((12, 16), **TREATMENT)
    for rendered in (False, True):
        names[f"batches, rendered {rendered}"] = batches_of(snapshot.feed("train", treatment, seed=5, rendered=rendered))
    docket = store.path.parent / "train.docket"
    names["batches by docket"] = batches_of(pannier.from_docket(docket))
    plain: dict[str, Any] = json.loads(json.dumps(names, default=str))
    return plain


def batches_of(feed: pannier.Feed) -> list[Any]:
    """Keys, classes and SHA-256 of arrays of the first two epochs."""
    with feed:
        batches = [batch for epoch in feed.epochs(2) for batch in epoch]
        return [[b.keys, b.labels.tolist(), hashlib.sha256(b.images.tobytes()).hexdigest()] for b in batches]


def main() -> None:
    with tempfile.TemporaryDirectory() as folder:
        store = make(Path(folder))
        name = FOLDER / f"store-{FORMAT_VERSION}"
        assert not name.with_suffix(".json").exists(), "kept stores are never written again"
        name.with_suffix(".json").write_text(json.dumps(told(store), indent=1, sort_keys=True) + "\n")
        with tarfile.open(f"{name}.tar.xz", "w:xz") as archive:
            for path in (store.path, store.path.parent / "train.docket"):
                archive.add(path, arcname=path.name)


if __name__ == "__main__":
    main()
