"""Rules over a source's columns: what comes in, and under which key, label and split."""

from __future__ import annotations

import json
from collections.abc import Callable
from pathlib import Path

import pytest

import pannier
from pannier.errors import SourceError, UsageError
from pannier.sources.folders import FolderSource
from pannier.sources.rules import Rules
from pannier.sources.several import choose
from tests.conftest import Ended, draw, encoded, fill


@pytest.fixture
def heap(tmp_path: Path) -> Path:
    """One flat folder whose names carry everything."""
    folder = tmp_path / "heap"
    folder.mkdir()
    for i in range(24):
        weave, loom = ("twill", "satin")[i % 2], i % 3 + 1
        (folder / f"{weave}_loom{loom}_{i:03}.jpg").write_bytes(encoded(draw(i)))
    (folder / "nameless.jpg").write_bytes(encoded(draw(99)))
    return folder


def test_labels_come_out_of_names_by_a_pattern_and_fields_are_columns(heap: Path, store: pannier.Store) -> None:
    result = store.pack(
        heap,
        label_pattern="{label}_loom{loom}_{number}",
        where="loom IS NULL OR loom <> '3'",
        columns="CAST(loom AS INT) as loom",
    )
    snapshot = result.snapshot
    assert snapshot.counts == {("twill", None): 8, ("satin", None): 8}
    assert snapshot["twill_loom1_000.jpg"].side == {"loom": 1}
    kinds = [(item.kind, item.key) for item in result.left_out]
    assert len([kind for kind, _ in kinds if kind == "rule"]) == 8
    assert ("no label", "nameless.jpg") in kinds
    assert {item["kind"] for item in snapshot.left_out} == {"rule", "no label"}


def test_label_key_and_split_are_expressions(heap: Path, store: pannier.Store) -> None:
    snapshot = store.pack(
        heap,
        label="nullif(regexp_extract(stem, '^([a-z]+)_', 1), '')",
        key="concat(regexp_extract(stem, '([0-9]+)$', 1), '.jpg')",
        split_by="CASE WHEN stem LIKE '%loom1%' THEN 'test' END",
        shares={"train": 50, "val": 50},
        allow_missing_classes=True,
    ).snapshot
    assert snapshot["000.jpg"].split == "test"
    assert snapshot.splits == {"train": 8, "val": 8, "test": 8}


def test_side_columns_are_as_the_source_says_and_others_stay(tmp_path: Path, store: pannier.Store) -> None:
    folder = fill(tmp_path / "a", 2)
    first = store.pack(folder, columns="upper(parent) as loud").snapshot
    taken = store.pack(folder, columns=["lower(parent) as loud", "bytes"]).snapshot
    assert taken["twill/0000.jpg"].side == {"loud": "twill", "bytes": taken["twill/0000.jpg"].byte_count}
    assert taken.document["changes"] == [["columns", label, None, 2] for label in ("plain", "satin", "twill")]
    assert first["twill/0000.jpg"].side == {"loud": "TWILL"}
    more = store.pack(fill(tmp_path / "b", 1, first=50)).snapshot
    assert more["twill/0050.jpg"].side == {"loud": None, "bytes": None}
    assert more["twill/0000.jpg"].side["loud"] == "twill"
    with pytest.raises(UsageError, match="holds int64 in the store and string in the source"):
        store.pack(fill(tmp_path / "c", 1, first=60), columns="CAST(bytes AS TEXT) as bytes")


@pytest.mark.parametrize(
    ("rule", "says"),
    [
        ({"label": "weave"}, "`label` weave: there is no column 'weave'; there is"),
        ({"label": "steem"}, "did you mean 'stem'"),
        ({"label": "1 +"}, "syntax error"),
        ({"label": "count(*)"}, "a rule gives one value for each row; one for all rows is written (SELECT"),
        ({"label": "stem) FROM source; DROP TABLE source; SELECT (1"}, "`label`"),
        ({"label": "(SELECT content FROM read_text('/etc/hostname'))"}, "read_text reads what is not given"),
        ({"label": "stem + 1"}, "No function matches"),
        ({"where": "stem"}, "is not true or false but text"),
        ({"columns": "bytes + 1"}, "give the expression a name"),
        ({"columns": "parent as label"}, "every record has that already"),
        ({"columns": "parent, top as parent"}, "twice"),
        ({"columns": "[1, 2] as list"}, "a side column holds numbers, text, flags or times"),
        ({"label_pattern": "{a}_{a}"}, "each once"),
        ({"label_pattern": "{name}"}, "the source has a column 'name' already"),
    ],
)
def test_rules_that_cannot_be_run_are_said(tmp_path: Path, store: pannier.Store, rule: dict[str, str], says: str) -> None:
    with pytest.raises(UsageError) as caught:
        store.pack(fill(tmp_path / "a", 1), **rule)
    assert says in str(caught.value)
    assert "\n" not in str(caught.value)
    assert store.strands.head("main") is None


def test_keys_that_are_none_or_twice_are_refused(tmp_path: Path) -> None:
    source = FolderSource(fill(tmp_path / "a", 2))
    for rule, says in (("'x'", "have one key 'x'"), ("'../x' || name", "which is none"), ("NULL::TEXT", "which is none")):
        with pytest.raises(SourceError, match=says):
            choose(source, Rules(key=rule))


def test_what_no_condition_leaves_is_said(heap: Path, store: pannier.Store) -> None:
    with pytest.raises(SourceError, match="no picture of heap is left by `where` bytes < 0"):
        store.pack(heap, where="bytes < 0")
    with pytest.raises(SourceError, match="no picture of heap gets a label"):
        store.pack(heap, label="NULL")


def test_a_preview_packs_nothing_and_tells_all(heap: Path, tmp_path: Path, run: Callable[..., Ended]) -> None:
    words = ("pack", heap, tmp_path / "s.store", "--label-pattern", "{label}_loom{loom}_{number}", "--rename", "satin=twill")
    words = (*words, "--where", "loom IS NULL OR loom < '3'", "--preview")
    seen = json.loads(run(*words, "--json").out)
    assert (seen["rows"], seen["funnel"][0]["rows"], seen["without_label"]) == (25, 17, 1)
    assert seen["counts"] == [{"label": "twill", "split": None, "records": 16}]
    assert seen["origins"] == {"twill": {"satin": 8, "twill": 8}}
    shown = run(*words)
    assert shown.status == 0
    assert "17 of 25 rows are left by --where" in shown.out
    assert "twill is made of satin (8), twill (8)" in shown.out
    assert not (tmp_path / "s.store").exists()


def test_values_of_windows_go_to_the_rows_that_they_are_of(tmp_path: Path, store: pannier.Store) -> None:
    """What pandas gives by row, every kind of rule must give by row, whatever order a query answers in."""
    folder = fill(tmp_path / "a", 20)
    frame = FolderSource(folder).table().to_pandas().set_index("path")
    rank = frame.groupby("parent", observed=True)["bytes"].rank(method="first", ascending=False).astype(int)
    order = "PARTITION BY parent ORDER BY bytes DESC, path"
    snapshot = store.pack(
        folder,
        label=f"'r' || CAST(row_number() OVER ({order}) % 4 AS TEXT)",
        split_by=f"CASE WHEN row_number() OVER ({order}) <= 5 THEN 'test' ELSE 'train' END",
        columns=[f"row_number() OVER ({order}) as rank", "(SELECT max(bytes) FROM source) as most"],
        group_by=f"CAST(row_number() OVER ({order}) AS TEXT) || parent",
        where=f"row_number() OVER ({order}) <= 18",
        allow_missing_classes=True,
    ).snapshot
    assert len(snapshot) == 54
    for record in snapshot:
        number = rank[record.key]
        assert (record.label, record.split) == (f"r{number % 4}", "test" if number <= 5 else "train"), record.key
        assert record.side == {
            "rank": number,
            "most": frame["bytes"].max(),
            "group": f"{number}{frame['parent'][record.key]}",
        }
    keyed = store.pack(folder, key="lpad(CAST(row_number() OVER (ORDER BY path DESC) AS TEXT), 3, '0')", prefix="k").snapshot
    backward = sorted(frame.index, reverse=True)
    source = {record.key: record.sha256 for record in snapshot}
    assert all(keyed[f"k/{i:03}"].sha256 == source[key] for i, key in enumerate(backward, 1) if key in source)


def test_conditions_with_windows_choose_the_records_that_they_are_true_of(store: pannier.Store, tmp_path: Path) -> None:
    first = store.pack(fill(tmp_path / "a", 20)).snapshot
    where = "row_number() OVER (PARTITION BY label ORDER BY byte_count DESC, key) <= 2"
    largest = set()
    for label in first.classes:
        rows = sorted((r for r in first if r.label == label), key=lambda r: (-r.byte_count, r.key))
        largest |= {record.key for record in rows[:2]}
    with first.feed(None, where=where, shuffle=False) as feed:
        assert {key for batch in feed for key in batch.keys} == largest
    changed = store.change(where=where, set="label=large", new_classes=True).snapshot
    assert {record.key for record in changed if record.label == "large"} == largest


def test_an_empty_label_is_none_and_hidden_folders_are_no_classes(tmp_path: Path, store: pannier.Store) -> None:
    folder = fill(tmp_path / "a", 3)
    for hidden in (".ipynb_checkpoints", "@eaDir", "twill/.thumbs", "__MACOSX"):
        fill(folder / hidden, 1, ("plain",), first=70)
    (folder / "twill" / ".0099.jpg").write_bytes(encoded(draw(99)))
    result = store.pack(folder, label="CASE WHEN parent = 'satin' THEN ' ' ELSE parent END")
    assert result.snapshot.classes == ["plain", "twill"]
    assert {item.key for item in result.left_out if item.kind == "no label"} == {f"satin/000{i}.jpg" for i in range(3)}
    told = {item.key for item in result.left_out if item.kind == "hidden"}
    assert told == {".ipynb_checkpoints", "@eaDir", "twill/.thumbs", "__MACOSX", "twill/.0099.jpg"}
    with pytest.raises(UsageError, match="an empty label is none"):
        store.change(set="label=", all=True)
    with pytest.raises(UsageError, match="old=new"):
        store.change(rename={"twill": " "})
