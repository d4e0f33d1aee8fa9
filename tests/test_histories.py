"""Random histories of deliveries against what a person would expect, who knows pictures by sight: a plain model."""

from __future__ import annotations

import functools
import hashlib
import shutil
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import numpy as np
import pytest

import pannier
from tests.conftest import draw, encoded

CLASSES = ("twill", "satin", "rib")
Picture = tuple[int, int]  # which one, and how often it was saved anew


@functools.cache
def content(picture: Picture) -> bytes:
    number, times = picture
    return encoded(draw(number, 48, 64), quality=95 - 5 * times)


@dataclass(frozen=True)
class Known:
    """A record as a person knows it: its picture, its label here, what the source said last, its split once it has one."""

    picture: Picture
    label: str
    said: str
    split: str | None = None

    def told(self, label: str) -> Known:
        """The source says a label: its word, unless it was corrected here and the source says as before."""
        is_corrected, is_as_before = self.label != self.said, label == self.said
        if not is_corrected or label == self.label:
            return replace(self, label=label, said=label)
        return self if is_as_before else replace(self, said=self.said)


class History:
    """A source that goes on, the store that it is packed into, and what a person expects to be there, by key."""

    def __init__(self, folder: Path, seed: int) -> None:
        self.rng, self.folder, self.is_table = np.random.default_rng(seed), folder / "source", bool(seed % 4 == 3)
        self.store = pannier.create(folder / "s.store")
        self.files: dict[str, Picture] = {}
        self.known: dict[str, Known] = {}
        self.drawn = 0
        self.told: dict[str, int] = dict.fromkeys(("moved", "conflicts", "corrected", "other picture", "saved anew"), 0)

    def some(self, names: Any, most: int) -> list[str]:
        listed = sorted(names)
        count = min(len(listed), int(self.rng.integers(0, most + 1)))
        return [listed[at] for at in self.rng.choice(len(listed), count, replace=False)] if count else []

    def a_class(self) -> str:
        return CLASSES[int(self.rng.integers(len(CLASSES)))]

    def new_path(self) -> str:
        self.drawn += 1
        return f"{self.a_class()}/{self.drawn:03}.jpg"

    def go_on(self) -> None:
        """What becomes of a source in a week: each file is touched once at most, and its old name is free again."""
        untouched = set(self.files)
        for _ in range(int(self.rng.integers(2, 6))):
            path = self.new_path()
            self.files[path] = (self.drawn, 0)
        for path in self.some(untouched, 2):  # into another folder, or under another name
            self.files[self.new_path()] = self.files.pop(path)
            untouched.discard(path)
        for first, second in zip(*[iter(self.some(untouched, 4))] * 2, strict=False):
            self.files[first], self.files[second] = self.files[second], self.files[first]
            untouched -= {first, second}
        for path in self.some(untouched, 2):
            number, times = self.files[path]
            self.files[path] = (number, times + 1)
            untouched.discard(path)
        for path in self.some(untouched, 1):
            self.drawn += 1
            self.files[path] = (self.drawn, 0)
            untouched.discard(path)
        for path in self.some(untouched, 1):
            del self.files[path]

    def deliver(self) -> None:
        """Packs the source as it is now, and holds what is there against what is expected."""
        expected, conflicts, moves = self.expected()
        done = self.store.pack(self.in_table() if self.is_table else self.in_folder(), **self.how())
        assert sorted(each.key for each in done.conflicts) == sorted(conflicts)
        assert done.moved == len(moves)
        self.hold(expected)
        self.told["moved"] += done.moved
        self.told["conflicts"] += len(conflicts)
        self.told["saved anew"] += done.reencoded
        self.told["other picture"] += done.changed - done.reencoded

    def expected(self) -> tuple[dict[str, Known], list[str], list[str]]:
        """Records by key, keys of conflicts, and keys of those that moved."""
        before, conflicts, moves = self.known, [], []
        named = {path: self.key_of(path, picture) for path, picture in self.files.items()}
        there = {named[path]: picture for path, picture in self.files.items()}
        left = {row.picture: key for key, row in before.items() if not self.is_table and there.get(key) != row.picture}
        expected = {key: row for key, row in before.items() if key not in there}
        gone_to = {left[picture] for picture in there.values() if picture in left}
        for path, picture in self.files.items():
            key, label = named[path], path.partition("/")[0]
            old = before.get(key)
            if picture in left:
                old = before[left[picture]]
                moves.append(key)
                if left[picture] not in there:
                    expected.pop(left[picture], None)
            elif old is not None and old.picture[0] != picture[0]:
                old = None if key in gone_to else Known(picture, label, label, old.split)
            row = Known(picture, label, label) if old is None else replace(old.told(label), picture=picture)
            if old is not None and row.label != label and row.said not in (label, row.label):
                conflicts.append(key)
            expected[key] = row
        return expected, conflicts, moves

    def hold(self, expected: dict[str, Known]) -> None:
        found = {record.key: record for record in self.store.snapshot()}
        assert found.keys() == expected.keys()
        for key, row in expected.items():
            record = found[key]
            assert record.sha256 == hashlib.sha256(content(row.picture)).hexdigest(), key
            assert record.label == row.label, (key, row)
            assert row.split in (None, record.split), (key, row)
        self.known = {key: replace(row, split=found[key].split) for key, row in expected.items()}

    def correct(self) -> None:
        """Somebody looks at some records here."""
        for key in self.some(self.known, 3):
            label = self.a_class()
            self.store.change(where=f"key = '{key}'", set={"label": label}, new_classes=True)
            self.told["corrected"] += label != self.known[key].label
            self.known[key] = replace(self.known[key], label=label)

    def key_of(self, path: str, picture: Picture) -> str:
        return hashlib.sha256(content(picture)).hexdigest()[:20] if self.is_table else path

    def how(self) -> dict[str, Any]:
        dealt = {} if self.known else {"shares": "train=70,val=30", "seed": 3}
        return dealt | ({"picture": "photo", "label": "weave"} if self.is_table else {}) | {"workers": 1}

    def in_folder(self) -> Path:
        shutil.rmtree(self.folder, ignore_errors=True)
        for path, picture in self.files.items():
            (self.folder / path).parent.mkdir(parents=True, exist_ok=True)
            (self.folder / path).write_bytes(content(picture))
        return self.folder

    def in_table(self) -> list[dict[str, Any]]:
        """Bytes without names, in another order every time, with gaps."""
        rows: list[dict[str, Any]] = [
            {"photo": content(picture), "weave": path.partition("/")[0]} for path, picture in self.files.items()
        ]
        rows += [{"photo": None, "weave": self.a_class()} for _ in range(int(self.rng.integers(0, 3)))]
        return [rows[at] for at in self.rng.permutation(len(rows))]


def test_any_history_of_deliveries_ends_as_a_person_expects(
    tmp_path: Path, scale: int, capsys: pytest.CaptureFixture[str]
) -> None:
    told: dict[str, int] = {}
    for seed in range(8 * scale):
        history = History(tmp_path / str(seed), seed)
        try:
            for _ in range(4):
                history.go_on()
                history.deliver()
                history.correct()
        except AssertionError as error:
            raise AssertionError(f"history {seed}: {error}") from error
        assert pannier.verify(history.store) == []
        told = {name: told.get(name, 0) + count for name, count in history.told.items()}
        shutil.rmtree(tmp_path / str(seed))
    with capsys.disabled():
        print(f"\n{8 * scale} histories of 4 deliveries: {', '.join(f'{count} {name}' for name, count in told.items())}")
