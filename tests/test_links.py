"""Links, pipes and devices in a store of a stranger: nothing outside is read, changed or waited for."""

from __future__ import annotations

import os
import re
import shutil
import signal
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path

import pytest

import pannier
from pannier.errors import PannierError
from pannier.images.facts import read_facts
from pannier.sources import checking
from pannier.storage.local import LocalStorage
from tests.conftest import Ended, draw, encoded, fill

pytestmark = pytest.mark.skipif(os.name != "posix", reason="links and pipes as POSIX has them")
FOLDERS = ("shards", "index", "manifests", "snapshots", "strands", "strands/main", "leases", "files", "additions", "seen")


@contextmanager
def at_most(seconds: int) -> Iterator[None]:
    """Ends what stands still."""

    def stop(*_: object) -> None:
        raise TimeoutError(f"it stood still for {seconds} s")

    before = signal.signal(signal.SIGALRM, stop)
    signal.alarm(seconds)
    try:
        yield
    finally:
        signal.alarm(0)
        signal.signal(signal.SIGALRM, before)


@pytest.fixture(scope="module")
def sound(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A store with some of everything."""
    folder = tmp_path_factory.mktemp("sound")
    store = pannier.create(folder / "s.store")
    store.pack(fill(folder / "a", 4), shares="train=60,val=40")
    store.snapshot().attach(facts={"run": 1}, files={"run.txt": Path(__file__)})
    store.change(where="key = 'twill/0001.jpg'", set="label=satin")
    return store.path


def outside_of(path: Path) -> dict[str, tuple[bytes, int]]:
    """All files of a folder, with their modes."""
    return {str(each): (each.read_bytes(), each.stat().st_mode) for each in sorted(path.rglob("*")) if each.is_file()}


@pytest.mark.parametrize("folder", FOLDERS)
def test_a_folder_that_is_a_link_leads_nowhere(sound: Path, tmp_path: Path, folder: str, run: Callable[..., Ended]) -> None:
    store, outside = tmp_path / "s.store", tmp_path / "outside"
    shutil.copytree(sound, store)
    if (store / folder).exists():
        shutil.move(store / folder, outside)
    else:
        outside.mkdir()
    (outside / "private.txt").write_text("a document")
    os.utime(outside / "private.txt", (0, 0))
    (store / folder).symlink_to(outside)
    before = outside_of(outside)
    fill(tmp_path / "b", 3, ("new",))
    with at_most(60):
        for words in (
            ("verify", store),
            ("verify", store, "--repair"),
            ("tidy", store, "--older-than", "0", "--yes"),
            ("pack", tmp_path / "b", store, "--unlabeled", "keep"),
            ("change", store, "--where", "true", "--set", "loom=3"),
            ("tag", store, "spring"),
            ("export", store, tmp_path / "out", "--hard-links"),
        ):
            run(*words)
    assert outside_of(outside) == before
    assert sorted(path.name for path in outside.iterdir()) == sorted(
        {Path(name).relative_to(outside).parts[0] for name in before}
    )


def test_a_picture_of_its_own_that_is_a_link_keeps_its_target_s_mode(sound: Path, tmp_path: Path) -> None:
    store = tmp_path / "s.store"
    shutil.copytree(sound, store)
    snapshot = pannier.open(store)
    snapshot.export(tmp_path / "out", hard_links=True)
    private = tmp_path / "private.bin"
    private.write_bytes(snapshot["twill/0002.jpg"].bytes())
    private.chmod(0o600)
    (single,) = [each for each in store.rglob("*") if each.is_file() and snapshot["twill/0002.jpg"].sha256 in each.name]
    single.unlink()
    single.symlink_to(private)
    with pytest.raises(PannierError):
        snapshot.export(tmp_path / "again", hard_links=True)
    assert private.stat().st_mode & 0o777 == 0o600


@pytest.mark.parametrize("kind", ["pipe", "device", "link"])
@pytest.mark.parametrize("folder", ["strands/main", "snapshots", "manifests", "shards", "index", "additions"])
def test_what_is_no_regular_file_is_one_line_at_once(
    sound: Path, tmp_path: Path, kind: str, folder: str, run: Callable[..., Ended]
) -> None:
    store = tmp_path / "s.store"
    shutil.copytree(sound, store)
    for file in [path for path in (store / folder).rglob("*") if path.is_file()]:
        file.unlink()
        if kind == "pipe":
            os.mkfifo(file)
        else:
            file.symlink_to("/dev/zero" if kind == "device" else __file__)
    with at_most(60):
        assert run("verify", store).status == 1
        ended = run("feed", store, "--size", 16)
    if folder in ("strands/main", "snapshots", "manifests", "shards"):
        assert ended.status == 1
        assert len(ended.err.strip().splitlines()) == 1, ended.err


def test_a_document_without_end_is_refused_before_it_is_read(tmp_path: Path) -> None:
    storage = LocalStorage(tmp_path)
    with open(tmp_path / "large.json", "wb") as file:
        file.truncate(1 << 40)
    with pytest.raises(PannierError, match="larger than a document may be"):
        storage.read("large.json")


def test_a_file_that_is_cut_short_under_its_reader_ends_nothing(sound: Path, tmp_path: Path) -> None:
    store = tmp_path / "s.store"
    shutil.copytree(sound, store)
    snapshot = pannier.open(store)
    for folder in ("manifests", "index"):
        for file in (store / folder).iterdir():
            os.truncate(file, 64)
    assert len([record.label for record in snapshot]) == len(snapshot)


def test_names_that_act_are_renamed_before_a_file_is_written_and_come_back_as_they_were(tmp_path: Path) -> None:
    keys = [".git/config", "a/.hooks/x.jpg", "nul.jpg", "CON", "b/" + "n" * 400 + ".jpg", "dots./x.jpg", "ok/1.jpg"]
    keys.append("c/\x1b[31mred.jpg")
    rows = [{"id": key, "kind": "oak", "file": encoded(draw(number))} for number, key in enumerate(keys)]
    store = pannier.create(tmp_path / "s.store")
    snapshot = store.pack(rows, key="id", label="kind", picture="file").snapshot
    for layout in ("class", "flat"):
        folder = tmp_path / layout
        snapshot.export(folder, layout=layout)
        for path in folder.rglob("*"):
            assert path.name in (".pannier-export.json", ".gitignore") or not path.name.startswith("."), path
            assert len(path.name.encode()) <= 255
            assert path.name.isprintable()
            assert path.stem.lower() not in ("nul", "con")
        again = pannier.create(tmp_path / f"{layout}.store").pack(folder, unlabeled="keep").snapshot
        assert sorted(record.key for record in again) == sorted(keys)


def test_a_link_in_a_folder_that_is_laid_out_is_not_followed(tmp_path: Path) -> None:
    store = pannier.create(tmp_path / "s.store")
    snapshot = store.pack(fill(tmp_path / "a", 3)).snapshot
    code, outside = tmp_path / "code", tmp_path / "outside"
    for folder in (code, outside):
        folder.mkdir()
    snapshot.export(code / "data", docket=code / "data.docket")
    shutil.rmtree(code / "data")
    (code / "data").symlink_to(outside)
    with pytest.raises(PannierError, match="is a link, which leads elsewhere"):
        pannier.restore(code / "data.docket", store=store.path)
    (code / "data").unlink()
    pannier.restore(code / "data.docket", store=store.path)
    shutil.rmtree(code / "data" / "twill")
    (code / "data" / "twill").symlink_to(outside)
    (code / "data" / "satin" / "0001.jpg").unlink()
    (code / "data" / "satin" / "0001.jpg").symlink_to("/dev/zero")
    with at_most(30), pytest.raises(PannierError, match="is a link, which leads elsewhere"):
        pannier.restore(code / "data.docket", store=store.path, overwrite=True)
    (code / "data" / "twill").unlink()
    with at_most(30):
        pannier.restore(code / "data.docket", store=store.path, overwrite=True)
    assert not list(outside.iterdir())
    assert not (code / "data" / "satin" / "0001.jpg").is_symlink()


def test_bytes_that_are_no_picture_are_told_by_verify_and_never_written_as_files(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, run: Callable[..., Ended]
) -> None:
    """A stranger's store may hold anything under a record's name; only a program other than this writes it."""
    script = b"#!/bin/sh\necho from a stranger\n"
    rows = [{"id": f"{i}.png", "label": "a", "file": encoded(draw(i), "png")} for i in range(4)]
    store = pannier.create(tmp_path / "s.store")
    with monkeypatch.context() as patch:
        known = read_facts(rows[0]["file"])
        patch.setattr(checking, "read_facts", lambda data: known)
        patch.setattr(checking.Checker, "_hash", lambda *_: (0, False, None))
        snapshot = store.pack([*rows, {"id": "x.png", "label": "a", "file": script}], key="id", picture="file").snapshot
    assert snapshot["x.png"].bytes() == script
    (finding,) = [each for each in pannier.verify(store) if each.is_damage]
    assert finding.problem == "1 of the stored files are not images"
    with pytest.raises(PannierError, match=r"x\.png"):
        snapshot.export(tmp_path / "out", layout="flat")
    assert not [path for path in (tmp_path / "out").rglob("*") if path.is_file() and path.read_bytes() == script]
    words = re.findall(r"`where` \"(.+)\"", finding.advice)
    assert run("change", store.path, "--remove", "--where", words[0]).status == 0
    assert len(store.snapshot()) == 4
    (note,) = [each for each in pannier.verify(store) if "not images" in each.problem]
    assert not note.is_damage, "an old snapshot alone shows it"
