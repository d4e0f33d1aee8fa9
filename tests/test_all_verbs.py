"""All verbs that write, in any order, on stores of 8 to 240 records, against a plain model of what a person expects."""

from __future__ import annotations

import functools
import shutil
from collections import Counter, defaultdict
from concurrent.futures import ProcessPoolExecutor
from multiprocessing import get_context
from pathlib import Path
from typing import Any

import numpy as np
import pytest

import pannier
from pannier.errors import ConflictError, SourceError
from tests.conftest import draw, encoded

LABELS = ("twill", "satin", "rib", "plain")
STEPS = 24
OPTIONS: dict[str, Any] = {"key": "id", "label": "weave", "picture": "file", "columns": "bolt", "seed": 3, "workers": 1}
# what a record is: the number of its picture, label, split, and side columns
Row = dict[str, Any]
Rows = dict[str, Row]


@functools.cache
def picture(number: int) -> bytes:
    return encoded(draw(number, 12, 16), "png")


class History:
    """A store under random operations, and beside it what every snapshot must hold."""

    def __init__(self, folder: Path, seed: int) -> None:
        self.rng, self.folder, self.seed = np.random.default_rng(seed), folder, seed
        self.store, self.backup = (pannier.create(folder / f"{name}.store") for name in ("s", "backup"))
        self.numbers, self.done = iter(range(1, 1 << 30)), Counter[str]()
        self.by_picture: dict[bytes, int] = {}
        self.content: dict[str, Rows] = {}
        self.lines: dict[str, list[str]] = {}
        self.tags: dict[str, str] = {}
        self.source: dict[str, tuple[str, int, str]] = {}
        for number in range((8, 60, 240)[seed % 3]):
            self.bring(f"k/{number:03}.png")
        first = {**OPTIONS, "shares": "train=60,val=20,test=20"}
        if seed % 2:
            first["group_by"] = "bolt"
        self.groups = bool(seed % 2)
        self.pack("main", [*self.source], first)

    def bring(self, key: str, double_of: str | None = None) -> None:
        """The source has a picture with some label: a new one, or another's with that one's group."""
        bolt = self.source[key][2] if key in self.source else f"b{self.rng.integers(40)}"
        number, bolt = self.source[double_of][1:] if double_of else (next(self.numbers), bolt)
        self.by_picture[picture(number)] = number
        self.source[key] = (str(self.rng.choice(LABELS)), number, bolt)

    def head(self, strand: str) -> Rows:
        return self.content[self.lines[strand][-1]]

    def some(self, keys: Any, most: int) -> list[str]:
        keys = sorted(keys)
        return [
            str(key) for key in self.rng.choice(keys, min(len(keys), int(self.rng.integers(1, most + 1))), replace=False)
        ]

    def seen(self, snapshot: pannier.Snapshot) -> Rows:
        return {
            record.key: {
                "picture": self.by_picture[record.bytes()],
                "label": record.label,
                "split": record.split,
                **{name: record.side.get(name) for name in ("loom", "bolt")},
            }
            for record in snapshot
        }

    def took(self, strand: str, snapshot: pannier.Snapshot, want: Rows, *, dealt: bool = False) -> None:
        """Holds a strand's new snapshot against what was wanted. dealt: splits that are None there were dealt now."""
        got = self.seen(snapshot)
        assert got.keys() == want.keys(), (self.seed, sorted(got.keys() ^ want.keys())[:5])
        for key, row in want.items():
            expected = row if not dealt or row["split"] is not None else row | {"split": got[key]["split"]}
            assert got[key] == expected, (self.seed, key, got[key], expected)
        if self.lines.get(strand, [""])[-1] != snapshot.id:
            self.lines.setdefault(strand, []).append(snapshot.id)
        self.content[snapshot.id] = got
        assert self.store.snapshot(strand).id == snapshot.id
        splits = defaultdict(set)
        for row in got.values():
            splits[row["picture"]].add(row["split"])
            if self.groups:
                splits[row["bolt"]].add(row["split"])
        assert all(len(each - {None}) <= 1 for each in splits.values()), (self.seed, "a picture or a group is in two splits")

    # the verbs

    def pack(self, strand: str, keys: list[str], options: dict[str, Any] | None = None) -> None:
        options = dict(OPTIONS if options is None else options)
        before = self.head(strand) if strand in self.lines else {}
        frozen = str(self.rng.choice(["none", "test"])) if before else "none"
        mirror = bool(before) and self.rng.random() < 0.2
        takes_source = self.rng.random() < 0.2
        said = {record.key: record.source_said for record in self.store.snapshot(strand)} if before else {}
        rows = [
            {"id": key, "weave": self.source[key][0], "file": picture(self.source[key][1]), "bolt": self.source[key][2]}
            for key in keys
        ]
        options |= {"strand": strand, "freeze": frozen, "remove_missing": mirror, "ties": "leave-out"}
        options |= {"relabel": "source"} if takes_source else {}
        done = self.store.pack(rows, **options)
        left = {each.key: each.kind for each in done.left_out}
        assert frozen != "none" or not left, (self.seed, left)
        want = {key: row for key, row in before.items() if key in keys or not mirror or key in left}
        for key in keys:
            label, number, bolt = self.source[key]
            old = before.get(key)
            if old is None:
                if key not in left:
                    want[key] = {"picture": number, "label": label, "split": None, "loom": None, "bolt": bolt}
                continue
            stays = key in left
            picture_now = old["picture"] if stays else number
            before_said = (said[key] or {}).get("label", old["label"])
            is_corrected = before_said not in (old["label"],) and label != old["label"]
            keeps = is_corrected and not takes_source and picture_now == old["picture"]
            moves = picture_now != old["picture"] and not stays
            split = None if moves else old["split"]
            want[key] = old | {"picture": picture_now, "label": old["label"] if keeps else label, "split": split}
        # a record that leaves its key while its picture comes under another goes on there: tests/test_state_machine.py
        gone = {row["picture"] for key, row in before.items() if key not in want or want[key]["picture"] != row["picture"]}
        moved = {
            key
            for key in want
            if want[key]["picture"] in gone and before.get(key, {}).get("picture") != want[key]["picture"]
        }
        left_behind = {want[key]["picture"] for key in moved}
        moved |= {key for key in want if key in before and before[key]["picture"] in left_behind and key in keys}
        got = self.seen(done.snapshot) if moved else {}
        assert all(got[key]["picture"] == want[key]["picture"] for key in moved)
        self.took(strand, done.snapshot, want | {key: got[key] for key in moved}, dealt=True)
        for key, row in before.items():
            if frozen != "none" and row["split"] == frozen:
                now = self.head(strand)[key]
                assert (now["picture"], now["split"]) == (row["picture"], row["split"]), (self.seed, key)

    def deliver(self, strand: str) -> None:
        keys = self.some(self.source, max(1, len(self.source) // 4))
        for key in self.some(keys, 3):
            self.bring(key)
        for _ in range(int(self.rng.integers(0, 3))):
            key = f"k/{len(self.source):03}.png"
            self.bring(key)
            keys.append(key)
            if self.rng.random() < 0.3:  # and once more under another name
                double = f"k/{len(self.source):03}.png"
                self.bring(double, key)
                keys.append(double)
        self.pack(strand, [*self.source] if self.rng.random() < 0.2 else list(dict.fromkeys(keys)))

    def correct(self, strand: str) -> None:
        before = self.head(strand)
        if not before:
            return
        kind = str(self.rng.choice(["label", "loom", "remove", "split", "table"]))
        keys = self.some(before, 3)
        want = dict(before)
        told = ", ".join(f"'{key}'" for key in keys)
        if kind == "remove":
            done = self.store.change(where=f"key IN ({told})", remove=True, strand=strand)
            stays = {each.key for each in done.left_out if each.kind == "frozen"}
            assert {before[key]["split"] for key in stays} <= {"test"}
            want = {key: row for key, row in before.items() if key not in keys or key in stays}
        elif kind == "table":
            rows = [{"key": key, "label": str(self.rng.choice(LABELS)), "loom": int(self.rng.integers(9))} for key in keys]
            done = self.store.change(from_=rows, strand=strand, new_classes=True)
            want |= {row["key"]: before[row["key"]] | {name: row[name] for name in ("label", "loom")} for row in rows}
        else:
            value: Any = {"label": LABELS[self.rng.integers(4)], "loom": int(self.rng.integers(9)), "split": "train"}[kind]
            if kind == "split":  # what belongs together moves together
                pictures = {before[key]["picture"] for key in keys}
                bolts = {before[key]["bolt"] for key in keys}
                while True:
                    found = {
                        key
                        for key, row in before.items()
                        if row["picture"] in pictures or (self.groups and row["bolt"] in bolts)
                    }
                    more = {before[key]["picture"] for key in found}, {before[key]["bolt"] for key in found}
                    if (pictures, bolts) == more or ((pictures == more[0]) and not self.groups):
                        break
                    pictures, bolts = more
                keys = sorted(found)
                told = ", ".join(f"'{key}'" for key in keys)
            done = self.store.change(
                where=f"key IN ({told})", set={kind: value}, strand=strand, new_classes=True, freeze="none"
            )
            want |= {key: before[key] | {kind: value} for key in keys}
        self.took(strand, done.snapshot, want)

    def rename(self, strand: str) -> None:
        before = self.head(strand)
        old, new = (str(each) for each in self.rng.choice(LABELS, 2, replace=False))
        if old not in {row["label"] for row in before.values()}:
            return
        done = self.store.change(rename={old: new}, strand=strand)
        want = {key: row | {"label": new if row["label"] == old else row["label"]} for key, row in before.items()}
        self.took(strand, done.snapshot, want)

    def go_back(self, strand: str) -> None:
        older = str(self.rng.choice(self.lines[strand]))
        self.took(strand, self.store.change(as_of=older, strand=strand).snapshot, self.content[older])

    def part(self, strand: str) -> None:
        if "trial" not in self.lines:
            self.store.start_strand("trial", "main")
            self.lines["trial"] = list(self.lines["main"])

    def ancestors(self, snapshot_id: str) -> list[str]:
        """A snapshot and all that led to it, newest first as far as that can be said."""
        found, waiting = dict[str, None](), [snapshot_id]
        while waiting:
            at = waiting.pop(0)
            if at not in found:
                found[at] = None
                waiting += self.store.snapshot(at).parents
        return [*found]

    def merge(self, _: str) -> None:
        if "trial" not in self.lines:
            return
        ours, theirs = self.lines["main"][-1], self.lines["trial"][-1]
        common = set(self.ancestors(ours)) & set(self.ancestors(theirs))
        bases = [each for each in common if not any(each in self.ancestors(other)[1:] for other in common if other != each)]
        prefer = str(self.rng.choice(["ours", "theirs"]))
        try:
            done = self.store.merge("trial", prefer=prefer)
        except SourceError:  # both sides gave a picture, or a group, a split of its own
            assert self.store.snapshot().id == ours
            self.done["merges that would leak, refused"] += 1
            self.store.remove_strand("trial")
            del self.lines["trial"]
            return
        want = got = self.seen(done.snapshot)
        if len(bases) == 1:
            want = merged(*(self.content[each] for each in (bases[0], ours, theirs)), prefer)
            left = {each.key for each in done.left_out}  # a frozen split stays as it is on our side
            assert all("frozen" in each.reason or "goes with" in each.reason for each in done.left_out)
            want = {key: got.get(key, row) for key, row in want.items() if key not in left or key in got}
            want |= {key: got[key] for key in left & got.keys()}
        self.took("main", done.snapshot, want)
        if self.rng.random() < 0.5:
            self.store.start_strand("trial", "main")
            self.lines["trial"] = list(self.lines["main"])

    def end_trial(self, _: str) -> None:
        if "trial" in self.lines:
            self.store.remove_strand("trial")
            del self.lines["trial"]

    def tag(self, strand: str) -> None:
        name = str(self.rng.choice(["spring", "autumn"]))
        self.store.tag(name, strand, overwrite=True)
        self.tags[name] = self.lines[strand][-1]

    def attach(self, strand: str) -> None:
        number = int(self.rng.integers(99))
        snapshot = self.store.snapshot(strand)
        (self.folder / "run.txt").write_text(f"run {number}")
        snapshot.attach(facts={f"run{number}": number}, files={f"runs/{number}.txt": self.folder / "run.txt"})
        assert self.store.snapshot(strand).facts[f"run{number}"] == number

    def tidy(self, _: str) -> None:
        self.store.tidy(older_than=0, yes=True)
        kept = {each for line in (*self.lines.values(), *([tag] for tag in self.tags.values())) for each in line}
        self.lines = {strand: [each for each in line if each in kept] for strand, line in self.lines.items()}

    def copy(self, strand: str) -> None:
        other = self.folder / "other.store"
        store = pannier.open_store(other) if other.exists() else pannier.create(other)
        try:
            self.store.copy(strand, store)
        except ConflictError:
            return
        assert self.seen(store.snapshot(strand)) == self.head(strand)

    def mirror(self, _: str) -> None:
        self.store.copy_all(self.backup)
        assert not [each for each in pannier.verify(self.backup, against=self.store) if each.is_damage]

    def damage_and_repair(self, _: str) -> None:
        """Any one file is changed, cut or lost: found, or of no account; a mirror brings it back."""
        self.mirror("")
        files = [path for path in sorted(self.store.path.rglob("*")) if path.is_file() and "leases" not in path.parts]
        path = files[self.rng.integers(len(files))]
        kind, content = str(self.rng.choice(["flip", "cut", "lose"])), bytearray(path.read_bytes())
        path.chmod(0o600)
        if kind == "lose" or not content:
            path.unlink()
        elif kind == "cut":
            path.write_bytes(content[: self.rng.integers(len(content))])
        else:
            content[self.rng.integers(len(content))] ^= 1 << self.rng.integers(8)
            path.write_bytes(content)
        left = pannier.verify(self.store.path, repair_from=self.backup)
        assert not [each for each in left if each.is_damage], (self.seed, kind, path.name, left)
        self.store = pannier.open_store(self.store.path)

    def lay_out(self, strand: str) -> None:
        snapshot, out = self.store.snapshot(strand), self.folder / "out"
        snapshot.export(out / "a", layout="flat", docket=out.parent / "a.docket")
        pannier.restore(out.parent / "a.docket", out / "b", store=self.store.path)
        laid = [sorted((path.name, path.read_bytes()) for path in (out / each).rglob("*.png")) for each in ("a", "b")]
        assert laid[0] == laid[1]
        assert sorted(content for _, content in laid[0]) == sorted(record.bytes() for record in snapshot)
        shutil.rmtree(out)

    def run(self, steps: int) -> Counter[str]:
        verbs = {
            "deliver": 6, "correct": 6, "rename": 1, "go_back": 1, "part": 2, "merge": 3, "end_trial": 1, "tag": 1,
            "attach": 1, "tidy": 1, "copy": 1, "mirror": 1, "damage_and_repair": 1, "lay_out": 1,
        }  # fmt: skip
        names, weights = [*verbs], np.array([*verbs.values()], float)
        for _ in range(steps):
            verb = str(self.rng.choice(names, p=weights / weights.sum()))
            strand = str(self.rng.choice(sorted(self.lines)))
            getattr(self, verb)(strand)
            self.done[verb] += 1
            if self.rng.random() < 0.1:
                self.store = pannier.open_store(self.store.path)
        for strand, line in self.lines.items():
            assert self.seen(self.store.snapshot(strand)) == self.content[line[-1]]
        for name, snapshot_id in self.tags.items():
            assert self.seen(self.store.snapshot(name)) == self.content[snapshot_id]
        assert not [each for each in pannier.verify(self.store) if each.is_damage]
        return self.done


def merged(base: Rows, ours: Rows, theirs: Rows, prefer: str) -> Rows:
    """What comes of both sides, by key and column, where one has changed what the other has not."""
    found = {}
    for key in {*base, *ours, *theirs}:
        old, one, other = (rows.get(key) for rows in (base, ours, theirs))
        preferred = one if prefer == "ours" else other
        if one == other or other == old:
            row = one
        elif one == old:
            row = other
        elif one is None or other is None:
            row = preferred
        else:
            row = {}
            for name in one:
                before = None if old is None else old[name]
                if other[name] == before or one[name] == other[name]:
                    row[name] = one[name]
                else:
                    row[name] = other[name] if one[name] == before else preferred[name]  # type: ignore[index]
        if row is not None:
            found[key] = row
    return found


def _one(folder: str, seed: int, steps: int) -> Counter[str]:
    where = Path(folder) / str(seed)
    where.mkdir()
    try:
        return History(where, seed).run(steps)
    finally:
        shutil.rmtree(where, ignore_errors=True)


@pytest.mark.proof
def test_all_verbs_in_any_order_do_what_a_person_expects(
    tmp_path: Path, scale: int, capsys: pytest.CaptureFixture[str]
) -> None:
    histories, done = 3 if scale == 1 else 10 * scale, Counter[str]()
    with ProcessPoolExecutor(1 if scale == 1 else 2, mp_context=get_context("spawn")) as pool:
        for each in pool.map(functools.partial(_one, str(tmp_path), steps=STEPS), range(histories)):
            done += each
    with capsys.disabled():
        print(
            f"\n{histories} histories of {STEPS} operations: "
            + ", ".join(f"{n:,} {name}" for name, n in sorted(done.items()))
        )
