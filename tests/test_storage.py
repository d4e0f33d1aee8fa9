"""Every kind of storage keeps the same promises; what is published is flushed, and leases are renewed."""

from __future__ import annotations

import os
import threading
import time
import zlib
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

import pannier
from pannier import files
from pannier.errors import DamageError, NotFoundError, StoreError
from pannier.hashing import crc32_of
from pannier.storage import local
from pannier.storage.checksums import CrcJoiner
from pannier.storage.local import LocalStorage
from pannier.storage.memory import MemoryStorage
from pannier.storage.opening import pieces_of
from pannier.storage.protocol import Storage
from pannier.storage.remote import RemoteStorage
from pannier.store import leases
from pannier.store.leases import WRITER, Held, Turn, holding
from pannier.store.state import OpenedStore
from tests.conftest import fill


def bucket(_: Path) -> Storage:
    from obstore.store import MemoryStore

    return RemoteStorage("s3://bucket/store", MemoryStore(), "store")


KINDS: dict[str, Callable[[Path], Storage]] = {
    "local": lambda path: LocalStorage(path),
    "memory": lambda _: MemoryStorage(),
    "bucket": bucket,
}


@pytest.fixture(params=KINDS)
def storage(request: pytest.FixtureRequest, tmp_path: Path) -> Storage:
    return KINDS[request.param](tmp_path / "storage")


def test_a_name_is_taken_once_and_reads_back_in_any_range(storage: Storage) -> None:
    assert isinstance(storage, Storage)
    assert not storage.is_there()
    content = bytes(range(256)) * 5000
    assert storage.create("a/b/x.bin", content)
    assert not storage.create("a/b/x.bin", b"other")
    assert (storage.read("a/b/x.bin"), storage.size("a/b/x.bin")) == (content, len(content))
    assert storage.read("a/b/x.bin", 300, 7) == content[300:307]
    assert storage.read("a/b/x.bin", len(content) - 3, 100) == content[-3:]
    assert bytes(storage.view("a/b/x.bin")) == content
    assert b"".join(pieces_of(storage, "a/b/x.bin")) == content
    assert storage.create("empty", b"")
    assert (storage.read("empty"), bytes(storage.view("empty")), list(pieces_of(storage, "empty"))) == (b"", b"", [])
    reader = storage.reader(1)
    for name, at, wanted in (("a/b/x.bin", 10, 5), ("empty", 0, 3), ("a/b/x.bin", len(content) - 2, 9)):
        room = bytearray(wanted)
        got = reader.read_into(name, at, memoryview(room))
        assert room[:got] == storage.read(name, at, wanted)
    reader.close()
    reader.close()


def test_listings_show_what_is_published_and_nothing_in_the_making(storage: Storage) -> None:
    for name in ("f/b.json", "f/a.json", "f/deep/c.json", "top"):
        assert storage.create(name, name.encode())
    assert list(storage.list("f")) == ["a.json", "b.json", "deep"]
    assert list(storage.list("")) == ["f", "top"]
    assert list(storage.list("nothing")) == []
    with storage.draft("f") as draft:
        draft.sink.write(b"half")
        assert list(storage.list("f")) == ["a.json", "b.json", "deep"]
        draft.sink.write(b" and whole")
        draft.flush_early()
        assert bytes(draft.content()) == b"half and whole"
        assert draft.publish("f/new")
    assert storage.read("f/new") == b"half and whole"
    with storage.draft("f") as draft:
        draft.sink.write(b"cut short")
    assert list(storage.drafts()) == []
    below = storage.below("f")
    assert list(below.list("")) == ["a.json", "b.json", "deep", "new"]
    assert below.create("own", b"1")
    assert storage.read("f/own") == b"1"


def test_what_goes_is_gone_and_what_is_not_there_says_so(storage: Storage) -> None:
    storage.create("f/x", b"1")
    storage.remove("f/x")
    storage.prune("f")
    assert list(storage.list("")) in ([], ["f"])
    for call in (storage.remove, storage.read, storage.size, storage.view, storage.changed):
        with pytest.raises(NotFoundError, match="f/x is not in the store"):
            call("f/x")
    with pytest.raises(NotFoundError):
        storage.reader().read_into("f/x", 0, memoryview(bytearray(1)))
    for name in ("../x", "/x", "f/../../x", "f/\0"):
        for call in (storage.read, storage.exists, storage.list, storage.remove):
            with pytest.raises(DamageError, match="leads elsewhere"):
                call(name)
        with pytest.raises(DamageError, match="leads elsewhere"):
            storage.create(name, b"")


def test_one_of_many_writers_gets_a_name_and_the_storage_tells_the_time(storage: Storage) -> None:
    before = storage.now()
    with ThreadPoolExecutor(8) as pool:
        for number in range(20):
            won = list(pool.map(lambda n: storage.create(f"entries/{number:03}", str(n).encode()), range(8)))  # noqa: B023
            assert won.count(True) == 1
            assert storage.read(f"entries/{number:03}") == str(won.index(True)).encode()
    assert before - 0.1 <= storage.changed("entries/000") <= storage.now() + 0.1
    assert len(storage.list("entries")) == 20


def test_links_are_made_where_the_storage_can(storage: Storage, tmp_path: Path) -> None:
    storage.create("singles/x", b"picture")
    if not isinstance(storage, LocalStorage):
        with pytest.raises(StoreError, match="leave `hard_links` out"):
            storage.link("singles/x", tmp_path / "x")
        return
    assert not storage.is_linked("singles/x")
    storage.link("singles/x", tmp_path / "x")
    assert storage.is_linked("singles/x")
    assert (tmp_path / "x").read_bytes() == b"picture"


def test_a_store_in_memory_is_a_store_on_disk(tmp_path: Path) -> None:
    """Packed, changed, tagged, fed, exported, tidied, verified and copied with no path below it."""
    folder = fill(tmp_path / "a", 8)
    memory, disk = pannier.create(f"memory://{tmp_path}"), pannier.create(tmp_path / "s.store")
    seen = {}
    for store in (memory, disk):
        store.pack(folder, shares="train=70,val=30", seed=3, shard_size=40_000)
        store.tag("first")
        store.change(where="key = 'twill/0001.jpg'", set="label=satin")
        snapshot = store.snapshot()
        snapshot.attach(facts={"run": 1}, files={"log.txt": Path(__file__)})
        treatment = pannier.Treatment(16)
        snapshot.render(None, treatment)
        with snapshot.feed("train", treatment, seed=5) as feed:
            batches = [(batch.keys, batch.labels.tolist(), batch.images.tobytes()) for batch in feed]
        snapshot.export(tmp_path / f"out-{len(seen)}")
        assert store.tidy(older_than=0, yes=True).is_done
        assert [finding for finding in pannier.verify(store) if finding.is_damage] == []
        seen[len(seen)] = (snapshot.content_id, batches, [step.totals for step in store.history()])
    assert seen[0] == seen[1]
    assert pannier.open(f"memory://{tmp_path}").content_id == memory.snapshot().content_id
    copied = memory.copy("main", pannier.create(tmp_path / "copy.store"))
    assert {record.key: record.bytes() for record in copied.snapshot} == {r.key: r.bytes() for r in disk.snapshot()}
    with pytest.raises(pannier.UsageError, match="in a bucket"):
        pannier.create("ftp://bucket/x.store")


class Watched:
    """Stands in for `os`: notes which files are flushed, and which are given their final names."""

    def __init__(self, leases: Path) -> None:
        self.log: list[tuple[str, int | str]] = []
        self.leases = leases

    def __getattr__(self, name: str) -> Any:
        real = getattr(os, name)
        if name == "fsync":
            return lambda handle: (self.log.append(("flushed", os.fstat(handle).st_ino)), real(handle))[1]
        if name in ("link", "replace"):
            return lambda *names, **where: (self._named(*names, **where), real(*names, **where))[1]
        return real

    def _named(
        self, source: Any, target: Any, src_dir_fd: int | None = None, dst_dir_fd: int | None = None, **_: Any
    ) -> None:
        folder = os.path.dirname(os.path.abspath(target)) if dst_dir_fd is None else dst_dir_fd
        if self.leases.exists() and os.path.samestat(
            os.stat(folder), self.leases.stat()
        ):  # which need not outlive the machine's running
            return
        self.log.append(("named", os.stat(source, dir_fd=src_dir_fd).st_ino))
        self.log.append(("in", os.stat(folder).st_ino))


def test_a_file_is_flushed_before_it_gets_its_name_and_its_folder_after(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    watched = Watched(tmp_path / "s.store" / "leases")
    for module in (local, files):
        monkeypatch.setattr(module, "os", watched)
    store = pannier.create(tmp_path / "s.store")
    store.pack(fill(tmp_path / "a", 3), shares="train=70,val=30", facts={"run": 1})
    store.snapshot().attach(files={"log.txt": Path(__file__)})
    pannier.Treatment(32).save(tmp_path / "cloth.toml")
    assert len([what for what, _ in watched.log if what == "named"]) >= 9
    for at, (what, inode) in enumerate(watched.log):
        if what == "named":
            assert ("flushed", inode) in watched.log[:at], "named before it was flushed"
        elif what == "in":
            assert ("flushed", inode) in watched.log[at:], "its folder was not flushed"


def test_a_lease_that_is_held_is_renewed_and_one_that_stood_still_is_lost(
    storage: Storage, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Only a lease that is renewed outlives its seconds; one file after the other says so, and none is left behind."""
    storage.create("pannier.json", b"{}")
    monkeypatch.setitem(leases.SECONDS, WRITER, 0.8)
    seen: set[str] = set()
    with holding(storage, WRITER) as held:
        until = time.monotonic() + 2.0
        while time.monotonic() < until:
            seen |= set(storage.list("leases"))
            time.sleep(0.01)
        held.check()
    assert len(seen) >= 3, "it was not renewed"
    assert list(storage.list("leases")) == []
    standing = Held(storage, WRITER)
    time.sleep(0.7)
    with pytest.raises(pannier.ConflictError, match="stood still"):
        standing.check()
    standing.end()


def test_a_lease_that_expired_is_not_renewed(storage: Storage) -> None:
    """A tidier may have come meanwhile: a writer that stood still must learn of it, whatever its thread does then."""
    storage.create("pannier.json", b"{}")
    held = Held(storage, WRITER)
    for passed, is_renewed in ((0.2, False), (0.5, True), (0.9, False), (1.1, False)):
        before = list(storage.list("leases"))
        held._renewed = time.monotonic() - passed * held.seconds
        held.renew()
        assert (list(storage.list("leases")) != before) == is_renewed, passed
    with pytest.raises(pannier.ConflictError, match="stood still"):
        held.check()
    held.end()


def test_writers_that_were_overtaken_go_first_in_the_order_in_which_they_came(storage: Storage) -> None:
    storage.create("pannier.json", b"{}")
    first, second, new = (Turn(storage) for _ in range(3))
    assert not any(turn._is_behind() for turn in (first, second, new)), "nobody waits"
    first.overtaken()
    time.sleep(0.02)
    second.overtaken()
    assert [turn._is_behind() for turn in (first, second, new)] == [False, True, True]
    first.end()
    assert [turn._is_behind() for turn in (second, new)] == [False, True]
    new.overtaken()
    second.end()
    assert not new._is_behind()
    new.end()
    assert list(storage.list("leases")) == []


@pytest.fixture
def finalizers() -> Iterator[None]:
    yield
    assert [thread.name for thread in threading.enumerate() if thread.name.startswith("pannier")] == []


def test_a_first_pack_that_fails_leaves_no_store(tmp_path: Path, finalizers: None) -> None:
    (tmp_path / "a" / "twill").mkdir(parents=True)
    (tmp_path / "a" / "twill" / "x.jpg").write_bytes(b"\xff\xd8\xff\xe0 no picture")
    from pannier.api.opening import bring_in
    from pannier.packing.pack import PackOptions

    with pytest.raises(pannier.SourceError):
        bring_in(tmp_path / "a", tmp_path / "s.store", PackOptions())
    assert not (tmp_path / "s.store").exists()
    assert bring_in(fill(tmp_path / "b", 1), tmp_path / "s.store", PackOptions(preview=True)).added == 3
    assert not (tmp_path / "s.store").exists()
    assert not OpenedStore.on(MemoryStorage()).snapshot_ids()


def test_many_ranges_come_at_once_or_not_at_all(tmp_path: Path) -> None:
    storage = LocalStorage(tmp_path)
    contents = {f"a/{number}": os.urandom(5000) for number in range(6)}
    for name, content in contents.items():
        storage.create(name, content)
    reader, parts = storage.reader(4), np.zeros((5, 100), np.uint8)
    names, offsets = ["a/0", "a/3", "a/0", "a/1", "a/2"], np.array([0, 4900, 17, 1, 2500])
    assert reader.read_each_into(names, offsets, parts)
    wanted = [contents[name][at : at + 100] for name, at in zip(names, offsets, strict=True)]
    assert parts.tobytes() == b"".join(wanted)
    assert CrcJoiner(100).join(np.array([*map(crc32_of, wanted)])) == crc32_of(parts.tobytes())
    assert not reader.read_each_into(names, offsets + np.array([0, 0, 0, 0, 2450]), parts)  # past the end
    assert not reader.read_each_into([*names[:4], "a/nothing"], offsets, parts)
    assert not reader.read_each_into([*contents][:5], offsets, parts)  # more files than it keeps open
    assert not MemoryStorage().reader().read_each_into(names, offsets, parts)
    reader.close()


@given(length=st.integers(1, 5000), count=st.integers(1, 9), seed=st.integers(0, 99))
def test_checksums_are_joined_as_if_they_were_of_one(length: int, count: int, seed: int) -> None:
    whole = np.random.default_rng(seed).bytes(length * count)
    pieces = [whole[at : at + length] for at in range(0, len(whole), length)]
    assert CrcJoiner(length).join(np.array([*map(zlib.crc32, pieces)])) == zlib.crc32(whole)
