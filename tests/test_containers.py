"""What a container allows: quotas of cores and limits of memory, in control groups of either version, made up and real."""

from __future__ import annotations

import os
import subprocess
import sys
import uuid
from collections.abc import Iterator
from pathlib import Path

import pytest

from pannier import containers, machine

MIB = 1 << 20
NONE = "9223372036854771712"  # what version 1 says where there is no limit
REAL = Path("/sys/fs/cgroup")
# a feed that is given no limit, in a group of 256 MiB and half a core
FEED = """
import os, sys
for folder in sys.argv[2:]:
    open(folder + "/cgroup.procs", "w").write(str(os.getpid()))
import pannier
with pannier.open(sys.argv[1]).feed("train", pannier.Treatment(16)) as feed:
    pictures = sum(len(batch) for batch in feed)
    print(pictures, feed.plan.workers, feed.plan.limit_bytes)
"""


@pytest.fixture
def groups(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    monkeypatch.setattr(containers, "_MOUNTED", tmp_path / "cgroup")
    monkeypatch.setattr(containers, "_OWN", tmp_path / "own")
    return tmp_path


def write(groups: Path, own: str, files: dict[str, str]) -> None:
    (groups / "own").write_text(own)
    for name, text in files.items():
        path = groups / "cgroup" / name
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text(text + "\n")


@pytest.mark.parametrize(
    ("own", "files", "cores", "free"),
    [
        ("", {}, None, None),
        ("0::/\n", {"cpu.max": "max 100000", "memory.max": "max", "memory.current": "5"}, None, None),
        ("0::/\n", {"cpu.max": "150000 100000", "memory.max": "900", "memory.current": "200"}, 1.5, 700),
        # the tightest on the way up, whichever group it is
        (
            "0::/jobs/one\n",
            {
                **{"jobs/one/cpu.max": "400000 100000", "jobs/cpu.max": "200000 100000"},
                **{"jobs/one/memory.max": "900", "jobs/one/memory.current": "100"},
                **{"jobs/memory.max": "1000", "jobs/memory.current": "950"},
            },
            2.0,
            50,
        ),
        # cached files are given up where memory is wanted
        (
            "0::/a\n",
            {
                "a/memory.max": "900",
                "a/memory.current": "890",
                "a/memory.stat": "anon 90\ninactive_file 500\nactive_file 300",
            },
            None,
            810,
        ),
        # version 1, of which a container sees its own group as the root
        (
            "4:memory:/pod/abc\n3:cpu,cpuacct:/pod/abc\n0::/\n",
            {
                **{"cpu,cpuacct/cpu.cfs_quota_us": "50000", "cpu,cpuacct/cpu.cfs_period_us": "100000"},
                **{"memory/memory.limit_in_bytes": "900", "memory/memory.usage_in_bytes": "700"},
                "memory/memory.stat": "inactive_file 0\ntotal_inactive_file 400\ntotal_active_file 100",
            },
            0.5,
            700,
        ),
        ("2:cpu:/\n", {"cpu/cpu.cfs_quota_us": "-1", "cpu/cpu.cfs_period_us": "100000"}, None, None),
    ],
)
def test_limits_of_either_version_are_seen(
    groups: Path, own: str, files: dict[str, str], cores: float | None, free: int | None
) -> None:
    write(groups, own, files)
    assert containers.allowed_cores() == cores
    assert containers.free_bytes() == free


def test_a_machine_has_no_more_than_its_container(groups: Path) -> None:
    limits = {"cpu.max": "10000 100000", "memory.max": str(64 * MIB), "memory.current": str(24 * MIB)}
    write(groups, "0::/\n", limits)
    assert machine.usable_cores() == 1
    assert machine.free_memory_bytes() == 40 * MIB
    write(groups, "4:memory:/\n", {"memory/memory.limit_in_bytes": NONE, "memory/memory.usage_in_bytes": "5"})
    (groups / "cgroup" / "memory.max").unlink()
    assert machine.free_memory_bytes() > 40 * MIB


@pytest.fixture
def real() -> Iterator[list[Path]]:
    """Groups of this machine's own: a quarter of a GiB, half a core."""
    name = f"pannier-{uuid.uuid4().hex[:8]}"
    wanted = [
        (REAL / "memory" / name, {"memory.limit_in_bytes": str(256 * MIB)}),
        (REAL / "cpu" / name, {"cpu.cfs_period_us": "100000", "cpu.cfs_quota_us": "50000"}),
    ]
    if not all(os.access(folder.parent / "cgroup.procs", os.W_OK) for folder, _ in wanted):
        wanted = [(REAL / name, {"memory.max": str(256 * MIB), "cpu.max": "50000 100000"})]
    made = list[Path]()
    try:
        for folder, limits in wanted:
            folder.mkdir()
            made.append(folder)
            for file, text in limits.items():
                (folder / file).write_text(text)
    except OSError as error:
        for folder in made:
            folder.rmdir()
        pytest.skip(f"control groups cannot be made here: {error}")
    yield made
    for folder in made:
        folder.rmdir()


def test_a_feed_lives_within_its_container(real: list[Path], archive: Path, tmp_path: Path) -> None:
    import pannier

    pannier.create(tmp_path / "s.store").pack(archive, shares={"train": 100})
    command = [sys.executable, "-c", FEED, str(tmp_path / "s.store"), *map(str, real)]
    done = subprocess.run(command, capture_output=True, text=True, check=True)
    pictures, workers, limit = map(int, done.stdout.split())
    assert pictures > 0
    assert workers == 1
    assert limit < 128 * MIB
