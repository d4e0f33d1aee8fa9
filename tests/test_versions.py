"""Versions: names, history, comparison, going back, facts and attachments, queries."""

from __future__ import annotations

import json
import shutil
from collections.abc import Callable
from pathlib import Path

import pytest
from PIL import Image

import pannier
from pannier.errors import ConflictError, DamageError, NotFoundError, UsageError
from pannier.versions.naming import remove, rename
from tests.conftest import Ended, draw, encoded, fill


@pytest.fixture
def store(tmp_path: Path) -> pannier.Store:
    """Two seasons: ten pictures a class, then five more; main has two snapshots, the first is tagged spring."""
    store = pannier.create(tmp_path / "s.store")
    store.pack(fill(tmp_path / "a", 10), shares="train=70,val=30", seed=2, note="first", facts={"camera": "B"})
    store.tag("spring")
    store.pack(fill(tmp_path / "b", 5, first=40), note="second")
    return store


def test_a_docket_that_names_a_store_on_this_machine_makes_no_request(own: pannier.Snapshot, tmp_path: Path) -> None:
    docket = own.docket("train", size=16, store="http://localhost:9/x.store")
    (tmp_path / "x.docket").write_text(docket.text())
    with pytest.raises(UsageError, match="a store on this very machine"):
        pannier.from_docket(tmp_path / "x.docket")
    with pannier.from_docket(tmp_path / "x.docket", store=own.store.path) as feed:
        assert feed.records


def test_history_tells_what_every_snapshot_changed(store: pannier.Store, run: Callable[..., Ended], tmp_path: Path) -> None:
    store.change(where="key = 'twill/0001.jpg'", set="label=satin", note="put right", facts="seed=7")
    newest, second, first = store.history()
    assert [step.note for step in (first, second, newest)] == ["first", "second", "put right"]
    assert (first.totals, second.totals, newest.totals) == ({"added": 30}, {"added": 15}, {"relabelled": 1})
    assert second.by_class["twill"] == {"added": 5}
    assert (first.names, newest.names) == (["spring"], ["main"])
    assert (first.facts, newest.facts) == ({"camera": "B"}, {"seed": 7})
    shown = run("history", store.path, "--figure", tmp_path / "h.png")
    assert shown.status == 0
    assert "1 relabelled" in shown.out
    assert "[spring]  first  camera=B" in shown.out
    with Image.open(tmp_path / "h.png") as figure:
        assert figure.size == (1280, 800)
    assert [step["note"] for step in json.loads(run("history", f"{store.path}@spring", "--json").out)] == ["first"]


def test_the_history_of_a_record_tells_who_changed_it(
    store: pannier.Store, tmp_path: Path, run: Callable[..., Ended]
) -> None:
    key = "twill/0001.jpg"
    store.change(where=f"key = '{key}'", set={"label": "satin", "loom": 7})
    store.change(where="label = 'plain'", remove=True)
    (tmp_path / "c" / "twill").mkdir(parents=True)
    (tmp_path / "c" / key).write_bytes(encoded(draw(77)))
    store.pack(tmp_path / "c")
    store.change(where=f"key = '{key}'", remove=True)
    store.pack(tmp_path / "c")
    assert [step.what for step in store.history(key=key)] == [
        ["came"],
        ["went"],
        ["picture", "label"],
        ["label", "loom"],
        ["came"],
    ]
    told = run("history", store.path, key).out
    assert "label twill -> satin, loom - -> 7" in told
    assert "came as twill in" in told
    with pytest.raises(NotFoundError, match=r"twill/0001\.jpeg' was ever in main; did you mean"):
        store.history(key="twill/0001.jpeg")


def test_a_strand_starts_without_copying_and_is_taken_over_only_forwards(
    store: pannier.Store, run: Callable[..., Ended]
) -> None:
    before = sorted(path for path in store.path.rglob("*") if path.is_file())
    assert run("strand", store.path, "trial").status == 0
    made = {path for path in store.path.rglob("*") if path.is_file()} - set(before)
    assert [path.relative_to(store.path).as_posix() for path in made] == ["strands/trial/00000001.json"]
    changed = store.change(where="label = 'twill'", set="label=satin", strand="trial").snapshot
    assert store.snapshot("main").id != changed.id
    assert run("strand", f"{store.path}@trial", "main").status == 0
    assert store.snapshot("main").id == changed.id
    store.change(where="label = 'satin'", set="loom=1", strand="main")
    refused = run("strand", f"{store.path}@trial", "main")
    assert refused.status == 1
    assert "main has snapshots that trial has not" in refused.err
    with pytest.raises(ConflictError):
        store.start_strand("main", "spring")
    assert pannier.verify(store) == []


def test_names_are_renamed_and_removed_by_entries(store: pannier.Store, run: Callable[..., Ended]) -> None:
    store.start_strand("trial", "spring")
    rename(store.strands, "trial", "second-trial")
    assert store.strands.all_names() == ["main", "second-trial"]
    assert run("strand", store.path, "second-trial", "--remove").status == 2
    assert run("strand", store.path, "second-trial", "--remove", "--yes").status == 0
    assert store.strands.all_names() == ["main"]
    with pytest.raises(NotFoundError, match="second-trial"):
        store.snapshot("second-trial")
    store.start_strand("second-trial", "spring")
    assert [entry.snapshot is None for entry in store.strands.entries("second-trial")] == [False, True, False]
    second = store.snapshot("main").id
    with pytest.raises(UsageError, match="say `overwrite`"):
        store.tag("spring", "main")
    assert run("tag", store.path, "spring", "--overwrite", "--note", "moved on").status == 0
    assert store.snapshot("spring").id == second
    assert "moved on" in run("tag", store.path).out
    with pytest.raises(UsageError, match="is a tag already"):
        store.start_strand("spring")
    remove(store.tags, "spring")
    assert store.tags.all_names() == []
    assert pannier.verify(store) == []


def test_going_back_is_a_new_snapshot(store: pannier.Store, run: Callable[..., Ended]) -> None:
    spring = store.snapshot("spring")
    shown = run("change", store.path, "--as-of", "spring", "--preview")
    assert "15 records would change" in shown.out
    result = store.change(as_of="spring")
    assert (result.is_new, result.changes[0][0]) == (True, "removed")
    assert result.snapshot.content_id == spring.content_id
    assert result.snapshot.id != spring.id
    assert len(store.history()) == 3
    assert not store.change(as_of="spring").is_new
    again = store.pack(store.path.parent / "b").snapshot
    assert len(again) == 45
    with pytest.raises(UsageError, match="goes alone"):
        store.change(as_of="spring", where="true")
    assert pannier.verify(store) == []


def test_compare_tells_every_kind_of_change(store: pannier.Store, tmp_path: Path, run: Callable[..., Ended]) -> None:
    before = store.snapshot()
    store.change(where="key = 'twill/0001.jpg'", set="label=linen", new_classes=True)
    store.change(from_=[{"key": "twill/0002.jpg", "split": "val"}, {"key": "twill/0003.jpg", "split": "train"}])
    store.change(where="key = 'twill/0004.jpg'", set="loom=1")
    store.change(where="key = 'plain/0005.jpg'", remove=True)
    anew = tmp_path / "c" / "satin"
    anew.mkdir(parents=True)
    with Image.open(tmp_path / "a" / "satin" / "0002.jpg") as picture:
        picture.save(anew / "0002.jpg", quality=60)
    (anew / "0003.jpg").write_bytes(encoded(draw(901)))
    (anew / "0900.jpg").write_bytes(encoded(draw(902)))
    after = store.pack(tmp_path / "c").snapshot
    found = pannier.compare(before, after)
    moved = sum(before[key].split != after[key].split for key in ("twill/0002.jpg", "twill/0003.jpg"))
    assert found.counts == {
        "added": 1, "removed": 1, "reencoded": 1, "moved": 0, "changed": 1, "relabelled": 1, "resplit": moved, "columns": 1,
    }  # fmt: skip
    assert found.class_numbers == [("linen", None, 3)]
    rows = {row["key"]: row for row in found.table().to_pylist()}
    assert rows["satin/0002.jpg"]["change"] == "reencoded"
    assert (rows["twill/0001.jpg"]["label_before"], rows["twill/0001.jpg"]["label"]) == ("twill", "linen")
    names = (f"{store.path}@{before.id[:12]}", store.path)
    shown = run("compare", *names, "--figure", tmp_path / "c.png", "--fail-on-change")
    assert shown.status == 1
    assert "twill -> linen" in shown.out
    assert (tmp_path / "c.png").exists()
    assert json.loads(run("compare", *names, "--json").out)["counts"]["added"] == 1
    assert run("compare", store.path, store.path, "--fail-on-change").status == 0


def test_two_stores_and_a_folder_are_compared_by_what_they_hold(store: pannier.Store, tmp_path: Path) -> None:
    other = pannier.create(tmp_path / "other.store")
    both = [tmp_path / "a", tmp_path / "b"]
    for folder in both[::-1]:
        other.pack(folder, shard_size=20_000)
    found = pannier.compare(store.snapshot(), other.snapshot())
    assert {kind: number for kind, number in found.counts.items() if number} == {"resplit": 45}
    folder = pannier.compare(store.snapshot("spring"), tmp_path / "a")
    assert (folder.is_same, folder.unknown) == (True, ["splits", "side columns"])
    changed = tmp_path / "d"
    shutil.copytree(tmp_path / "a", changed)
    (changed / "twill" / "0001.jpg").rename(changed / "satin" / "0801.jpg")
    (changed / "twill" / "0002.jpg").write_bytes(encoded(draw(55)))
    counts = pannier.compare(store.snapshot("spring"), changed).counts
    assert (counts["added"], counts["removed"], counts["changed"], counts["moved"]) == (0, 0, 1, 1)
    with pytest.raises(UsageError, match="no store, folder or docket"):
        pannier.compare(tmp_path / "nowhere", changed)


def test_facts_and_files_are_added_later_and_stay(store: pannier.Store, tmp_path: Path, run: Callable[..., Ended]) -> None:
    spring = store.snapshot("spring")
    (tmp_path / "run.npz").write_bytes(b"weights" * 999)
    said = ("attach", f"{store.path}@spring", "--fact", "accuracy=0.93", "--file", tmp_path / "run.npz")
    assert run(*said, "--as", "results/run-3.npz").status == 0
    snapshot = store.snapshot("spring")
    assert snapshot.id == spring.id
    assert snapshot.facts == {"camera": "B", "accuracy": 0.93}
    assert [(each.author != "", list(each.facts)) for each in snapshot.additions] == [(True, ["accuracy"])]
    assert snapshot.attachment("results/run-3.npz").bytes() == b"weights" * 999
    listed = run("attach", f"{store.path}@spring").out
    assert "results/run-3.npz  file, 6.8 KiB" in listed
    snapshot.attach(files={"notes.txt": tmp_path / "run.npz"}, remove=["results/run-3.npz"])
    assert [each.name for each in snapshot.attachments] == ["notes.txt"]
    assert len(list((store.path / "files").iterdir())) == 1
    assert pannier.verify(store) == []
    for wrong, says in (
        ({"files": {"../x": tmp_path / "run.npz"}}, "must be a relative path"),
        ({"files": {"x": tmp_path / "nowhere"}}, "there is no file"),
        ({"remove": ["notes.tx"]}, "did you mean 'notes.txt'"),
        ({"facts": {"a b": 1}}, "a key has letters"),
        ({}, "say what to add"),
    ):
        with pytest.raises(UsageError, match=says):
            snapshot.attach(**wrong)  # type: ignore[arg-type]
    file = store.path / snapshot.attachments[0].file
    file.write_bytes(file.read_bytes()[:-1] + b"x")
    with pytest.raises(DamageError, match=r"notes\.txt"):
        snapshot.attachments[0].bytes()
    assert [finding.file for finding in pannier.verify(store)] == [snapshot.attachments[0].file]


def test_sql_sees_records_and_nothing_else(store: pannier.Store, tmp_path: Path, run: Callable[..., Ended]) -> None:
    before = store.snapshot()
    store.change(from_=[{"key": "twill/0001.jpg", "predicted": "satin"}, {"key": "twill/0002.jpg", "predicted": "twill"}])
    snapshot = store.snapshot()
    asked = snapshot.query("SELECT key, number FROM records WHERE predicted <> label")
    assert asked.to_pylist() == [{"key": "twill/0001.jpg", "number": 2}]
    both = before.query("SELECT count(*) AS n FROM before JOIN after USING (key, sha256)", after=snapshot)
    assert both.to_pylist() == [{"n": 45}]
    counted = run("query", store.path, "SELECT label, count(*) AS n FROM records GROUP BY label ORDER BY label", "--csv")
    assert counted.out.splitlines() == ['"label","n"', '"plain",15', '"satin",15', '"twill",15']
    for wrong in ("SELECT * FROM read_text('/etc/hostname')", "SELECT lable FROM records", "COPY records TO 'x.csv'", ""):
        refused = run("query", store.path, wrong)
        assert refused.status == 2
        assert "Traceback" not in refused.err
    assert "did you mean 'label'" in run("query", store.path, "SELECT lable FROM records").err
    frame = snapshot.frame(where="label = 'twill'")
    assert list(frame["key"]) == sorted(record.key for record in snapshot if record.label == "twill")
    with snapshot.feed(None, where="predicted <> label") as feed:
        assert [key for batch in feed for key in batch.keys] == ["twill/0001.jpg"]


def test_a_snapshot_without_records_keeps_its_place_in_history(store: pannier.Store) -> None:
    ids = [step.id for step in store.history()]
    empty = store.change(where="true", remove=True).snapshot
    assert len(empty) == 0
    again = store.pack(store.path.parent / "a", allow_missing_classes=True).snapshot
    back = store.change(as_of=empty.id).snapshot
    assert [step.id for step in store.history()] == [back.id, again.id, empty.id, *ids]
    assert pannier.compare(empty, back).is_same
    assert back.classes == ["plain", "satin", "twill"]
    assert pannier.verify(store) == []


def test_a_query_may_name_a_column_twice_and_is_one_statement(own: pannier.Snapshot, run: Callable[..., Ended]) -> None:
    twice = "SELECT label, key AS label, split AS label_1 FROM records LIMIT 2"
    assert own.query(twice).column_names == ["label", "label_2", "label_1"]
    for form in ((), ("--json",), ("--csv",)):
        done = run("query", own.store.path, twice, *form)
        assert (done.status, "label_2" in done.out) == (0, True), done.err
    assert "one statement is wanted" in run("query", own.store.path, "SELECT 1; SELECT 2").err
