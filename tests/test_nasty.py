"""Nasty tables, archives and names: each thing that can be wrong has an outcome, and nothing provokes a traceback."""

from __future__ import annotations

import io
import random
import tarfile
import zipfile
from pathlib import Path

import pytest

import pannier
from pannier.errors import PannierError, SourceError
from tests.conftest import draw, encoded, fill

# a line of the table, and what becomes of it: the record's key and label, or why it is left out
NASTY = [
    ("a/1.jpg,twill,7,2024-01-02", ("a/1.jpg", "twill")),
    ("  a/2.jpg , twill ,7,2024-01-02", ("a/2.jpg", "twill")),
    ('"a/3.jpg","twill","7","2024-01-02"', ("a/3.jpg", "twill")),
    ("a\\4.jpg,twill,7,2024-01-02", ("a/4.jpg", "twill")),
    ("./a/5.jpg,twill,7,", ("a/5.jpg", "twill")),
    ("a//6.jpg,twill,7,", ("a/6.jpg", "twill")),
    ("a/../a/7.jpg,twill,7,", ("a/7.jpg", "twill")),
    ("{root}/a/8.jpg,twill,7,", ("a/8.jpg", "twill")),
    (",twill,7,2024-01-02", "no picture"),
    ("   ,twill,7,2024-01-02", "no picture"),
    ("a/nowhere.jpg,twill,7,", "missing"),
    ("a/11.jpg,,7,", "no label"),
    ("a/12.jpg,   ,7,", "no label"),
    ("a/13.jpg,twill", "malformed"),
    ("a/14.jpg,twill,7,2024-01-02,more", "malformed"),
    ('a/15.jpg,"twill, fine",7,', ("a/15.jpg", "twill, fine")),
    ('a/16.jpg,"two\nlines",7,', ("a/16.jpg", "two\nlines")),
    ('a/17.jpg,"say ""twill""",7,', ("a/17.jpg", 'say "twill"')),
    ("a/18.jpg,k\u00f6per,7,", ("a/18.jpg", "k\u00f6per")),
    ("a/e\u0301.jpg,twill,7,", ("a/\u00e9.jpg", "twill")),
    ("a/notes.txt,twill,7,", "broken"),
    ("a/empty.jpg,twill,7,", "empty"),
    ("a/cut.jpg,twill,7,", "broken"),
    ("https://mill.example/x.jpg,twill,7,", "link"),
    (f"a/25.jpg,{'w' * 300},7,", ("a/25.jpg", "w" * 300)),
    ("a/26.jpg,NULL,7,", ("a/26.jpg", "NULL")),
    ("a/27.jpg,=twill,7,", ("a/27.jpg", "=twill")),
    ("a/28%20.jpg,twill,7,", "missing"),
    ("a/29.JPG,twill,7,", ("a/29.JPG", "twill")),
    ("a/a folder,twill,7,", "unreadable"),
    (f"a/{'x' * 300}.jpg,twill,7,", "unreadable"),
    ("a/z\0.jpg,twill,7,", "missing"),
    ("a/\U0001f9f5 thread.jpg,twill,7,", ("a/\U0001f9f5 thread.jpg", "twill")),
]


def test_every_nasty_row_of_a_table_has_its_outcome(tmp_path: Path, store: pannier.Store) -> None:
    folder = tmp_path / "a"
    (folder / "a folder").mkdir(parents=True)
    named = {outcome[0] for _, outcome in NASTY if isinstance(outcome, tuple)}
    for i, name in enumerate(sorted(named | {f"a/{n}.jpg" for n in (11, 12, 13, 14)})):
        (tmp_path / name).write_bytes(encoded(draw(300 + i)))
    (folder / "\u00e9.jpg").rename(folder / "e\u0301.jpg")
    (folder / "notes.txt").write_text("lamp moved")
    (folder / "empty.jpg").write_bytes(b"")
    (folder / "cut.jpg").write_bytes(encoded(draw(1))[:400])
    text = "\ufefffile, weave,loom ,taken\n" + "\n\n".join(line for line, _ in NASTY).replace("{root}", str(tmp_path)) + "\n"
    (tmp_path / "nasty.csv").write_bytes(text.encode())
    result = store.pack(tmp_path / "nasty.csv", picture="file", label="weave", columns="loom, taken")
    records = {record.key: record.label for record in result.snapshot}
    assert records == dict(outcome for _, outcome in NASTY if isinstance(outcome, tuple))
    assert sorted(item.kind for item in result.left_out) == sorted(
        outcome for _, outcome in NASTY if isinstance(outcome, str)
    )
    assert len(NASTY) >= 30


def test_one_key_twice_in_a_table_is_refused(tmp_path: Path, store: pannier.Store) -> None:
    fill(tmp_path / "a", 2)
    (tmp_path / "t.csv").write_text("file,label\na/twill/0000.jpg,x\na/twill/./0000.jpg,y\n")
    with pytest.raises(SourceError, match="rows 1, 2 have one key 'a/twill/0000.jpg'"):
        store.pack(tmp_path / "t.csv")


@pytest.mark.proof
def test_damaged_archives_give_whole_pictures_or_an_error(tmp_path: Path, scale: int) -> None:
    """Bytes changed, cut and swapped in zip and tar archives: never a wrong picture, never anything but our errors."""
    folder = fill(tmp_path / "a", 3)
    whole = {path.read_bytes() for path in folder.rglob("*.*")}
    kinds: dict[str, bytes] = {}
    for name in ("z.zip", "t.tar", "g.tar.gz"):
        sink = io.BytesIO()
        if name == "z.zip":
            with zipfile.ZipFile(sink, "w", zipfile.ZIP_DEFLATED) as archive:
                for path in sorted(folder.rglob("*.*")):
                    archive.write(path, str(path.relative_to(folder)))
        else:
            with tarfile.open(fileobj=sink, mode="w:gz" if name.endswith("gz") else "w") as tar:
                tar.add(folder, ".")
        kinds[name] = sink.getvalue()
    rng, refused = random.Random(7), 0
    for i in range(24 * scale):
        name = rng.choice(sorted(kinds))
        content = bytearray(kinds[name])
        damage = rng.choice(("flip", "cut", "swap"))
        at = rng.randrange(len(content))
        if damage == "flip":
            content[at] ^= 1 << rng.randrange(8)
        elif damage == "cut":
            del content[at:]
        else:
            other = rng.randrange(len(content))
            content[at : at + 64], content[other : other + 64] = content[other : other + 64], content[at : at + 64]
        path = tmp_path / f"{i}-{name}"
        path.write_bytes(content)
        try:
            snapshot = pannier.create(tmp_path / f"{i}.store").pack(path, unlabeled="keep").snapshot
        except PannierError:
            refused += 1
            continue
        for record in snapshot:
            # a tar's pictures carry no checksum: what decodes to its end is taken, as from a folder
            assert name == "t.tar" or record.bytes() in whole
        assert not [finding for finding in pannier.verify(snapshot.store) if finding.is_damage]
    print(f"\n{24 * scale} damages, {refused} archives refused whole")
