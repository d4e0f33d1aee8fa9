"""What must hold whatever happens: kills, damage, many writers, enforced limits. `make prove` runs them at full scale."""

from __future__ import annotations

import contextlib
import errno
import json
import os
import random
import re
import shutil
import subprocess
import sys
from collections.abc import Callable, Iterator
from functools import partial
from pathlib import Path
from typing import Any

import pytest

import pannier
from fuzz.forging import with_equal_crc
from pannier import files
from pannier.errors import DamageError, PannierError, StoreError
from pannier.feeding.job import job_of
from pannier.measuring.process import Child, TrialEnded
from pannier.storage import local
from pannier.storage.local import LocalStorage
from pannier.store.shards import locate
from tests.conftest import fill
from tests.operations import OPERATIONS, make_world, operate, state
from tests.varied import FORMS, write_varied

pytestmark = pytest.mark.proof


@pytest.fixture(scope="module")
def forked() -> Iterator[Callable[[dict[str, Any]], dict[str, Any]]]:
    child = subprocess.Popen(
        [sys.executable, "-m", "tests.forked"], stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True
    )

    def ask(job: dict[str, Any]) -> dict[str, Any]:
        assert child.stdin is not None
        assert child.stdout is not None
        child.stdin.write(json.dumps(job) + "\n")
        child.stdin.flush()
        answer: dict[str, Any] = json.loads(child.stdout.readline())
        return answer

    with child:
        yield ask
        assert child.stdin is not None
        child.stdin.close()


def damage(store: Path) -> list[pannier.Finding]:
    return [finding for finding in pannier.verify(store) if finding.is_damage]


@pytest.fixture(scope="module")
def world(tmp_path_factory: pytest.TempPathFactory) -> Path:
    return make_world(tmp_path_factory.mktemp("world"))


def ends_of(name: str, world: Path) -> tuple[dict[str, Any], dict[str, Any]]:
    """What a user sees before and after an operation."""
    after = world / f"after {name}"
    if not after.exists():
        shutil.copytree(world / "s.store", after)
        operate(name, world, after)
    return state(world / "s.store"), state(after)


@pytest.mark.parametrize("name", OPERATIONS)
def test_an_operation_killed_anywhere_leaves_before_or_after(
    tmp_path: Path, world: Path, forked: Callable[[dict[str, Any]], dict[str, Any]], scale: int, name: str
) -> None:
    before, after = ends_of(name, world)
    job = {"operation": name, "world": str(world)}
    shutil.copytree(world / "s.store", tmp_path / "whole.store")
    steps = forked({**job, "store": str(tmp_path / "whole.store")})["steps"]
    jobs: list[dict[str, Any]] = [{"kill_at": at, "moment": m} for at in range(1, steps + 1) for m in ("before", "after")]
    jobs += [{"kill_after": random.Random(i).uniform(0.001, 0.3)} for i in range(10)]
    chosen = random.Random(name).sample(jobs, min(len(jobs), 2 if scale == 1 else 6 * scale))
    ends = {"before": 0, "after": 0}
    for number, kill in enumerate(chosen):
        store = tmp_path / f"{number}.store"
        shutil.copytree(world / "s.store", store)
        answer = forked({**job, "store": str(store), **kill})
        assert answer["signal"] == 9 or ("kill_after" in kill and answer["exit"] == 0), (kill, answer)
        found = state(store)
        assert found in (before, after) or is_between(name, found, before, after), kill
        ends["after" if found == after else "before"] += 1
        assert damage(store) == [], kill
        operate(name, world, store)
        assert state(store) == after, kill
        assert damage(store) == [], kill
        shutil.rmtree(store)
    print(f"\n{len(chosen)} kills over {steps} publishing steps of {name!r} and at random: {ends}")


def is_between(name: str, found: dict[str, Any], before: dict[str, Any], after: dict[str, Any]) -> bool:
    """Renaming makes the new name before it takes the old one away: for a moment both are there."""
    return name == "rename" and found == before | after


class FailingDisk:
    """Stands in for `os` in the store's files: call number `fails_at` is refused, and those after it if `for_good`."""

    CALLS = ("open", "fsync", "link", "unlink", "stat")

    def __init__(self, fails_at: int, number: int, for_good: bool) -> None:
        self._fails_at, self._errno, self._for_good = fails_at, number, for_good
        self.calls = 0

    def __getattr__(self, name: str) -> Any:
        real = getattr(os, name)
        return partial(self._counted, real) if name in self.CALLS else real

    def _counted(self, real: Callable[..., Any], *arguments: Any, **options: Any) -> Any:
        self.calls += 1
        if self.calls == self._fails_at or (self._for_good and self.calls > self._fails_at):
            raise OSError(self._errno, os.strerror(self._errno))
        return real(*arguments, **options)


def watch(monkeypatch: pytest.MonkeyPatch, disk: Any) -> None:
    for module in (local, files):
        monkeypatch.setattr(module, "os", disk)


@pytest.mark.parametrize("name", OPERATIONS)
def test_any_call_that_the_disk_refuses_leaves_before_or_after(
    tmp_path: Path, world: Path, monkeypatch: pytest.MonkeyPatch, scale: int, name: str
) -> None:
    before, after = ends_of(name, world)
    shutil.copytree(world / "s.store", tmp_path / "whole.store")
    counter = FailingDisk(0, 0, False)
    watch(monkeypatch, counter)
    operate(name, world, tmp_path / "whole.store")
    numbers = (errno.ENOSPC, errno.EIO, errno.EROFS, errno.EDQUOT, errno.EINTR)
    jobs = [(at, number, good) for at in range(1, counter.calls + 1) for number in numbers for good in (False, True)]
    chosen = random.Random(name).sample(jobs, min(len(jobs), 2 if scale == 1 else 6 * scale))
    ends = {"before": 0, "after": 0}
    for at, number, for_good in chosen:
        store = tmp_path / f"{at}-{number}-{for_good}.store"
        shutil.copytree(world / "s.store", store)
        watch(monkeypatch, FailingDisk(at, number, for_good))
        is_done = False
        with contextlib.suppress(StoreError):
            operate(name, world, store)
            is_done = True  # the refused call did not matter: a lease's end, say
        watch(monkeypatch, os)
        found = state(store)
        assert found == after or (found == before and not is_done) or is_between(name, found, before, after), (at, number)
        ends["after" if found == after else "before"] += 1
        assert damage(store) == [], (at, number)
        operate(name, world, store)
        assert state(store) == after, (at, number)
        shutil.rmtree(store)
    print(f"\n{len(chosen)} refusals over {counter.calls} calls of {name!r}: {ends}")


def corrupt(path: Path, how: str, other: Path, rng: random.Random) -> None:
    data = bytearray(path.read_bytes())
    if how == "bit":
        at = rng.randrange(len(data))
        data[at] ^= 1 << rng.randrange(8)
    elif how == "cut":
        del data[rng.randrange(len(data)) :]
    elif how == "swap ranges":
        size = max(1, len(data) // 20)
        one, two = rng.randrange(len(data) // 2 - size + 1), rng.randrange(len(data) // 2, len(data) - size + 1)
        data[one : one + size], data[two : two + size] = data[two : two + size], data[one : one + size]
    elif how == "swap files":
        ours, theirs = path.read_bytes(), other.read_bytes()
        other.write_bytes(ours)
        data = bytearray(theirs)
    path.write_bytes(data)


def test_any_damage_is_found_and_no_wrong_picture_is_given_out(tmp_path: Path, world: Path, scale: int) -> None:
    """Damage that verify does not tell of harms nothing: a user sees what there was, or what there was an entry before."""
    base = world / "s.store"
    right = state(base)
    pictures = {r.key: r.bytes() for name in ("main", "second") for r in pannier.open(f"{base}@{name}")}
    files = sorted(path.relative_to(base) for path in base.rglob("*") if path.is_file())
    done = silent = 0
    for number in range(16 * scale):
        rng = random.Random(number)
        how = rng.choice(["bit", "bit", "cut", "swap ranges", "swap files", "missing"])
        name = rng.choice(files)
        others = [file for file in files if file.parent == name.parent and file != name] or [n for n in files if n != name]
        store = tmp_path / "damaged.store"
        shutil.copytree(base, store)
        if how == "missing":
            (store / name).unlink()
        else:
            corrupt(store / name, how, store / rng.choice(others), rng)
        if all((store / file).exists() and (store / file).read_bytes() == (base / file).read_bytes() for file in files):
            shutil.rmtree(store)
            continue  # the swap hit equal bytes
        done += 1
        try:
            found: list[Any] = damage(store)
        except PannierError as error:  # not a store any more
            found = [error]
        if not found:
            silent += 1
            follower = f"{int(name.stem) + 1:08}.json" if name.stem.isdigit() else ""
            is_newest_entry = bool(follower) and name.parent / follower not in files
            assert how == "missing", (number, how, name)
            assert is_newest_entry or state(store) == right, (number, how, name)
        try:
            for strand in pannier.open_store(store).strands.all_names():
                with pannier.open(f"{store}@{strand}").feed(None, batch_size=5, workers=1) as feed:
                    for batch in feed:
                        for key, data in zip(batch.keys, batch.images, strict=True):
                            assert data == pictures.get(key, data), (number, how, name)
        except PannierError:
            pass
        shutil.rmtree(store)
    print(f"\n{done} damages: {done - silent} found, {silent} files gone that nothing needed; no wrong picture given out")


def test_forged_bytes_of_an_equal_checksum_are_found_where_a_docket_is_trusted(
    tmp_path: Path, world: Path, scale: int
) -> None:
    """A label or a picture otherwise, the CRC-32 of its file or picture as before: dockets lead to SHA-256 alone."""
    base = world / "s.store"
    snapshot = pannier.open(base)
    right = {record.key: (record.label, record.bytes()) for record in snapshot}
    path = tmp_path / "a.docket"
    path.write_text(snapshot.docket("all", shuffle=False, batch_size=5, label_as="name").text())
    deceived = {"label": 0, "picture": 0}
    for number in range(6 * scale):
        rng = random.Random(number)
        store = Path(shutil.copytree(base, tmp_path / "forged.store"))
        what = rng.choice([*deceived])
        if what == "label":
            _forge_label(store, snapshot, rng)
        else:
            _forge_picture(store, rng)
        is_shown = True  # or another snapshot's picture
        with contextlib.suppress(PannierError):
            is_shown = _fed(pannier.open(store).feed(None, batch_size=5, label_as="name", workers=1)) != right
            deceived[what] += is_shown
        with pytest.raises(DamageError) if is_shown else contextlib.nullcontext():
            assert _fed(pannier.from_docket(path, store=store, workers=1)) == right
        assert damage(store), number
        shutil.rmtree(store)
    assert all(deceived.values())
    print(f"\n{6 * scale} forgeries of an equal CRC-32: all found through a docket; without one {deceived} given out")


def _fed(feed: pannier.Feed) -> dict[str, tuple[Any, bytes]]:
    with feed:
        return {
            key: (label, data)
            for batch in feed
            for key, label, data in zip(batch.keys, batch.labels, batch.images, strict=True)
        }


def _forge_label(store: Path, snapshot: pannier.Snapshot, rng: random.Random) -> None:
    """Two class names for one another where a manifest has them, and four bytes of a digest that no feed looks at."""
    path = store / "manifests" / f"{snapshot.document['base']['name']}.arrow"
    before = path.read_bytes()
    found = re.search(rb"(?:plain|satin|twill){3}", before)
    assert found
    one, two = rng.sample([b"plain", b"satin", b"twill"], 2)
    names = found[0].replace(one, b"-----").replace(two, one).replace(b"-----", two)
    forged = before[: found.start()] + names + before[found.end() :]
    path.chmod(0o644)
    at = before.index(rng.choice([*snapshot.manifest.base_digests.values()]) or b"")
    path.write_bytes(with_equal_crc(before, forged, at))


def _forge_picture(store: Path, rng: random.Random) -> None:
    """Some bytes of one picture, among them four that make its checksum right."""
    name = rng.choice(sorted((store / "shards").glob("*.arrow")))
    data = bytearray(name.read_bytes())
    located = locate(LocalStorage(store), name.stem)
    row = rng.randrange(len(located.offset))
    start, length = int(located.offset[row]), int(located.length[row])
    before = bytes(data[start : start + length])
    changed = bytearray(before)
    changed[length // 2] ^= 1 << rng.randrange(8)
    data[start : start + length] = with_equal_crc(before, bytes(changed), length // 2 + 5)
    name.chmod(0o644)
    name.write_bytes(data)


@pytest.mark.parametrize("writers", [2, 8])
def test_packers_at_once_lose_no_snapshot(tmp_path: Path, writers: int, scale: int) -> None:
    rounds, writers = (1, min(writers, 5)) if scale == 1 else (5, writers)
    for round_number in range(rounds):
        store = tmp_path / f"{round_number}.store"
        pannier.create(store)
        sources = [fill(tmp_path / f"{round_number}-{i}", 3, first=100 * i) for i in range(writers)]
        command = [sys.executable, "-m", "pannier", "pack"]
        packers = [
            subprocess.Popen([*command, str(source), str(store), "--shares", "a=50,b=50"], stdout=subprocess.DEVNULL)
            for source in sources
        ]
        assert [packer.wait(120) for packer in packers] == [0] * writers
        snapshot = pannier.open(store)
        assert len(snapshot) == 9 * writers
        assert len(snapshot.store.strands.numbers("main")) == writers
        assert len(snapshot.store.snapshot_ids()) >= writers
        assert sum(snapshot.splits.values()) == 9 * writers
        assert damage(store) == []
    print(f"\n{rounds} times {writers} packers at once: every snapshot is there")


# what else a treatment may hold memory for
PREPARED: list[dict[str, Any]] = [
    {},
    {"turn": 20, "zoom": 1.5, "shift": 0.1, "brightness": 0.2},
    {"tone": "clahe", "filter": "lanczos", "dtype": "float16"},
    {"jpeg": 50, "blur": 0.02, "erase": 1.0, "trim": 4},
]


def limited_trial(snapshot: pannier.Snapshot, number: int, seconds: float = 0.3) -> tuple[str, str, float]:
    """(status, reason, peak as a share of the limit) of a feed of random settings under an enforced limit."""
    rng = random.Random(number)
    size, batch_size, workers = rng.choice([16, 48, 96, 160]), rng.choice([1, 4, 16, 32]), rng.randint(1, 4)
    treatment = pannier.Treatment(
        size,
        fit=rng.choice(["cover", "contain", "fill"]),
        color=rng.choice(["rgb", "gray"]),
        layout=rng.choice(["chw", "hwc"]),
        **rng.choice(PREPARED),
    )
    options: dict[str, Any] = {"batch_size": batch_size, "workers": workers, "augment": True, "seed": number}
    options["processes"] = number // 4 % 2
    try:
        snapshot.feed(None, treatment, memory_limit="1MiB", **options).close()
        limit = 1 << 20
    except pannier.LimitError as error:
        limit = int(error.smallest_limit * rng.uniform(1.0, 1.6))
    feed = job_of(snapshot, None, treatment, memory_limit=limit, shuffle=True, rendered=False, **options)
    job = {"kind": "feed", "feed": feed.to_plain()}
    child = Child(job)
    try:
        child.wait_until_ready(90)
        child.begin(seconds)
        child.finish(seconds)
        return "ok", "", child.peak_bytes / limit
    except TrialEnded as ended:
        return ended.status, f"{job}: {ended.reason}", 0.0
    finally:
        child.close()


def test_no_feed_exceeds_an_enforced_limit(tmp_path: Path, scale: int) -> None:
    from pannier.demo.archive import draw_archive

    draw_archive(tmp_path, 60, 3)
    sources = [
        tmp_path / "archive",
        write_varied(tmp_path / "png", 60, 1, FORMS[:1]),
        write_varied(tmp_path / "webp", 60, 2, FORMS[7:8]),
        write_varied(tmp_path / "mixed", 60, 3),
    ]
    snapshots = [pannier.create(tmp_path / f"{source.name}.store").pack(source).snapshot for source in sources]
    shares = []
    for number in range(4 * scale):
        status, reason, share = limited_trial(snapshots[number % len(snapshots)], number)
        assert status == "ok", reason
        assert share <= 1.0, (number, share)
        shares.append(share)
    print(f"\n{len(shares)} limited feeds: none over, none ended; highest peak {max(shares):.2f} of its limit")
