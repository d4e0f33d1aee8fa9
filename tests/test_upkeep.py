"""Upkeep: tidying takes what nobody needs and nothing else; leases, readers and writers beside it."""

from __future__ import annotations

import contextlib
import errno
import hashlib
import json
import os
import shutil
import subprocess
import sys
import time
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any

import pytest

import pannier
from pannier.errors import ConflictError, DamageError, NotFoundError, StoreError, UsageError
from pannier.store.documents import digest, sealed
from pannier.store.leases import READER, SECONDS, WRITER, Held, holding, leases
from pannier.versions.naming import remove
from tests.conftest import Ended, fill

TREATMENT = pannier.Treatment(16)


@pytest.fixture
def store(tmp_path: Path) -> pannier.Store:
    """Main has ten pictures a class; the strand trial had forty more in a shard of their own, and was deleted."""
    store = pannier.create(tmp_path / "s.store")
    store.pack(fill(tmp_path / "a", 10), shares="train=70,val=30", seed=2)
    store.start_strand("trial")
    store.pack(fill(tmp_path / "b", 40, first=100), strand="trial")
    return store


def bytes_in(store: pannier.Store) -> int:
    return sum(path.stat().st_size for path in store.path.rglob("*") if path.is_file())


def all_pictures(snapshot: pannier.Snapshot) -> dict[str, bytes]:
    return {record.key: record.bytes() for record in snapshot}


def test_what_a_deleted_strand_alone_had_goes_and_nothing_else(store: pannier.Store, run: Callable[..., Ended]) -> None:
    main, trial = store.snapshot(), store.snapshot("trial").id
    before = all_pictures(main)
    assert store.tidy(older_than=0).going == []
    remove(store.strands, "trial")
    assert store.tidy(older_than="1h").going == []
    plan = run("tidy", store.path, "--older-than", "0s")
    assert "This would free" in plan.out
    there, promised = bytes_in(store), store.tidy(older_than=0).byte_count
    done = run("tidy", store.path, "--older-than", "0s", "--yes", "--json")
    assert done.status == 0, done.err
    facts = json.loads(done.out)
    assert {each["kind"] for each in facts["going"]} == {"snapshot", "manifest", "index", "shard"}
    assert there - bytes_in(store) == promised == facts["byte_count"]
    assert all_pictures(pannier.open(store.path)) == before
    assert pannier.verify(store) == []
    with pytest.raises(NotFoundError):
        store.snapshot(trial[:12])
    assert "Nothing to tidy" in run("tidy", store.path, "--older-than", "0s").out
    again = store.pack(store.path.parent / "b").snapshot
    assert len(all_pictures(again)) == 150
    assert pannier.verify(store) == []


def test_a_mostly_dead_shard_is_packed_anew_under_a_running_feed(tmp_path: Path) -> None:
    store = pannier.create(tmp_path / "s.store")
    store.pack(fill(tmp_path / "a", 40), strand="trial")
    few = fill(tmp_path / "few", 0)
    for name in ("plain", "satin", "twill"):
        for i in range(4):
            ending = "png" if i % 10 == 7 else "jpg"
            shutil.copy(tmp_path / "a" / name / f"{i:04}.{ending}", few / name)
    snapshot = store.pack(few).snapshot
    remove(store.strands, "trial")
    expected = all_pictures(snapshot)
    with snapshot.feed(None, TREATMENT, batch_size=2, ahead=1, workers=1) as feed:
        batches = iter(feed)
        first = next(batches).images.copy()
        kept = store.tidy(older_than=0, yes=True)
        assert any("packed anew another time" in each for each in kept.kept)
        assert len(list(batches)) == 5
    looked_up = [snapshot[key] for key in expected]
    done = store.tidy(older_than=0, yes=True)
    assert (len(done.repacked), done.moved_bytes) == (1, sum(map(len, expected.values())))
    assert {record.key: record.bytes() for record in looked_up} == expected
    with snapshot.feed(None, TREATMENT, batch_size=2) as feed:
        assert (next(iter(feed)).images == first).all()
    assert pannier.verify(store) == []


def test_pictures_that_are_stored_twice_are_folded(tmp_path: Path) -> None:
    both = fill(tmp_path / "a", 12)
    one, other = pannier.create(tmp_path / "1.store"), pannier.create(tmp_path / "2.store")
    one.pack(both, shard_size=40_000)
    snapshot = other.pack(both).snapshot
    for folder in ("shards", "index"):
        for path in (one.path / folder).iterdir():
            shutil.copy(path, other.path / folder)
    done = other.tidy(older_than=0, yes=True)
    assert done.doubles == 36
    assert len(list((other.path / "shards").iterdir())) == 1
    assert len(all_pictures(snapshot)) == 36
    assert pannier.verify(other) == []


def test_nothing_goes_that_a_running_writer_needs(store: pannier.Store) -> None:
    remove(store.strands, "trial")
    files = sorted(store.path.rglob("*"))
    with holding(store.storage, WRITER):
        with pytest.raises(ConflictError, match="a writer on .* is at work here: nothing was tidied"):
            store.tidy(older_than=0, yes=True)
        assert "at work" in store.tidy(older_than=0).kept[0]
    assert [path for path in sorted(store.path.rglob("*")) if "leases" not in path.parts] == [
        path for path in files if "leases" not in path.parts
    ]
    assert store.tidy(older_than=0, yes=True).byte_count > 0


def test_a_lease_holds_by_the_clock_of_the_store_until_its_process_ends_or_it_expires(store: pannier.Store) -> None:
    held = Held(store.storage, WRITER)
    (found,) = leases(store.storage)
    assert (found.is_live, found.kind, found.process) == (True, WRITER, os.getpid())
    file = store.path / found.files[0]
    os.utime(file, (0, os.stat(file).st_mtime - 601))
    assert not leases(store.storage)[0].is_live
    store.tidy(older_than=0, yes=True)
    assert not file.exists()
    with pytest.raises(ConflictError, match="stood still"):
        held.check()
    program = (
        "import pannier, os\nfrom pannier.store.leases import Held\n"
        f"Held(pannier.open_store({str(store.path)!r}).storage, 'writer')\nos._exit(0)"
    )
    subprocess.run([sys.executable, "-c", program], check=True, timeout=60)
    assert [lease.is_live for lease in leases(store.storage)] == [False]
    remove(store.strands, "trial")
    assert store.tidy(older_than=0, yes=True).byte_count > 0
    assert leases(store.storage) == []


def test_a_writer_that_stood_still_for_too_long_publishes_nothing(
    store: pannier.Store, monkeypatch: pytest.MonkeyPatch
) -> None:
    head = store.strands.head("main")

    def lose(self: Held) -> None:
        for file in (store.path / "leases").iterdir():
            file.unlink()
        check(self)

    check = Held.check
    monkeypatch.setattr(Held, "check", lose)
    with pytest.raises(ConflictError, match="its lease on the store expired"):
        store.change(where="true", set="loom=1")
    assert store.strands.head("main") == head


def test_a_feed_keeps_the_snapshot_that_it_reads(store: pannier.Store) -> None:
    trial = store.snapshot("trial")
    expected = len(trial)
    remove(store.strands, "trial")
    with trial.feed(None, TREATMENT, batch_size=50) as feed:
        seen = len(next(iter(feed)))
        assert store.tidy(older_than=0, yes=True).going == []
        seen = sum(len(batch) for batch in feed)
    assert seen == expected
    assert store.tidy(older_than=0, yes=True).byte_count > 0


def test_a_store_that_was_opened_before_packs_what_was_tidied_again(store: pannier.Store) -> None:
    assert len(all_pictures(store.snapshot("trial"))) == 150
    remove(store.strands, "trial")
    pannier.open_store(store.path).tidy(older_than=0, yes=True)
    snapshot = store.pack(store.path.parent / "b").snapshot
    assert len(all_pictures(snapshot)) == 150
    assert pannier.verify(store) == []


def test_tidying_stops_where_it_cannot_tell_what_is_needed(store: pannier.Store) -> None:
    remove(store.strands, "trial")
    manifest = store.path / store.snapshot().manifest.base_file.path  # type: ignore[union-attr]
    content = manifest.read_bytes()
    manifest.write_bytes(content[:-9] + b"x" + content[-8:])
    files = sorted(path for path in store.path.rglob("*") if path.is_file())
    with pytest.raises(DamageError):
        store.tidy(older_than=0, yes=True)
    assert sorted(path for path in store.path.rglob("*") if path.is_file()) == files
    manifest.write_bytes(content)
    with pytest.raises(UsageError, match="is no time"):
        store.tidy(older_than="soon")


def test_a_copy_brings_what_the_other_lacks_and_ids_are_equal(
    store: pannier.Store, tmp_path: Path, run: Callable[..., Ended]
) -> None:
    snapshot = store.snapshot()
    snapshot.attach(facts={"accuracy": 0.9}, files={"run.txt": Path(__file__)})
    assert run("copy", store.path, tmp_path / "other.store").status == 0
    other = pannier.open_store(tmp_path / "other.store")
    assert other.snapshot().id == snapshot.id
    assert all_pictures(other.snapshot()) == all_pictures(snapshot)
    assert other.snapshot().facts == {"accuracy": 0.9}
    assert other.snapshot().attachment("run.txt").bytes() == Path(__file__).read_bytes()
    assert pannier.verify(other) == []
    assert "everything was there already" in run("copy", store.path, other.path).out
    trial = run("copy", f"{store.path}@trial", other.path, "--json")
    assert json.loads(trial.out)["pictures"] == 120
    assert other.strands.all_names() == ["main", "trial"]
    other.change(where="true", set="loom=1")
    assert run("copy", other.path, store.path).status == 0
    assert store.snapshot().id == other.snapshot().id
    store.change(where="true", set="loom=2")
    other.change(where="true", set="loom=3")
    refused = run("copy", other.path, store.path)
    assert refused.status == 1
    assert "choose another name there with --strand" in refused.err
    assert run("copy", other.path, store.path, "--strand", "theirs").status == 0
    assert pannier.verify(store) == []


def test_a_copy_of_everything_is_a_backup_that_is_renewed(
    store: pannier.Store, tmp_path: Path, run: Callable[..., Ended]
) -> None:
    store.tag("spring")
    store.change(where="true", set={"loom": 3}, strand="trial")
    store.snapshot("spring").attach(facts={"run": 3})
    other = tmp_path / "backup.store"
    told = run("copy", store.path, other, "--all").out
    assert "3 names: main, spring, trial." in told
    backup = pannier.open_store(other)
    for name in ("main", "trial", "spring"):
        assert backup.snapshot(name).id == store.snapshot(name).id
    assert backup.snapshot("spring").facts == {"run": 3}
    assert pannier.verify(backup, against=store) == []
    assert "holds all of" in run("verify", other, "--against", store.path).out
    store.change(where="true", set={"loom": 4}, strand="trial")
    store.snapshot("spring").attach(facts={"run": 4})
    store.tag("summer")
    lacking = {(finding.file.partition("/")[0], finding.problem) for finding in pannier.verify(backup, against=store)}
    assert {folder for folder, _ in lacking} == {"strands", "tags", "snapshots", "manifests", "additions"}
    assert any("it is at snapshot" in problem for folder, problem in lacking if folder == "strands")
    assert ("strands", "the original has 1 more entries of trial") in lacking
    assert run("verify", other, "--against", store.path).status == 1
    again = store.copy_all(backup)
    assert (again.snapshots, again.pictures) == (1, 0)
    assert backup.verify(against=store) == []
    assert "everything was there already" in run("copy", store.path, other, "--all").out
    backup.change(where="true", set={"loom": 9}, strand="trial")
    store.change(where="true", set={"loom": 5}, strand="trial")
    with pytest.raises(ConflictError, match="trial in .* has snapshots that this one does not descend from"):
        store.copy_all(backup)
    assert run("copy", f"{store.path}@trial", other, "--all").status == 2


def test_a_mirror_repairs_every_file_that_can_be_damaged(tmp_path: Path, run: Callable[..., Ended]) -> None:
    """A mirror made by `copy --all`, and one file after another damaged, or gone."""
    store = pannier.create(tmp_path / "s.store")
    store.pack(fill(tmp_path / "a", 6), shares="train=70,val=30")
    for number in range(4):
        store.change(where=f"key = 'twill/000{number}.jpg'", set="label=satin")
    store.tag("spring")
    store.change(where="key = 'plain/0001.jpg'", set="label=satin")
    store.tag("spring", overwrite=True)
    store.start_strand("trial")
    given_up = store.change(where="key = 'plain/0002.jpg'", set={"loom": 3}, strand="trial").snapshot.id
    store.remove_strand("trial")
    store.tag("gone")
    store.rename_tag("gone", "went")
    store.snapshot().attach(facts={"run": 1}, files={"run.txt": Path(__file__)})
    store.snapshot().attach(facts={"run": 2}, files={"more.txt": Path(pannier.__file__)})
    mirror = tmp_path / "mirror.store"
    assert run("copy", store.path, mirror, "--all").status == 0
    assert pannier.verify(mirror, against=store) == []
    for folder in ("strands", "tags", "additions", "files", "snapshots", "manifests"):
        files = sorted(path for path in (store.path / folder).rglob("*") if path.is_file())
        assert files
        for file in files:
            content = file.read_bytes()
            assert (mirror / file.relative_to(store.path)).read_bytes() == content, file
            lost = [] if given_up in file.name else [None]  # which may have been tidied as well
            for damage in (content[: len(content) // 2], content[:40] + b"?" + content[41:], *lost):
                file.unlink()
                if damage is not None:
                    file.write_bytes(damage)
                found = pannier.verify(store, repair_from=mirror, quick=folder not in ("files", "manifests"))
                assert [finding for finding in found if finding.is_damage] == [], file
                assert file.read_bytes() == content
    # a mirror is renewed after a tag was moved; one that is newer than the store does not move the store's strands
    store.tag("spring", store.snapshot().parents[0], overwrite=True)
    store.change(where="key = 'plain/0003.jpg'", set={"loom": 9})
    assert run("copy", store.path, mirror, "--all").status == 0
    assert pannier.verify(mirror, against=store) == []
    store.change(where="key = 'plain/0003.jpg'", set={"loom": 8})
    store.copy("main", pannier.open_store(mirror))
    assert pannier.verify(mirror, against=store) == [], "it stays a mirror"
    older = pannier.create(tmp_path / "older.store")
    pannier.open_store(mirror).copy_all(older)
    behind = older.snapshot().id
    pannier.open_store(mirror).change(where="key = 'plain/0003.jpg'", set={"loom": 10})
    assert older.verify(repair_from=mirror) == []
    assert older.snapshot().id == behind
    shutil.rmtree(mirror)
    store.copy_all(pannier.create(mirror))
    newest, before = sorted((store.path / "strands" / "main").iterdir())[-1], store.strands.entries("main")[-2].snapshot
    newest.write_bytes(newest.read_bytes()[:-9])
    with pytest.raises(DamageError, match=r"leads to snapshot (\w{12}), which can be read under that id") as told:
        pannier.open(store.path)
    earlier = str(told.value).partition("leads to snapshot ")[2][:12]
    assert pannier.open(f"{store.path}@{earlier}").id == before
    # a copy of one strand numbers its entries otherwise: it is no mirror, is told from one, and writes no other history
    alone = pannier.create(tmp_path / "alone.store")
    pannier.open_store(mirror).copy("main", alone)
    (finding,) = [each for each in pannier.verify(store, repair_from=alone) if each.is_damage]
    assert finding.file == f"strands/main/{newest.name}"
    pannier.verify(store, repair_from=mirror)
    store.copy_all(alone)
    assert "are not those of the original" in pannier.verify(alone, against=store)[0].problem


@pytest.fixture
def two_copies(tmp_path: Path) -> tuple[pannier.Store, Path]:
    """A store with some of everything, and a copy of it, byte for byte."""
    store = pannier.create(tmp_path / "s.store")
    folder = fill(tmp_path / "a", 12)
    (folder / "twill" / "broken.jpg").write_bytes(b"\xff\xd8\xff\xe0 no picture")
    store.pack(folder, shares="train=70,val=30", shard_size=20_000)
    store.snapshot().attach(facts={"run": 1}, files={"run.txt": Path(__file__)})
    store.change(where="key = 'twill/0001.jpg'", set="label=satin")
    store.tag("first")
    shutil.copytree(store.path, tmp_path / "copy.store")
    return store, tmp_path / "copy.store"


FOLDERS = ("shards", "index", "manifests", "snapshots", "left-out", "files", "additions", "strands", "tags")


@pytest.mark.parametrize(
    ("folder", "how"), [("shards", "cut"), *((folder, how) for folder in FOLDERS for how in ("flipped", "missing"))]
)
def test_what_is_damaged_is_found_and_brought_back_from_a_copy(
    two_copies: tuple[pannier.Store, Path], folder: str, how: str
) -> None:
    store, copy = two_copies
    before = all_pictures(pannier.open(copy))
    files = sorted(path for path in (store.path / folder).rglob("*") if path.is_file())
    content = files[0].read_bytes()
    middle = len(content) // 2
    if how == "missing":
        files[0].unlink()
    else:
        flipped = content[:middle] + bytes([content[middle] ^ 16]) + content[middle + 1 :]
        files[0].write_bytes(flipped if how == "flipped" else content[:middle])
    found = pannier.verify(store)
    if (folder, how) not in (("additions", "missing"), ("tags", "missing")):  # the newest entry, as if it never was
        assert any(finding.is_damage for finding in found)
    assert not [finding for finding in pannier.verify(store, repair_from=copy) if finding.is_damage]
    assert all_pictures(pannier.open(store.path)) == before
    assert [finding for finding in pannier.verify(store) if finding.is_damage] == []
    if how != "missing":
        aside = sorted((store.path / "damaged").iterdir())
        assert aside, "nothing is thrown away"


def test_damage_is_told_by_key_and_derived_files_need_no_copy(
    two_copies: tuple[pannier.Store, Path], run: Callable[..., Ended]
) -> None:
    store, _ = two_copies
    picture = store.snapshot()["twill/0003.jpg"].bytes()
    for path in (store.path / "shards").iterdir():
        content = path.read_bytes()
        at = content.find(picture)
        if at >= 0:
            path.write_bytes(content[: at + 200] + b"\0\0" + content[at + 202 :])
    (damaged,) = pannier.verify(store)
    assert damaged.keys == ("twill/0003.jpg",)
    assert damaged.harms == "'twill/0003.jpg'"
    assert pannier.verify(store, quick=True) == []
    shares = [len(pannier.verify(store, sample="50%", seed=seed)) for seed in range(12)]
    assert set(shares) == {0, 1}
    refused = run("verify", store.path, "--repair")
    assert refused.status == 1
    assert "the picture in row" in refused.out
    assert len(all_pictures_but(store.snapshot(), "twill/0003.jpg")) == 35
    for path in (store.path / "index").iterdir():
        path.write_bytes(b"\0" + path.read_bytes()[1:])
    assert sum(finding.is_damage for finding in pannier.verify(store, repair=True)) == 1


def all_pictures_but(snapshot: pannier.Snapshot, key: str) -> dict[str, bytes]:
    return {record.key: record.bytes() for record in snapshot if record.key != key}


def test_a_store_that_cannot_be_written_to_is_verified_and_looked_through(
    store: pannier.Store, monkeypatch: pytest.MonkeyPatch
) -> None:
    held = Held(store.storage, WRITER)  # somebody else's, perhaps: its age is asked for
    (store.path / ".draft-0123456789abcdef").write_bytes(b"half")
    remove(store.strands, "trial")
    before = bytes_in(store)
    real = os.open

    def refuse(path: Any, flags: int, *more: Any, **options: Any) -> int:
        if flags & os.O_CREAT and str(path).startswith(str(store.path)):
            raise OSError(errno.EROFS, os.strerror(errno.EROFS), str(path))
        return real(path, flags, *more, **options)

    monkeypatch.setattr(os, "open", refuse)
    assert not [finding for finding in store.verify() if finding.is_damage]
    plan = store.tidy(older_than=0, preview=True)
    assert plan.kept[0].startswith("a writer on ")
    assert plan.byte_count > 0
    with store.snapshot().feed(None, TREATMENT, workers=1) as feed:
        assert sum(map(len, feed)) == 30
    monkeypatch.undo()
    held.end()
    assert bytes_in(store) < before  # the lease alone went


def test_files_of_a_writer_at_work_are_not_called_left_behind(store: pannier.Store) -> None:
    def told() -> list[str]:
        return [finding.file for finding in store.verify()]

    store.storage.create(f"manifests/{digest(b'new')}.arrow", b"new")
    with store.storage.draft("shards") as draft:
        with holding(store.storage, WRITER):
            assert told() == []
        assert sorted(told()) == sorted([f"shards/{draft.path.name}", f"manifests/{digest(b'new')}.arrow"])


def test_a_lease_that_an_exception_dropped_is_nobodys(store: pannier.Store, monkeypatch: pytest.MonkeyPatch) -> None:
    def interrupted(*_: Any) -> None:
        raise KeyboardInterrupt

    for where in ("pannier.upkeep.tidying.kept_up", "pannier.store.leases.others"):
        with monkeypatch.context() as patched:
            patched.setattr(where, interrupted)
            with contextlib.suppress(KeyboardInterrupt):
                store.tidy(yes=True)
            with contextlib.suppress(KeyboardInterrupt):
                store.change(where="true", set="loom=1")
        assert not [lease for lease in leases(store.storage) if lease.is_live]
    store.tidy(yes=True)


def test_nobody_who_reads_waits_for_the_disk(store: pannier.Store, monkeypatch: pytest.MonkeyPatch) -> None:
    """A busy disk may take half a minute to flush a file: a feed's lease is one that need not outlive the machine."""
    flushed: list[int] = []
    monkeypatch.setattr(os, "fsync", flushed.append)
    monkeypatch.setitem(SECONDS, READER, 0.2)
    for processes in (0, 1):
        with store.snapshot().feed(None, TREATMENT, workers=1, batch_size=3, processes=processes) as feed:
            next(iter(feed))
            until = time.monotonic() + 60  # a loop that pauses for long: the lease is renewed all the same
            while not [
                each for each in leases(store.storage) if each.is_live and not each.files[0].endswith("-000001.json")
            ]:
                assert time.monotonic() < until
                time.sleep(0.05)
    assert flushed == []


def test_history_that_was_rewritten_is_seen(store: pannier.Store) -> None:
    from pannier.store.names import Entry

    assert pannier.verify(store) == []
    elsewhere = store.snapshot("trial").id
    store.change(where="true", set="loom=1")
    store.strands.append("main", Entry(3, elsewhere, "2026-01-01T00:00:00Z", "somebody"))
    (found,) = pannier.verify(store)
    assert "history was rewritten" in found.problem
    held = Held(store.storage, WRITER)
    os.utime(store.path / leases(store.storage)[0].files[0], (0, 0))
    assert [finding.is_damage for finding in pannier.verify(store)] == [True, False]
    assert "which has ended or stands still" in pannier.verify(store)[1].problem
    held.end()


def test_readers_never_meet_an_error_or_a_mix_beside_writers_and_tidying(tmp_path: Path, scale: int) -> None:
    """Every record of a snapshot has the loom that the snapshot was made with: a mix would show two."""
    store = pannier.create(tmp_path / "s.store")
    store.pack(fill(tmp_path / "a", 4), columns="0 as loom")
    right = {record.key: record.sha256 for record in store.snapshot()}
    rounds = 4 if scale == 1 else 5 * scale
    writer = (
        "import sys, pannier\nfrom pannier.versions.naming import remove\n"
        f"store = pannier.open_store({str(store.path)!r})\n"
        f"for i in range(1, {rounds} + 1):\n"
        "    store.change(where='true', set={'loom': i})\n"
        "    store.start_strand(f'trial-{i}')\n"
        f"    store.pack(sys.argv[1], strand=f'trial-{{i}}', prefix=str(i), workers=1)\n"
        "    remove(store.strands, f'trial-{i}')\n"
    )
    tidier = (
        "import time, pannier\nfrom pannier.errors import ConflictError\n"
        f"store = pannier.open_store({str(store.path)!r})\n"
        "while True:\n"
        "    try:\n        store.tidy(older_than=0, yes=True)\n"
        "    except ConflictError:\n        pass\n"
        "    time.sleep(0.01)\n"
    )
    more = fill(tmp_path / "b", 3, first=50)
    at_work = [subprocess.Popen([sys.executable, "-c", writer, str(more)])]
    at_work.append(subprocess.Popen([sys.executable, "-c", tidier]))
    looked = 0
    try:
        while at_work[0].poll() is None:
            assert at_work[1].poll() is None, "the tidier met an error"
            reader = pannier.open_store(store.path) if looked % 3 == 0 else store
            snapshot = reader.snapshot()
            assert len({record.side["loom"] for record in snapshot}) == 1
            if looked % 2:
                assert {key: hashlib.sha256(data).hexdigest() for key, data in all_pictures(snapshot).items()} == right
            else:
                with snapshot.feed(None, batch_size=5, workers=1) as feed:
                    keys = [key for batch in feed for key in batch.keys]
                assert sorted(keys) == sorted(right)
            looked += 1
    finally:
        for process in at_work:
            process.kill()
            process.wait()
    assert at_work[0].returncode == 0
    assert [finding for finding in pannier.verify(store) if finding.is_damage] == []
    assert len(store.history()) == rounds + 1
    print(f"\n{looked} looks at {rounds} snapshots while they were made and others tidied away: no error, no mix")


@pytest.mark.proof
def test_writers_at_once_on_one_strand_lose_no_snapshot(tmp_path: Path, scale: int) -> None:
    writers, rounds = (4, 3) if scale == 1 else (8, 20 * scale)
    store = pannier.create(tmp_path / "s.store")
    store.pack(fill(tmp_path / "a", 8))
    program = (
        "import sys, pannier\n"
        f"store = pannier.open_store({str(store.path)!r})\n"
        f"for i in range({rounds}):\n"
        "    store.change(where='true', set={f'by_{sys.argv[1]}': i}, note=f'{sys.argv[1]} {i}')\n"
    )
    at_work = [subprocess.Popen([sys.executable, "-c", program, str(i)]) for i in range(writers)]
    assert [process.wait(600 * scale) for process in at_work] == [0] * writers
    notes = [step.note for step in store.history()][:-1]
    assert sorted(notes) == sorted(f"{writer} {i}" for writer in range(writers) for i in range(rounds))
    assert all(
        [note for note in notes[::-1] if note.startswith(f"{w} ")] == [f"{w} {i}" for i in range(rounds)]
        for w in range(writers)
    )
    sides = [set(record.side.items()) for record in store.snapshot()]
    assert all(side == {(f"by_{w}", rounds - 1) for w in range(writers)} for side in sides)
    assert len(store.strands.numbers("main")) == writers * rounds + 1
    assert [finding for finding in pannier.verify(store) if finding.is_damage] == []
    print(f"\n{writers} writers at once on one strand, {rounds} snapshots each: every one is there, none twice")


def test_equal_content_has_an_equal_id_however_and_wherever_it_was_packed(tmp_path: Path) -> None:
    folder = fill(tmp_path / "a", 12)
    table = "key,weave\n" + "".join(
        f"{path.relative_to(folder)},{path.parent.name}\n" for path in sorted(folder.rglob("*.*"), reverse=True)
    )
    (folder / "rows.csv").write_text(table)
    ids = set()
    for number, (source, options) in enumerate(
        [
            (folder, {}),
            (folder, {"shard_size": 8_000, "workers": 1}),
            (folder / "rows.csv", {"label": "weave", "key": "key", "workers": 3, "shard_size": 20_000}),
        ]
    ):
        store = pannier.create(tmp_path / f"{number}.store")
        ids.add(store.pack(source, shares="train=70,val=30", seed=5, **options).snapshot.content_id)
    in_parts = pannier.create(tmp_path / "parts.store")
    for name in ("twill", "plain", "satin"):
        in_parts.pack(folder, include=f"{name}/", only_classes=name)
    splits = [{"key": record.key, "split": record.split} for record in pannier.open(tmp_path / "0.store")]
    ids.add(in_parts.change(from_=splits).snapshot.content_id)
    environment = os.environ | {"LC_ALL": "C", "PYTHONHASHSEED": "77", "TZ": "Asia/Tokyo", "PYTHONUTF8": "0"}
    command = [sys.executable, "-m", "pannier", "pack", str(folder), str(tmp_path / "c.store")]
    subprocess.run([*command, "--shares", "train=70,val=30", "--seed", "5"], check=True, env=environment, stdout=-3)
    ids.add(pannier.open(tmp_path / "c.store").content_id)
    assert len(ids) == 1


def test_packs_at_once_never_stop_over_what_is_remembered(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """What packs have read is merged by whoever ends; others that listed it before go on, and so they do on a full disk."""
    from pannier.packing import seen

    monkeypatch.setattr(seen, "MOST_SEGMENTS", 0)
    monkeypatch.setattr(seen, "UNSURE_NANOSECONDS", -(10**15))
    store = pannier.create(tmp_path / "s.store")
    for number in range(12):
        fill(tmp_path / str(number), 2, first=10 * number)

    def pack(number: int) -> int:
        for _ in range(3):
            pannier.open_store(store.path).pack(tmp_path / str(number), prefix=str(number))
        return number

    with ThreadPoolExecutor(6) as pool:
        assert list(pool.map(pack, range(12))) == list(range(12))
    assert len(store.snapshot()) == 72
    listed = store.storage.list

    def gone_since(folder: str) -> list[str]:
        return [*listed(folder), "00000000000000000000-00.arrow"] if folder == "seen" else listed(folder)

    monkeypatch.setattr(store.storage, "list", gone_since)
    assert not store.pack(tmp_path / "0", prefix="0").is_new
    monkeypatch.setattr(seen.Seen, "_write", lambda *_: (_ for _ in ()).throw(StoreError("the disk is full")))
    assert store.pack(fill(tmp_path / "more", 2, first=500)).added == 6


def test_a_lost_or_damaged_format_file_is_written_again_and_a_newer_one_is_left_alone(tmp_path: Path) -> None:
    store = pannier.create(tmp_path / "s.store")
    store.pack(fill(tmp_path / "a", 2))
    file = store.path / "pannier.json"
    written = file.read_bytes()
    for harm in (None, b"{}", written[:-9]):
        file.unlink()
        if harm is not None:
            file.write_bytes(harm)
        with pytest.raises(pannier.PannierError):
            pannier.open(store.path)
        assert not [each for each in pannier.verify(store.path, repair=True) if each.is_damage], harm
        assert file.read_bytes() == written
        assert len(pannier.open(store.path)) == 6
    newer = sealed({"format": "pannier store", "version": 9})
    for content in (newer, sealed({"format": "another kind", "version": 1})):
        file.unlink()
        file.write_bytes(content)
        with pytest.raises(pannier.PannierError, match=r"install a newer one|is of another kind"):
            pannier.verify(store.path, repair=True)
        assert file.read_bytes() == content
