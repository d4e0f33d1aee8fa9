"""Changing what is there: from tables, in bulk, by renaming, by dealing anew; and nothing on a preview."""

from __future__ import annotations

import json
from collections.abc import Callable
from pathlib import Path

import pandas
import pytest

import pannier
from pannier.errors import SourceError, UsageError
from tests.conftest import Ended, fill


@pytest.fixture
def store(tmp_path: Path) -> pannier.Store:
    store = pannier.create(tmp_path / "s.store")
    store.pack(fill(tmp_path / "a", 10), shares="train=70,val=30", seed=2)
    return store


def shards(store: pannier.Store) -> list[str]:
    return sorted(path.name for path in (store.path / "shards").iterdir())


def test_a_table_brings_labels_splits_and_side_columns_in(store: pannier.Store, tmp_path: Path) -> None:
    before = shards(store)
    table = tmp_path / "checked.csv"
    table.write_text(
        "key ,label,predicted,certainty,checked\n"
        "twill/0001.jpg,satin,satin,0.9,2024-05-01\n"
        "twill/0002.jpg,, twill,0.5,\n"
        "twill/nowhere.jpg,satin,satin,1,\n"
    )
    result = store.change(from_=table, note="checked by hand")
    snapshot = result.snapshot
    assert (result.is_new, result.unknown) == (True, ["twill/nowhere.jpg"])
    assert snapshot["twill/0001.jpg"].label == "satin"
    assert snapshot["twill/0002.jpg"].label == "twill"
    assert snapshot["twill/0002.jpg"].side == {"predicted": "twill", "certainty": 0.5, "checked": None}
    assert sorted(row[0] for row in result.changes) == ["columns", "relabelled"]
    assert shards(store) == before
    assert not store.change(from_=table).is_new
    frame = pandas.DataFrame({"key": ["plain/0000.jpg"], "split": ["val"]})
    assert store.change(from_=frame).snapshot["plain/0000.jpg"].split == "val"
    assert pannier.verify(store) == []


def test_records_are_changed_in_bulk_removed_and_renamed(store: pannier.Store) -> None:
    done = store.change(where="key LIKE 'twill/000_.jpg' AND width > 60", set={"label": "satin", "loom": 7})
    changed = [record for record in done.snapshot if record.side["loom"] == 7]
    assert changed
    assert all(record.label == "satin" and record.key.startswith("twill/") and record.size[1] > 60 for record in changed)
    assert store.change(where="loom = 7", set="loom=NULL").snapshot["twill/0001.jpg"].side["loom"] is None
    gone = store.change(where="label = 'plain'", remove=True)
    assert len(gone.snapshot) == 20
    assert {row[0] for row in gone.changes} == {"removed"}
    assert gone.snapshot.classes == ["plain", "satin", "twill"]
    joined = store.change(rename="twill=satin").snapshot
    assert {record.label for record in joined} == {"satin"}
    assert pannier.verify(store) == []
    assert len(store.pack(store.path.parent / "a").snapshot) == 30


def test_dealing_anew_moves_all_but_what_is_frozen(store: pannier.Store) -> None:
    old = {record.key: record.split for record in store.snapshot()}
    store.change(freeze="val")
    result = store.change(shares={"train": 50, "test": 50}, seed=9)
    new = {record.key: record.split for record in result.snapshot}
    assert all(new[key] == "val" for key, split in old.items() if split == "val")
    assert result.snapshot.splits == {"train": 12, "val": 9, "test": 9}
    assert {row[0] for row in result.changes} == {"resplit"}
    assert result.snapshot.document["seed"] == 9
    kept = store.change(where="split = 'val'", remove=True)
    assert (kept.is_new, len(kept.left_out)) == (False, 9)
    assert store.change(freeze="none", carve="check=50%", of="val", seed=1).snapshot.splits["check"] == 3


def test_a_preview_changes_nothing(store: pannier.Store, run: Callable[..., Ended]) -> None:
    before = store.strands.head("main")
    words = ("change", store.path, "--where", "label = 'twill'", "--set", "label=satin", "--preview")
    shown = run(*words)
    assert shown.status == 0
    assert "10 records would change; nothing is written." in shown.out
    assert "twill/0000.jpg  twill -> satin  " in shown.out
    facts = json.loads(run(*words, "--json").out)
    assert sum(row["records"] for row in facts["changes"]) == 10
    assert store.strands.head("main") == before


@pytest.mark.parametrize(
    ("said", "says"),
    [
        ({}, "say what to change"),
        ({"remove": True}, "say which records"),
        ({"where": "label = 'x'", "set": "width=3"}, "fact of the picture"),
        ({"where": "lable = 'x'", "set": "label=y"}, "did you mean 'label'"),
        ({"rename": "twil=satin"}, "did you mean 'twill'"),
        ({"from_": [{"keys": "a", "label": "b"}]}, "no column 'key'"),
        ({"from_": [{"key": "a", "label": "b"}, {"key": "a", "label": "c"}]}, "is there twice"),
        ({"set": "source_said=label"}, "fact of the picture"),
        ({"from_": [{"key": "twill/00011.jpg", "label": "b"}]}, "did you mean 'twill/0001.jpg'"),
        ({"set": "label"}, "write a column and its value"),
        ({"remove": True, "where": "true", "set": "label=x"}, "`remove` goes alone"),
        ({"set": "split=train"}, "`set` split=... without `where` or `from_` would change every record: say which"),
        ({"set": {"loom": 7}}, "would change every record"),
        ({"set": "loom=7", "where": "true", "all": True}, "`all` and `where`"),
        ({"rename": "twill=satin", "all": True}, "`all` goes with `set`"),
    ],
)
def test_a_change_that_makes_no_sense_is_said(store: pannier.Store, said: dict[str, object], says: str) -> None:
    head = store.strands.head("main")
    with pytest.raises((UsageError, SourceError), match=says):
        store.change(**said)
    assert store.strands.head("main") == head


def test_what_is_typed_stays_text_where_text_is_kept(store: pannier.Store) -> None:
    store.change(where="label = 'twill'", set={"batch": "a1"})
    typed = store.change(
        where="key = 'twill/0001.jpg'", set=["label=007", "batch=12", "loom=7", "sure=true"], new_classes=True
    ).snapshot
    assert typed["twill/0001.jpg"].label == "007"
    assert typed["twill/0001.jpg"].side == {"batch": "12", "loom": 7, "sure": True}
    with pytest.raises(UsageError, match="the column holds int64"):
        store.change(set="loom=seven", all=True)


def test_every_record_is_changed_where_that_is_said_and_show_tells_what_splits_hold_since(
    store: pannier.Store, run: Callable[..., Ended]
) -> None:
    refused = run("change", store.path, "--set", "split=train")
    assert refused.status == 2
    assert (
        "--set split=... without --where or --from would change every record: say which with --where, or --all"
        in refused.err
    )
    dealt = next(line for line in run("show", store.path).out.splitlines() if line.startswith("dealt"))
    assert "now" not in dealt
    assert run("change", store.path, "--set", "split=train", "--all").status == 0
    assert store.snapshot().splits == {"train": len(store.snapshot())}
    dealt = next(line for line in run("show", store.path).out.splitlines() if line.startswith("dealt"))
    assert dealt.endswith("; now train 100 %, val 0 %, test 0 %") or dealt.endswith("; now train 100 %, val 0 %")


def test_groups_and_near_doubles_can_be_said_of_what_is_there(store: pannier.Store) -> None:
    rule = "regexp_extract(key, '000([0-9])', 1)"
    with pytest.raises(SourceError, match="group '[0-9]' is in two splits"):
        store.change(group_by=rule)
    grouped = store.change(group_by=rule, shares="train=70,val=30", note="by number").snapshot
    splits: dict[str, set[str | None]] = {}
    for record in grouped:
        splits.setdefault(record.side["group"], set()).add(record.split)
    assert sorted(splits) == [str(number) for number in range(10)]
    assert all(len(each) == 1 for each in splits.values())
    assert grouped.dealing.group_by == rule
    assert store.change(near=0).snapshot.dealing.near == 0
    assert pannier.verify(store) == []
