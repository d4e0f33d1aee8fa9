"""Hostile input: what a stranger made does not crash, hang or take memory without bound: it ends in an error of ours."""

from __future__ import annotations

import json
import subprocess
import sys
import zlib
from pathlib import Path

import pytest

import pannier
from fuzz.inputs import INPUTS
from fuzz.readers import READERS
from pannier.errors import DamageError, SourceError, TreatmentError, UsageError
from pannier.store.documents import canonical, digest, sealed
from pannier.store.leases import leases


@pytest.mark.proof
@pytest.mark.parametrize("reader", sorted(READERS))
def test_no_input_of_a_stranger_provokes_more_than_an_error_of_ours(reader: str, scale: int) -> None:
    # in a process of its own: children are forked, which no threads must see
    how_long = ["--count", "5"] if scale == 1 else ["--seconds", "120", "--first", "1000"]
    command = [sys.executable, "-m", "fuzz", reader, *how_long]
    ended = subprocess.run(command, capture_output=True, text=True, check=False, cwd=Path(__file__).parent.parent)
    assert ended.returncode == 0, ended.stdout
    told = json.loads(ended.stdout)
    print(f"\n{told['inputs']} {reader}: {told.get('taken', 0)} taken, {told.get('refused', 0)} refused, nothing else")


def test_texts_that_are_no_texts_are_said(tmp_path: Path) -> None:
    (tmp_path / "a.jsonl").write_bytes(b'{"photo": "a\xff.jpg", "weave": "twill"}\n')
    with pytest.raises(SourceError, match="cannot be read as a table: .*UTF8"):
        pannier.survey(tmp_path / "a.jsonl")
    for rows in ([{"photo": "\ud800"}], [{"photo": 1 << 70}], [{1: 2}], [{"photo": object()}]):
        with pytest.raises(SourceError, match="the rows cannot be read as a table"):
            pannier.survey(rows)


def test_names_of_columns_that_are_no_texts_are_said(own: pannier.Snapshot) -> None:
    folder = own.store.path
    before = own.document["base"]
    path = folder / "manifests" / f"{before['name']}.arrow"
    content = path.read_bytes().replace(b"progressive", b"\xffrogressive")
    (folder / "manifests" / f"{digest(content)}.arrow").write_bytes(content)
    told = before | {"name": digest(content), "crc32": zlib.crc32(content)}
    document = canonical(dict(own.document) | {"base": told})
    (folder / "snapshots" / f"{digest(document)}.json").write_bytes(document)
    with pytest.raises(DamageError, match="it cannot be read as a manifest"):
        own.store.snapshot(digest(document))


@pytest.mark.parametrize("table", [[{}] * 256, [[0] * 256, [0] * 3], "a" * 256, [None] * 256, {"a": 1}])
def test_a_table_of_values_that_is_none_is_said(table: object) -> None:
    with pytest.raises(TreatmentError, match="table"):
        pannier.Treatment(size=8, values="table", table=table)  # type: ignore[arg-type]


def test_queries_that_fail_leave_no_threads(packed: pannier.Snapshot) -> None:
    errors = []
    before = len(list(Path("/proc/self/task").iterdir()))
    for number in range(30):
        with pytest.raises(UsageError) as caught:
            packed.query(f"SELECT nowhere{number} FROM records")
        errors.append(caught.value)
    assert len(list(Path("/proc/self/task").iterdir())) < before + 15


@pytest.mark.proof
def test_an_input_that_asks_for_very_much_ends_soon_and_in_little_memory(scale: int) -> None:
    command = [sys.executable, "-m", "fuzz.inputs", *([*INPUTS] if scale > 1 else [*INPUTS][1::6])]
    ended = subprocess.run(command, capture_output=True, text=True, check=False, cwd=Path(__file__).parent.parent)
    print("\n" + ended.stdout)
    assert ended.returncode == 0, ended.stdout


@pytest.mark.parametrize(
    ("field", "value", "says"),
    [
        ("parents", ["../../elsewhere"], "parents.0: String should match pattern"),
        ("records", -1, "records: Input should be greater than or equal to 0"),
        ("records", 10**30, "records: Input should be less than or equal to"),
        ("classes", ["plain", "plain", "satin", "twill"], "its classes are not those that its records have"),
        ("classes", {"plain": 0}, "classes: Input should be a valid "),
        ("counts", [["plain", "train", 60]] * 2, "its counts do not sum up"),
        ("facts", {"camera": {"deep": 1}}, "facts.camera"),
        ("shares", [["train", "1/0"]], "its shares cannot be read"),
        ("base", None, "base: Input should be "),
        ("recipes", [{"source": ["a"], "per_class": "many"}], "recipes.0.per_class: Input should be a valid integer"),
        ("recipes", [{"label": "weave"}], "recipes.0.source: Field required"),
        ("unheard", 1, "unheard: Extra inputs are not permitted"),
        ("note", "half \ud800", "it is not JSON"),
    ],
)
def test_a_forged_document_is_refused_by_its_field(own: pannier.Snapshot, field: str, value: object, says: str) -> None:
    folder = own.store.path
    document = json.loads((folder / "snapshots" / f"{own.id}.json").read_text()) | {field: value}
    try:
        content = canonical(document)
    except UnicodeEncodeError:
        content = json.dumps(document, sort_keys=True, indent=2).encode()
    forged = digest(content)
    (folder / "snapshots" / f"{forged}.json").write_bytes(content)
    with pytest.raises(DamageError) as caught:
        own.store.snapshot(forged)
    assert says in str(caught.value)
    assert any(finding.is_damage and forged in finding.file for finding in own.store.verify())


@pytest.mark.parametrize(
    "forged",
    [b"{}", b"[" * 100_000, b'{"a": ' + b"9" * 5000 + b"}", b"\xff\xfe", sealed({"kind": "writer"})],
    ids=["empty", "deep", "long", "bytes", "fields"],
)
def test_a_lease_that_cannot_be_is_nobodys(own: pannier.Snapshot, archive: Path, forged: bytes) -> None:
    folder = own.store.path / "leases"
    folder.mkdir(exist_ok=True)
    (folder / f"tidier-{'0' * 16}-000001.json").write_bytes(forged)
    assert leases(own.store.storage) == []
    assert own.store.change(where="label = 'plain'", set="label=twill").is_new
    assert [finding for finding in own.store.verify() if finding.is_damage] == []


def test_a_lease_cannot_hold_for_ever(own: pannier.Snapshot) -> None:
    folder = own.store.path / "leases"
    folder.mkdir(exist_ok=True)
    told = {
        "kind": "tidier",
        "author": "a",
        "host": "h",
        "process": 1,
        "machine": "other",
        "started": "now",
        "snapshots": [],
    }
    (folder / f"tidier-{'0' * 16}-000001.json").write_bytes(sealed(told | {"seconds": 10**9}))
    assert leases(own.store.storage) == []
