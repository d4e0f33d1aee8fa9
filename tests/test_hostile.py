"""Hostile input: what a stranger made does not crash, hang or take memory without bound: it ends in an error of ours."""

from __future__ import annotations

import json
import subprocess
import sys
from pathlib import Path

import pytest

import pannier
from pannier.errors import DamageError, PictureError
from pannier.store.documents import canonical, digest, sealed
from pannier.store.leases import leases
from tests.hostile.inputs import INPUTS
from tests.hostile.pictures import ASKING_FOR_MUCH, tiff_of_many_pages
from tests.hostile.readers import READERS
from tests.hostile.running import run


@pytest.mark.proof
@pytest.mark.parametrize("reader", sorted(READERS))
def test_no_input_of_a_stranger_provokes_more_than_an_error_of_ours(reader: str, scale: int) -> None:
    # in a process of its own: children are forked, which no threads must see
    command = [sys.executable, "-m", "tests.hostile", reader, "--count", str(8 * scale)]
    ended = subprocess.run(command, capture_output=True, text=True, check=False, cwd=Path(__file__).parent.parent)
    assert ended.returncode == 0, ended.stdout


@pytest.mark.proof
def test_an_input_that_asks_for_very_much_ends_soon_and_in_little_memory(scale: int) -> None:
    command = [sys.executable, "-m", "tests.hostile.inputs", *([*INPUTS] if scale > 1 else [*INPUTS][1::4])]
    ended = subprocess.run(command, capture_output=True, text=True, check=False, cwd=Path(__file__).parent.parent)
    print("\n" + ended.stdout)
    assert ended.returncode == 0, ended.stdout


@pytest.mark.parametrize("name", sorted(ASKING_FOR_MUCH))
def test_a_small_picture_that_asks_for_much_is_refused_by_its_header(name: str, tmp_path: Path) -> None:
    make, says = ASKING_FOR_MUCH[name]
    data = make()
    treatment = pannier.Treatment(size=16)

    def case(_: int) -> None:
        with pytest.raises(PictureError, match=says):
            treatment(data)

    (outcome,) = run(case, [0])
    assert outcome.is_well, outcome


def test_many_pages_are_not_counted(tmp_path: Path) -> None:
    (tmp_path / "plain").mkdir()
    (tmp_path / "plain" / "pages.tiff").write_bytes(tiff_of_many_pages())

    def case(_: int) -> None:
        assert pannier.survey(tmp_path).to_dict()

    (outcome,) = run(case, [0])
    assert outcome.is_well, outcome


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
