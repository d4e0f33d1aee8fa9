"""Stores as versions of Pannier wrote them, kept as files: `python -m tests.kept_stores` keeps one of this version.

Done once for each version of the format, once that is frozen; until then version 1 is written anew when it changes.
"""

from __future__ import annotations

import json
import tarfile
import tempfile
from pathlib import Path
from typing import Any

import numpy as np
from PIL import Image

import pannier
from pannier.store.state import FORMAT_VERSION
from pannier.versions.naming import remove
from tests.conftest import encoded

FOLDER = Path(__file__).parent / "data"


def make(folder: Path) -> pannier.Store:
    """A small store with some of everything: two packs, a change, names that came and went, facts, a file, a long delta."""
    store = pannier.create(folder / "s.store")
    rows = [_row(number) for number in range(60)]
    options: dict[str, Any] = {"key": "id", "label": "weave", "picture": "file"}
    store.pack(rows[:30], **options, columns="loom", shares="train=60,val=40", seed=3, facts={"camera": "B"}, note="first")
    store.tag("spring", note="what the first model saw")
    store.pack(rows[30:], **options, columns="loom", note="second")
    store.start_strand("trial")
    store.change(where="label = 'twill' AND loom = 1", set="label=rib", strand="trial", note="put right")
    store.start_strand("gone", "spring")
    remove(store.strands, "gone")
    (folder / "log.txt").write_text("12 epochs\n")
    store.snapshot("spring").attach(facts={"accuracy": 0.5}, files={"results/log.txt": folder / "log.txt"})
    return store


def _row(number: int) -> dict[str, Any]:
    rng = np.random.default_rng(number)
    coarse = Image.fromarray(rng.integers(0, 256, (3, 4, 3), dtype=np.uint8)).resize((24, 18))
    weave = ("twill", "satin", "plain")[number % 3]
    kind = "png" if number % 2 else "jpeg"
    data = encoded(np.asarray(coarse), kind)
    return {"id": f"{weave}/{number:03}.{kind}", "weave": weave, "loom": number % 4 or None, "file": data}


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
                "records": [[r.key, r.label, r.split, r.sha256, r.side, list(r.size)] for r in snapshot],
            }
    plain: dict[str, Any] = json.loads(json.dumps(names))
    return plain


def main() -> None:
    with tempfile.TemporaryDirectory() as folder:
        store = make(Path(folder))
        name = FOLDER / f"store-{FORMAT_VERSION}"
        assert not name.with_suffix(".json").exists(), "kept stores are never written again"
        name.with_suffix(".json").write_text(json.dumps(told(store), indent=1, sort_keys=True) + "\n")
        with tarfile.open(f"{name}.tar.xz", "w:xz") as archive:
            archive.add(store.path, arcname="s.store")


if __name__ == "__main__":
    main()
