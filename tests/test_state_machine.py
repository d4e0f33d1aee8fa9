"""A store against a plain dictionary: any operations in any order, two stores, two strands."""

from __future__ import annotations

import functools
import shutil
import tempfile
from pathlib import Path
from typing import Any

import pytest
from hypothesis import HealthCheck, Phase, settings
from hypothesis import strategies as st
from hypothesis.stateful import RuleBasedStateMachine, initialize, invariant, precondition, rule, run_state_machine_as_test

import pannier
from pannier.errors import ConflictError
from pannier.hashing import text_hash
from tests.conftest import draw, encoded

KEYS = [f"{weave}/{i}.png" for weave in ("twill", "satin") for i in range(4)]
LABELS = ("twill", "satin", "rib")
PICTURES = 5
STRANDS = ("main", "trial")

Content = dict[str, tuple[str, int, int | None, str]]  # by key: label, picture, loom, label as the source said it last


@functools.cache
def picture(number: int) -> bytes:
    return encoded(draw(number, 12, 16), "png")


def seen(content: Content) -> frozenset[tuple[str, str, int, int | None]]:
    """What readers see of it."""
    return frozenset((key, *row[:3]) for key, row in content.items())


def continued(before: Content, rows: dict[str, tuple[str, int]], gone: set[str]) -> dict[str, str | None]:
    """By key of the rows the record that each continues: its own, or that of its picture, which has left its key."""
    by_hash = sorted(rows, key=lambda key: (text_hash(key), key))
    other = [key for key in by_hash if key in before and before[key][1] != rows[key][1]]
    left = sorted({*other, *gone}, key=lambda key: (text_hash(key), key))
    origins: dict[str, str | None] = {key: key if key in before else None for key in rows}
    taken = []
    for key in by_hash:
        if key in other or key not in before:
            match = next((old for old in left if before[old][1] == rows[key][1] and old not in taken), None)
            if match is not None:
                origins[key] = match
                taken.append(match)
    return {key: None if origin == key and key in other and key in taken else origin for key, origin in origins.items()}


def delivered(old: tuple[str, int, int | None, str] | None, label: str, number: int) -> tuple[str, int, int | None, str]:
    """A record as a source delivers it: the source's word, unless it was corrected here and the source says as before."""
    if old is None:
        return (label, number, None, label)
    here, picture_before, loom, said = old
    if picture_before != number or said == here or label == here:
        return (label, number, loom, label)
    return (here, number, loom, said)


class StoreMachine(RuleBasedStateMachine):
    """Each store's strands as lists of contents, oldest first: what the real stores must say too."""

    @initialize()
    def begin(self) -> None:
        self.folder = Path(tempfile.mkdtemp())
        self.stores = [pannier.create(self.folder / f"{i}.store") for i in range(2)]
        self.strands: list[dict[str, list[tuple[str, Content]]]] = [{}, {}]
        self.tags: list[dict[str, tuple[str, Content]]] = [{}, {}]
        self.ids: dict[Any, str] = {}

    def head(self, which: int, strand: str) -> Content:
        line = self.strands[which].get(strand)
        return dict(line[-1][1]) if line else {}

    def took(self, which: int, strand: str, result: Any, content: Content, before: Content) -> None:
        assert result.is_new == (content != before)
        if result.is_new:
            self.strands[which].setdefault(strand, []).append((result.snapshot.id, content))

    @rule(
        which=st.integers(0, 1),
        strand=st.sampled_from(STRANDS),
        rows=st.dictionaries(
            st.sampled_from(KEYS), st.tuples(st.sampled_from(LABELS), st.integers(0, PICTURES - 1)), min_size=1, max_size=4
        ),
        mirror=st.booleans(),
    )
    def pack(self, which: int, strand: str, rows: dict[str, tuple[str, int]], mirror: bool) -> None:
        before = self.head(which, strand)
        origins = continued(before, rows, {*before} - {*rows} if mirror else set())
        after = {key: value for key, value in before.items() if key not in rows and not mirror}
        for key, (label, number) in rows.items():
            origin = origins[key]
            after[key] = delivered(None if origin is None else before[origin], label, number)
        source = [{"id": key, "weave": label, "file": picture(number)} for key, (label, number) in rows.items()]
        options = {
            "key": "id",
            "label": "weave",
            "picture": "file",
            "remove_missing": mirror,
            "strand": strand,
            "workers": 1,
        }
        self.took(which, strand, self.stores[which].pack(source, **options), after, before)

    @precondition(lambda self: any(self.strands))
    @rule(data=st.data(), label=st.sampled_from(LABELS), loom=st.integers(1, 3))
    def change(self, data: st.DataObject, label: str, loom: int) -> None:
        which, strand = self.some_strand(data)
        before = self.head(which, strand)
        keys = data.draw(st.lists(st.sampled_from(KEYS), min_size=1, unique=True))
        chosen = [key for key in keys if key in before]
        if not chosen:
            return
        kind = data.draw(st.sampled_from(("label", "loom", "remove")))
        table = [{"key": key} for key in chosen]
        after = dict(before)
        for key in chosen:
            old = before[key]
            if kind == "remove":
                del after[key]
            else:
                after[key] = (label, *old[1:]) if kind == "label" else (*old[:2], loom, old[3])
        said: dict[str, Any] = {"remove": True} if kind == "remove" else {"set": {kind: label if kind == "label" else loom}}
        said["new_classes"] = True
        self.took(which, strand, self.stores[which].change(from_=table, strand=strand, **said), after, before)

    @precondition(lambda self: any(self.strands))
    @rule(data=st.data())
    def go_back(self, data: st.DataObject) -> None:
        which, strand = self.some_strand(data)
        snapshot_id, content = data.draw(st.sampled_from(self.strands[which][strand]))
        before = self.head(which, strand)
        is_same = seen(content) == seen(before)
        after = before if is_same else dict(content)
        self.took(which, strand, self.stores[which].change(as_of=snapshot_id, strand=strand), after, before)

    @precondition(lambda self: any(self.strands))
    @rule(data=st.data(), onto=st.sampled_from(STRANDS))
    def start_or_take_over(self, data: st.DataObject, onto: str) -> None:
        which, strand = self.some_strand(data)
        line, there = self.strands[which][strand], self.strands[which].get(onto)
        descends = there is None or there[-1][0] in [snapshot_id for snapshot_id, _ in line]
        try:
            self.stores[which].start_strand(onto, strand)
        except ConflictError:
            assert not descends
            return
        assert descends
        self.strands[which][onto] = list(line)

    @precondition(lambda self: any(self.strands))
    @rule(data=st.data(), tag=st.sampled_from(("spring", "autumn")))
    def tag(self, data: st.DataObject, tag: str) -> None:
        which, strand = self.some_strand(data)
        self.stores[which].tag(tag, strand, overwrite=True)
        self.tags[which][tag] = self.strands[which][strand][-1]

    @precondition(lambda self: any(self.strands))
    @rule(data=st.data())
    def copy(self, data: st.DataObject) -> None:
        which, strand = self.some_strand(data)
        line, there = self.strands[which][strand], self.strands[1 - which].get(strand)
        descends = there is None or there[-1][0] in [snapshot_id for snapshot_id, _ in line]
        try:
            self.stores[which].copy(strand, self.stores[1 - which])
        except ConflictError:
            assert not descends
            return
        assert descends
        self.strands[1 - which][strand] = list(line)

    @precondition(lambda self: any(self.strands))
    @rule(data=st.data())
    def delete_a_strand(self, data: st.DataObject) -> None:
        from pannier.versions.naming import remove

        which, strand = self.some_strand(data)
        remove(self.stores[which].strands, strand)
        del self.strands[which][strand]

    @rule(which=st.integers(0, 1))
    def tidy(self, which: int) -> None:
        self.stores[which].tidy(older_than=0, yes=True)

    @rule(which=st.integers(0, 1))
    def open_again(self, which: int) -> None:
        self.stores[which] = pannier.open_store(self.stores[which].path)

    def some_strand(self, data: st.DataObject) -> tuple[int, str]:
        return data.draw(st.sampled_from([(i, strand) for i in range(2) for strand in sorted(self.strands[i])]))

    @invariant()
    def every_name_says_what_the_dictionary_says(self) -> None:
        for which, store in enumerate(getattr(self, "stores", ())):
            assert store.strands.all_names() == sorted(self.strands[which])
            assert store.tags.all_names() == sorted(self.tags[which])
            heads = {strand: line[-1] for strand, line in self.strands[which].items()} | self.tags[which]
            for name, (snapshot_id, content) in heads.items():
                snapshot = store.snapshot(name)
                assert snapshot.id == snapshot_id
                found = {r.key: (r.label, r.bytes(), r.side.get("loom")) for r in snapshot}
                assert found == {key: (label, picture(n), loom) for key, (label, n, loom, _) in content.items()}
                assert self.ids.setdefault(seen(content), snapshot.content_id) == snapshot.content_id

    def teardown(self) -> None:
        for which, store in enumerate(getattr(self, "stores", ())):
            assert [finding for finding in pannier.verify(store) if finding.is_damage] == []
            for strand, line in self.strands[which].items():
                assert [step.id for step in store.history(strand)] == [snapshot_id for snapshot_id, _ in line[::-1]]
        shutil.rmtree(self.folder, ignore_errors=True)


@pytest.mark.proof
def test_any_operations_in_any_order_agree_with_a_dictionary(scale: int) -> None:
    run_state_machine_as_test(
        StoreMachine,
        settings=settings(
            max_examples=4 if scale == 1 else 12 * scale,
            stateful_step_count=14 if scale == 1 else 30,
            deadline=None,
            phases=(Phase.generate,),
            report_multiple_bugs=False,
            derandomize=scale == 1,
            suppress_health_check=list(HealthCheck),
        ),
    )
