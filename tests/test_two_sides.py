"""Strands that have moved apart are brought together: against a plain model, and as two people would do it."""

from __future__ import annotations

import json
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
import pandas
import pyarrow as pa
import pytest

import pannier
from pannier.errors import SourceError, UsageError
from pannier.store import manifest_files
from tests.conftest import draw, encoded, fill

LABELS = ("twill", "satin", "rib")
Row = dict[str, Any]
Rows = dict[str, Row]


class Sides:
    """A store with two strands, and what each holds by key: picture, label, loom."""

    def __init__(self, path: Path, seed: int, records: int) -> None:
        self.rng, self.store = np.random.default_rng(seed), pannier.create(path)
        self.sides: dict[str, Rows] = {"main": {}}
        self.drawn = 0
        self.bring("main", [f"{i:03}.png" for i in range(records)])
        self.store.start_strand("trial")
        self.sides["trial"] = dict(self.sides["main"])
        self.base = dict(self.sides["main"])

    def bring(self, side: str, keys: list[str]) -> None:
        """Records with new pictures; a person's `label` is kept where another picture comes to its key."""
        rows = []
        for key in keys:
            self.drawn += 1
            label = str(self.rng.choice(LABELS))
            rows.append({"id": key, "weave": label, "file": encoded(draw(self.drawn, 32, 40), "png")})
            old = self.sides[side].get(key, {"loom": None})
            self.sides[side] = self.sides[side] | {key: {"picture": self.drawn, "label": label, "loom": old["loom"]}}
        if rows:
            self.store.pack(rows, key="id", label="weave", picture="file", strand=side, workers=1)

    def go_on(self, side: str) -> None:
        there = sorted(self.sides[side])[:8]
        for key in self.rng.choice(there, min(3, len(there)), replace=False).tolist():
            kind = str(self.rng.choice(["label", "loom", "remove", "picture"]))
            if kind == "picture":
                self.bring(side, [key])
                continue
            rows = dict(self.sides[side])
            if kind == "remove":
                rows.pop(key)
                self.store.change(where=f"key = '{key}'", remove=True, strand=side)
            else:
                value = str(self.rng.choice(LABELS)) if kind == "label" else int(self.rng.integers(1, 4))
                rows[key] = rows[key] | {kind: value}
                self.store.change(where=f"key = '{key}'", set={kind: value}, strand=side, new_classes=True)
            self.sides[side] = rows
        self.bring(side, [f"{side}-{int(self.rng.integers(0, 99))}.png" for _ in range(int(self.rng.integers(0, 2)))])

    def expected(self, decided: Callable[[str, str], str]) -> tuple[Rows, set[tuple[str, str]]]:
        """What comes of both, and what both have changed differently."""
        ours, theirs = self.sides["main"], self.sides["trial"]
        found, conflicts = {}, set()
        for key in {*self.base, *ours, *theirs}:
            base, one, other = (rows.get(key) for rows in (self.base, ours, theirs))
            if one == other or other == base:
                result = one
            elif one == base:
                result = other
            elif one is None or other is None:
                conflicts.add((key, "record"))
                result = one if decided(key, "record") == "ours" else other
            else:
                result = {}
                for column in ("picture", "label", "loom"):
                    b, o, t = None if base is None else base[column], one[column], other[column]
                    if o not in (b, t) and t != b:
                        conflicts.add((key, column))
                        result[column] = o if decided(key, column) == "ours" else t
                    else:
                        result[column] = t if o == b else o
            if result is not None:
                found[key] = result
        return found, conflicts

    def there(self) -> dict[str, tuple[bytes, str | None, Any]]:
        return {record.key: (record.bytes(), record.label, record.side.get("loom")) for record in self.store.snapshot()}


def test_any_two_sides_come_together_as_a_plain_model_says(
    tmp_path: Path, scale: int, capsys: pytest.CaptureFixture[str]
) -> None:
    met = 0
    for seed in range(3 * scale):
        # every change of a small store is written as a new base, those of a large one as a delta upon the base
        sides = Sides(tmp_path / str(seed), seed, (8, 240, 60)[seed % 3])
        for side in ("main", "trial", "main"):
            sides.go_on(side)
        ways = {}

        def decide(key: str, column: str, ways: dict[tuple[str, str], str] = ways, rng: Any = sides.rng) -> str:
            return ways.setdefault((key, column), str(rng.choice(["ours", "theirs"])))

        expected, conflicts = sides.expected(decide)
        head = sides.store.snapshot().id
        first = sides.store.merge("trial")
        assert {(each.key, each.column) for each in first.conflicts} == conflicts, seed
        if conflicts:
            assert (sides.store.snapshot().id, first.is_new) == (head, False), "nothing is written before all is decided"
            if not seed:
                pannier.draw(first, tmp_path / "conflicts.png")
                assert (tmp_path / "conflicts.png").exists()
            rows = first.conflict_table().to_pylist()
            decided = [row | {"take": ways[row["key"], row["column"]]} for row in rows]
            assert sides.store.merge("trial", decided=decided).conflicts == []
        want = {
            key: (encoded(draw(row["picture"], 32, 40), "png"), row["label"], row["loom"]) for key, row in expected.items()
        }
        assert sides.there() == want, seed
        merged = sides.store.snapshot()
        if merged.id != head:
            assert merged.parents == [head, sides.store.snapshot("trial").id]
        assert not sides.store.merge("trial").is_new
        sides.sides["main"] = expected
        for side in ("main", "trial", "main"):
            sides.go_on(side)
        assert {each[0] for each in sides.there().values()} == {
            encoded(draw(row["picture"], 32, 40), "png") for row in sides.sides["main"].values()
        }, seed
        sides.store.merge("trial", prefer="ours")
        sides.go_on("main")
        assert pannier.verify(sides.store) == []
        met += len(conflicts)
    with capsys.disabled():
        print(f"\n{3 * scale} pairs of strands brought together, {met} conflicts decided, each as the model has it")


def test_two_people_correct_one_dataset_and_meet(tmp_path: Path, run: Callable[..., Any]) -> None:
    ours = pannier.create(tmp_path / "ours.store")
    ours.pack(fill(tmp_path / "a", 6), shares="train=70,val=30", seed=1)
    theirs = pannier.create(tmp_path / "theirs.store")
    ours.copy("main", theirs)
    ours.change(where="key IN ('twill/0001.jpg', 'twill/0002.jpg')", set="label=satin")
    theirs.change(where="key IN ('twill/0002.jpg', 'twill/0003.jpg')", set="label=plain")
    theirs.change(where="key = 'plain/0004.jpg'", set="loom=7")
    theirs.copy("main", ours, strand="theirs")
    previewed = run("merge", ours.path, "theirs", "--preview")
    assert previewed.status == 1
    ended = run("merge", ours.path, "theirs", "--conflicts", tmp_path / "c.csv")
    assert "1 conflict: both sides have changed these, and not alike. Nothing is written." in ended.out
    assert "twill/0002.jpg  label   twill   satin  plain" in ended.out
    frame = pandas.read_csv(tmp_path / "c.csv")
    frame["take"] = "theirs"
    frame.to_csv(tmp_path / "c.csv", index=False)
    done = run("merge", ours.path, "theirs", "--decided", tmp_path / "c.csv")
    assert done.status == 0, done.err
    snapshot = ours.snapshot()
    labels = {i: snapshot[f"twill/000{i}.jpg"].label for i in (1, 2, 3)}
    assert labels == {1: "satin", 2: "plain", 3: "plain"}
    assert snapshot["plain/0004.jpg"].side["loom"] == 7
    assert snapshot["twill/0003.jpg"].source_said == {"label": "twill"}
    step = ours.history()[0]
    assert (step.merged, step.note) == ([ours.snapshot("theirs").id], "with theirs")
    ours.start_strand("theirs")
    assert ours.snapshot("theirs").id == snapshot.id, "it descends from both"
    assert json.loads(run("merge", ours.path, "theirs", "--json").out)["is_new"] is False
    ours.copy("main", theirs)
    assert theirs.snapshot().id == snapshot.id
    assert pannier.verify(theirs) == []
    assert pannier.verify(ours) == []


def test_what_would_leak_is_refused_and_what_is_wrong_is_said(tmp_path: Path) -> None:
    store = pannier.create(tmp_path / "s.store")
    store.pack(fill(tmp_path / "a", 6), shares="train=70,val=30", seed=1)
    store.start_strand("trial")
    new = encoded(draw(999))
    for strand, key, split in (("main", "one.jpg", "train"), ("trial", "two.jpg", "val")):
        store.pack(
            [{"id": key, "label": "twill", "file": new, "part": split}],
            key="id",
            picture="file",
            split_by="part",
            strand=strand,
        )
    with pytest.raises(SourceError, match="one picture is in two splits: 'one.jpg' in train and 'two.jpg' in val"):
        store.merge("trial")
    with pytest.raises(UsageError, match="it has no column 'take'"):
        store.merge("trial", decided=[{"key": "a", "column": "label"}])
    with pytest.raises(UsageError, match="prefer = 'mine': must be 'ours' or 'theirs'"):
        store.merge("trial", prefer="mine")
    behind = store.start_strand("behind", store.snapshot().parents[0])
    assert store.merge("main", strand="behind").snapshot.id == store.snapshot().id != behind.id


def test_small_changes_of_two_strands_meet_and_the_strand_goes_on(tmp_path: Path) -> None:
    store = pannier.create(tmp_path / "s.store")
    store.pack(fill(tmp_path / "a", 80), shares="train=80,val=20", seed=1)
    store.start_strand("trial")
    store.change(where="key = 'twill/0001.jpg'", set="label=satin")
    store.change(where="key = 'satin/0001.jpg'", set="label=plain", strand="trial")
    assert store.merge("trial", preview=True).conflicts == []
    store.merge("trial")
    store.start_strand("wide")
    store.change(where="key LIKE 'twill/%'", set="loom=7", strand="wide")
    store.change(where="key = 'plain/0001.jpg'", set="loom=3")
    store.merge("wide")
    assert store.snapshot().document["delta"] is None, "so large a merge is a new base"
    store.change(where="key = 'plain/0002.jpg'", set="label=twill")
    store.change(where="key = 'plain/0003.jpg'", remove=True)
    snapshot = store.snapshot()
    assert (snapshot["plain/0002.jpg"].label, snapshot["plain/0001.jpg"].side["loom"]) == ("twill", 3)
    assert "plain/0003.jpg" not in snapshot
    assert pannier.verify(store) == []


def test_a_base_that_was_written_with_nullable_columns_is_read_and_told(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    store = pannier.create(tmp_path / "s.store")
    with monkeypatch.context() as patched:
        nullable = lambda schema: pa.schema([field.with_nullable(True) for field in schema])  # noqa: E731
        patched.setattr(manifest_files, "_schema_of", nullable)
        store.pack(fill(tmp_path / "a", 80), shares="train=80,val=20", seed=1)
    store = pannier.open_store(tmp_path / "s.store")
    for key in ("twill/0001.jpg", "twill/0002.jpg"):
        store.change(where=f"key = '{key}'", set="label=satin")
    assert store.snapshot().document["delta"]
    (finding,) = pannier.verify(store)
    assert (finding.is_damage, "declares columns nullable" in finding.problem) == (False, True)
    store.change(where="key LIKE 'plain/%'", set="loom=7")
    assert store.snapshot().document["delta"] is None
    store.change(where="key = 'twill/0003.jpg'", set="label=satin")
    assert store.snapshot()["twill/0001.jpg"].label == "satin"
