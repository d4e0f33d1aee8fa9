"""Measuring: every setting in its own limited process beside its ceilings, and figures that can be trusted and kept."""

from __future__ import annotations

import hashlib
import json
import mmap
import os
import shlex
import shutil
import signal
import subprocess
import sys
import time
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
import pytest

import pannier
from pannier.errors import SourceError, UsageError
from pannier.feeding.job import job_of
from pannier.measuring.process import Child, TrialEnded
from pannier.measuring.rows import Rate, trial_of
from pannier.measuring.runs import against, read_run, save_run
from pannier.measuring.search import Search
from pannier.measuring.settings import Grid, Setting, Step
from pannier.memory import Sampler, working_bytes
from tests.conftest import Ended

QUICK: dict[str, Any] = {"rounds": 2, "slice_seconds": 0.1, "batch_size": 8, "source": "shards", "memory_limit": None}
# own steps that trials have: one takes its time, one takes memory that no limit counts, one ends a limited process
STEPS = """
import mmap, os, resource, time
import pannier

held = []

@pannier.own_step("slow", version=1, at="decoded")
def slow(pixels):
    with open(f"{__file__}.{os.getpid()}.times", "a") as file:
        file.write(f"{time.monotonic()}\\n")
    time.sleep(0.2)
    return pixels

@pannier.own_step("shares", version=1, at="decoded")
def shares(pixels):
    held.append(None)
    if len(held) == 20:  # after all is warm
        held.append(mmap.mmap(-1, 48 << 20))
        for at in range(0, 48 << 20, mmap.PAGESIZE):
            held[-1][at] = 1
    return pixels

@pannier.own_step("fragile", version=1, at="decoded")
def fragile(pixels):
    if resource.getrlimit(resource.RLIMIT_DATA)[0] != resource.RLIM_INFINITY:
        os._exit(3)
    return pixels
"""


@pytest.fixture
def steps(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    (tmp_path / "steps_of_trials.py").write_text(STEPS)
    monkeypatch.syspath_prepend(str(tmp_path))
    monkeypatch.setenv("PYTHONPATH", os.pathsep.join([str(tmp_path), *filter(None, [os.environ.get("PYTHONPATH")])]))
    sys.modules.pop("steps_of_trials", None)
    from pannier.images import own_steps

    for name in ("slow", "shares", "fragile", "here"):
        own_steps._registered.pop(name, None)
    __import__("steps_of_trials")


def test_a_sweep_measures_every_setting_and_says_what_does_not_fit(packed: pannier.Snapshot, archive: Path) -> None:
    limits = ("1MiB", None)
    found = packed.measure("train", pannier.Treatment(48), workers=(1, 2), **QUICK | {"memory_limit": limits})
    assert [(row.workers, row.memory_limit_bytes, row.status) for row in found.trials] == [
        (1, 1 << 20, "too_small"),
        (2, 1 << 20, "too_small"),
        (1, None, "ok"),
        (2, None, "ok"),
    ]
    assert "would fit" in found.trials[0].reason or "raise the limit" in found.trials[0].reason
    good = found.trials[2]
    assert good.pictures_per_second is not None
    assert good.pictures_per_second.low <= good.rate <= good.pictures_per_second.high
    assert len(good.samples) == 2
    assert good.peak_bytes
    assert good.share_of_ceiling
    assert sum(good.stages[name] for name in ("read", "decode", "prepare", "hand_over")) == pytest.approx(1)
    assert good.waits_ms["50"] <= good.waits_ms["100"]
    assert [row.workers for row in found.ceiling] == [1, 2]
    assert found.reading[0].rate > found.ceiling[1].rate
    assert found.machine["cores"] >= 1
    found = packed.measure("train", size=[16, (24, 20)], workers=1, step="1ms", **QUICK)
    assert [(row.size, row.status) for row in found.trials] == [((16, 16), "ok"), ((24, 20), "ok")]
    sources, how = ["rendered", f"folder:{archive}"], QUICK | {"rounds": 1}
    found = packed.measure("train", size=16, workers=1, processes=(0, 1), **how | {"source": sources})
    told = [(row.source, row.processes, row.status) for row in found.trials]
    assert told == [("rendered", 0, "ok"), ("rendered", 1, "ok"), (sources[1], 0, "ok")]
    assert found.settings["rendering_bytes"].keys() == {"16x16"}
    assert not [finding.file for finding in pannier.verify(packed.store)], "no lease, no rendering is left behind"
    assert [path.name for path in packed.store.path.parent.iterdir()] == [packed.store.path.name]


@pytest.mark.parametrize(
    "options",
    [
        *({"workers": 0}, {"memory_limit": "auto"}, {"rounds": 0}, {"memory_limit": "12XB"}, {"batch_size": (8, "x")}),
        *({"source": "disk"}, {"source": "folder:x", "processes": 1}, {"step": "soon"}, {"workers": ()}, {"ahead": 0}),
    ],
)
def test_impossible_sweeps_are_refused(packed: pannier.Snapshot, options: dict[str, Any]) -> None:
    with pytest.raises(UsageError):
        packed.measure("train", pannier.Treatment(8), **options)


def test_a_known_rate_is_measured_and_a_slow_consumer_waits_for_nothing(
    packed: pannier.Snapshot, steps: None, tmp_path: Path
) -> None:
    slow = pannier.Treatment(16, own=["slow"])
    how: dict[str, Any] = {"workers": 1, "batch_size": 2, "ahead": 1, "rounds": 3, "slice_seconds": 1.5}
    how |= {"source": "shards", "memory_limit": None}
    (trial,) = packed.measure("train", slow, **how).trials
    times = [np.array([*map(float, path.read_text().split())]) for path in tmp_path.glob("*.times")]
    took = np.concatenate([np.diff(each) for each in times])  # a fifth of a second, or more where the machine stands still
    assert 0.95 / np.percentile(took[took < 1], 90) <= trial.rate <= 5.5  # which may also bring a batch into another slice
    assert trial.starved_share is not None
    assert trial.starved_share > 0.9
    (trial,) = packed.measure("train", pannier.Treatment(16), step="60ms", **how | {"slice_seconds": 0.5}).trials
    assert trial.starved_share is not None
    assert trial.starved_share < 0.05
    assert trial.binds == "consumer"
    pannier.own_step("here", version=1, at="decoded")(eval("lambda pixels: pixels", {"__name__": "__main__"}))
    with pytest.raises(UsageError, match="trials run in processes of their own"):
        packed.measure("train", pannier.Treatment(16, own=["here"]))


def test_what_takes_more_or_dies_is_a_row_and_the_sweep_goes_on(own: pannier.Snapshot, steps: None) -> None:
    how: dict[str, Any] = {**QUICK, "workers": 1, "memory_limit": ("40MiB", None)}
    over, free = own.measure("train", pannier.Treatment(16, own=["shares"]), **how).trials
    assert (over.status, free.status) == ("over_limit", "ok")
    assert over.peak_bytes is not None
    assert over.peak_bytes > 48 << 20
    dead, alive = own.measure("train", pannier.Treatment(16, own=["fragile"]), **how).trials
    assert (dead.status, alive.status) == ("died", "ok")
    assert "exit status 3" in dead.reason


@pytest.mark.parametrize(
    ("body", "status", "says"),
    [
        ("import time; time.sleep(60)", "timed_out", "stuck.py"),
        ("import os; os.kill(os.getpid(), 11)", "died", "stuck.py"),
        ("raise MemoryError('full')", "died", "full"),
    ],
)
def test_a_trial_that_hangs_or_dies_is_a_row_that_says_so(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, body: str, status: str, says: str
) -> None:
    (tmp_path / "stuck.py").write_text(
        "from pannier.measuring.child import serve\n"
        f"class R:\n    def run(self, seconds):\n        {body}\n        return 1, 1.0\n"
        "serve(lambda job: R())\n"
    )
    monkeypatch.setenv("PYTHONPATH", os.pathsep.join([str(tmp_path), *filter(None, [os.environ.get("PYTHONPATH")])]))
    monkeypatch.setattr("pannier.measuring.process.SLACK_SECONDS", 1.0)
    child = Child({}, "stuck")
    try:
        child.wait_until_ready()
        child.begin(0.1)
        with pytest.raises(TrialEnded) as caught:
            child.finish(0.1)
    finally:
        child.close()
        child.close()
    assert caught.value.status == status
    assert says in caught.value.reason


def test_a_trial_whose_answers_nobody_hears_ends_in_order(own: pannier.Snapshot) -> None:
    """Under working threads the interpreter must not be taken down: that ends in an abort now and then."""
    feed = job_of(own, None, pannier.Treatment(16), workers=2, processes=0, memory_limit=None)
    command, pipes = [sys.executable, "-m", "pannier.measuring.child"], dict.fromkeys(("stdin", "stdout", "stderr"), -1)
    with subprocess.Popen(command, **pipes) as trial:  # type: ignore[call-overload]
        trial.stdin.write(json.dumps({"kind": "feed", "feed": feed.to_plain()}).encode() + b"\n")
        trial.stdin.flush()
        assert "ready" in json.loads(trial.stdout.readline())
        trial.stdout.close()
        trial.stdin.write(b'{"run": 0.1}\n')
        trial.stdin.flush()
        assert trial.stderr.read() == b""
    assert trial.returncode == 0


@pytest.mark.skipif(sys.platform != "linux", reason="the system tells and enforces this on Linux alone")
def test_working_memory_is_what_the_system_says(tmp_path: Path, scale: int) -> None:
    """Within 2 % of its list of mappings: a process's own pages, shared ones once however many map them, none of files."""
    rng, off = np.random.default_rng(scale), [0.0]
    for _ in range(3 * scale):
        own, shared, of_file = (int(size) << 20 for size in rng.integers(8, 64, 3))
        (tmp_path / "file").touch()
        os.truncate(tmp_path / "file", of_file)
        descriptor = os.memfd_create("shared")
        os.ftruncate(descriptor, shared)
        with subprocess.Popen([sys.executable, "-c", SHARING, str(descriptor)], pass_fds=[descriptor], **PIPES) as other:
            level = int(other.stdout.readline())
            sampler, before = Sampler(os.getpid(), 0.002), working_bytes()
            sampler.add(other.pid, level)
            block = mmap.mmap(-1, own, mmap.MAP_PRIVATE | mmap.MAP_ANONYMOUS)
            read, both = np.memmap(tmp_path / "file", mode="r"), mmap.mmap(descriptor, shared)
            assert read.sum() == 0
            for mapping in (block, both):
                np.frombuffer(mapping, np.uint8).fill(1)
            del read, mapping
            other.stdin.write("\n")
            other.stdin.flush()
            other.stdout.readline()
            sampler.close()
            sampler.pause()  # a last look, however late its thread may have been
            assert working_bytes() == pytest.approx(listed_bytes(), rel=0.02)
            off.append(abs(sampler.peak_bytes - before - own - shared) / (own + shared))
            block.close()
            both.close()
        os.close(descriptor)
    assert max(off) <= 0.02
    assert working_bytes(2**22 + 1) == 0
    print(f"\n{3 * scale} pairs of processes that share memory: off by {max(off):.1%} at most")


SHARING = """
import mmap, sys
from pannier.memory import working_bytes
print(working_bytes(), flush=True)
sys.stdin.readline()
both = mmap.mmap(int(sys.argv[1]), 0)
sum(both[::4096])
print(flush=True)
sys.stdin.readline()
"""
PIPES: dict[str, Any] = {"stdin": subprocess.PIPE, "stdout": subprocess.PIPE, "text": True}


def listed_bytes() -> int:
    """What this process holds by the system's list of its mappings, but for pages of files as they are there."""
    held, is_shared = 0, False
    for line in Path("/proc/self/smaps").read_text().splitlines():
        words = line.split()
        if "-" in words[0]:
            is_shared = words[-1] == "(deleted)" and words[5].startswith(("/memfd:", "/dev/zero"))
        elif words[0] == ("Rss:" if is_shared else "Anonymous:"):
            held += int(words[1]) << 10
    return held


def rated(setting: Setting, rate: float, **more: Any) -> Any:
    return trial_of(
        setting, pictures_per_second=Rate(rate, rate, rate), peak_bytes=1 << 20, ahead=2, share_of_ceiling=0.5, **more
    )


@pytest.mark.parametrize("seed", range(8))
def test_a_search_finds_what_is_near_the_best_in_a_third_of_the_trials(seed: int) -> None:
    rng = np.random.default_rng(seed)
    counts: dict[str, Any] = {
        "workers": [1, 2, 4, 8],
        "processes": [0, 1],
        "ahead": [None, 2],
        "batch_size": [16, 32, 64, 128],
    }
    settings = Grid.of([(8, 8)], ["shards", "rendered"], [None, "64MiB"], **counts).settings()
    peak = {name: rng.integers(len(values)) for name, values in counts.items()}
    slope = dict(zip(counts, rng.uniform(0.02, 0.3, len(counts)), strict=True))

    def rate(setting: Setting) -> float:
        off = sum(slope[name] * abs(values.index(getattr(setting, name)) - peak[name]) for name, values in counts.items())
        return float((3 if setting.source == "rendered" else 1) * 1000 * (1 - off / 3))

    search, tried = Search(settings, Step.read("python:1ms") if seed % 2 else None), dict[Setting, Any]()
    while some := search.next(tried):
        tried |= {setting: rated(setting, rate(setting)) for setting in some}
    assert len(tried) <= len(settings) / 3
    for limit in (None, 64 << 20):
        best = max(rate(setting) for setting in settings if setting.memory_limit_bytes == limit)
        assert max(rate(setting) for setting in tried if setting.memory_limit_bytes == limit) >= 0.95 * best


def test_the_answer_is_the_cheapest_of_the_fastest_and_says_what_others_give() -> None:
    (base,) = Grid.of([(96, 96)], "shards", "64MiB", batch_size=32, workers=2, processes=0, ahead=None).settings()
    rows = [
        rated(base, 1000.0, binds="processor"),
        rated(replace(base, workers=3), 1010.0),
        rated(replace(base, source="rendered"), 980.0),
        trial_of(replace(base, workers=4), status="died", reason="killed"),
    ]
    found = pannier.Measurement([], rows, {"step": None, "rendering_bytes": {"96x96": 3 << 20}})
    told = found.answer
    assert told.best is rows[0]
    assert told.sentences[0] == "2 workers, batches of 32, 2 ahead: 1,000 pictures/s, 50 % of the ceiling, 1 MiB of 64 MiB."
    text = " ".join(told.sentences)
    assert "3 workers give 1 % more." in text
    assert "A training step of 32 ms or longer a batch never waits for it." in text
    assert told.call("train").endswith("workers=2, processes=0, ahead=2, memory_limit='64MiB')")
    free = [rated(replace(base, memory_limit_bytes=limit), rate) for limit, rate in ((None, 1000.0), (32 << 20, 900.0))]
    enough = replace(found, trials=[*free, rated(replace(base, memory_limit_bytes=48 << 20), 970.0), rows[0]]).answer
    assert enough.options["memory_limit"] == 48 << 20, "under 32 MiB it is slower, 64 MiB are more than it needs"
    assert "A memory limit of 48 MiB is enough." in enough.sentences
    fast = replace(found, trials=[rows[0], rated(replace(base, source="rendered"), 6200.0)]).answer
    assert "That is 6.2 times what decoding gives, for 3 MiB of disk." in fast.sentences
    assert fast.options["rendered"] is True
    with pytest.raises(SourceError):
        print(replace(found, trials=rows[-1:]).answer)


def test_by_default_canvases_are_tried_too_and_the_answer_names_a_limit_that_is_enough(packed: pannier.Snapshot) -> None:
    found = packed.measure("train", size=32, workers=1, rounds=2, slice_seconds=0.1, batch_size=4)
    assert [(trial.source, trial.memory_limit_bytes) for trial in found.trials[:2]] == [("shards", None), ("rendered", None)]
    assert {trial.memory_limit_bytes is None for trial in found.trials[2:]} == {False}
    free = next(trial for trial in found.trials if trial.source == found.trials[2].source)
    assert min(trial.memory_limit_bytes or 0 for trial in found.trials[2:]) > (free.peak_bytes or 0)
    kept = found.settings
    assert (kept["rounds"], kept["rendering_missing"]["32x32"] > 0) == (4, True)


def test_runs_are_kept_and_held_against_one_another(packed: pannier.Snapshot, tmp_path: Path) -> None:
    found = packed.measure("train", size=16, workers=1, **QUICK | {"memory_limit": (None, "1MiB")})
    save_run(found, tmp_path / "a.json")
    kept = read_run(tmp_path / "a.json")
    assert kept.to_dict() == found.to_dict()
    same = against(found, kept)
    assert same.ratios[0].of_rates.median == 1
    assert "failed" in " ".join(same.reasons)
    slow = [replace(trial, samples=[rate / 20 for rate in trial.samples]) for trial in found.trials]
    slower = against(replace(found, trials=slow), kept)
    assert [ratio.now for ratio in slower.slower(0.1)] == [slow[0]]
    assert against(replace(found, trials=slow, settings=found.settings | {"content_id": "0"}), kept).ratios == []
    elsewhere = against(replace(found, machine={"processor": "another"}), kept)
    assert "another machine" in elsewhere.reasons[-1]
    for text in ("{}", "[1]", '{"pannier": "measurement 2"}', json.dumps(kept.to_dict())):
        (tmp_path / "b.json").write_text(text)
        with pytest.raises(SourceError, match="is no measurement that was saved"):
            read_run(tmp_path / "b.json")


def test_the_command_prints_a_table_an_answer_or_json(
    packed: pannier.Snapshot, run: Callable[..., Any], tmp_path: Path
) -> None:
    store, kept = packed.store.path, tmp_path / "run.json"
    options = ["--size", 32, "--workers", "1", "--rounds", 1, "--slice-seconds", "0.1", "--batch-size", 4]
    options += ["--source", "shards"]
    ended = run("measure", store, *options, "--memory-limit", "1MiB,none", "--figure", tmp_path / "m.png", "--save", kept)
    assert ended.status == 0
    for words in ("ceiling", "too small", "best", "% of the ceiling", f"pannier feed {store} --split train --size 32 "):
        assert words in ended.out
    assert max(map(len, ended.out.splitlines()[:4])) <= 100
    assert (tmp_path / "m.png").stat().st_size > 5000
    told = json.loads(kept.read_text())
    told["trials"][1]["samples"] = [1e9]
    kept.write_text(json.dumps(told))
    ended = run("measure", store, *options, "--memory-limit", "none", "--against", kept)
    assert (ended.status, "slower" in ended.out) == (1, True)
    fast = tmp_path / "fast.toml"
    assert run("measure", store, *options, "--memory-limit", "none", "--ahead", 3, "--save-to", fast).status == 0
    fed = json.loads(run("feed", store, "--split", "train", "--treatment", fast, "--json").out)
    assert (fed["batches_per_epoch"], fed["plan"]["workers"], fed["plan"]["ahead"]) == (11, 1, 3)
    assert (
        json.loads(run("feed", store, "--split", "all", "--treatment", fast, "--batch-size", 8, "--json").out)[
            "batches_per_epoch"
        ]
        == 8
    )
    assert "batch_size = 4" in run("docket", store, "--split", "train", "--treatment", fast).out
    fast.write_text("size = 8\n[feed]\nspeed = 3\n")
    assert "not 'speed'" in run("feed", store, "--treatment", fast).err
    ended = run("measure", store, *options, "--memory-limit", "1MiB", "--json")
    assert ended.status == 1
    assert [row["status"] for row in json.loads(ended.out)["trials"]] == ["too_small"]
    assert run("measure", store, "--size", 32, "--against", tmp_path / "none.json").status == 2
    assert run("measure", store, "--size", 32, "--against", kept, "--tolerance", "lots").status == 2


def test_ctrl_c_keeps_what_was_measured(own: pannier.Snapshot, tmp_path: Path) -> None:
    command = [sys.executable, "-m", "pannier", "measure", str(own.store.path), "--size", "16", "--workers", "1"]
    kept = tmp_path / "run.json"
    options = ["--rounds", "500", "--slice-seconds", "0.05", "--source", "shards", "--save", str(kept)]
    process = subprocess.Popen([*command, *options], stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True)
    until = time.monotonic() + 120
    while not own.storage.list("leases") and time.monotonic() < until:
        time.sleep(0.1)
    time.sleep(8)  # the feed is there: some rounds more
    process.send_signal(signal.SIGINT)
    out, err = process.communicate(timeout=60)
    assert process.returncode == 130, err
    assert "pictures/s" in out
    assert read_run(kept).settings["interrupted"] is True
    assert read_run(kept).trials[0].samples
    assert not [finding.file for finding in pannier.verify(own.store)]


def test_the_command_and_the_call_that_measure_prints_feed_what_was_measured(
    packed: pannier.Snapshot, tmp_path: Path, run: Callable[..., Ended]
) -> None:
    store = tmp_path / "my store"
    shutil.copytree(packed.storage.address, store)
    snapshot = pannier.open(store)
    how = ["--treatment", "flip=horizontal", "--treatment", "turn=8,values=standard", "--size", "24x32"]
    grid = ["--workers", 1, "--source", "rendered", "--rounds", 1, "--slice-seconds", 0.05, "--seed", 5, "--subset", "50%"]
    done = run("measure", store, *how, *grid, "--memory-limit", "64MiB")
    assert done.status == 0, done.err
    commands = [shlex.split(line)[1:] for line in done.out.splitlines() if line.startswith("  pannier ")]
    (call,) = [line.strip() for line in done.out.splitlines() if line.startswith("  pannier.")]
    assert [command[0] for command in commands] == ["render", "feed"]
    for command in commands:
        ended = run(*command, *(["--digest", "--json"] if command[0] == "feed" else []))
        assert ended.status == 0, ended.err
    fed = json.loads(ended.out)
    assert fed["augmented"]
    treatment = pannier.Treatment("24x32", flip="horizontal", turn=8, values="standard").measured(snapshot, "train")
    digests = []
    with (
        eval(call) as printed,
        snapshot.feed("train", treatment, batch_size=32, seed=5, subset="50%") as meant,
    ):
        assert printed.rendered_records == printed.records
        for feed in (printed, meant):
            hasher = hashlib.sha256()
            for batch in feed:
                hasher.update(repr((batch.keys, batch.names)).encode())
                for picture in batch.images:
                    hasher.update(memoryview(picture).cast("B"))
            digests.append(hasher.hexdigest())
    assert digests == [fed["digest"]] * 2
    for wrong, says in (
        (["--treatment", "turn=8", "--treatment", "turn=9"], "turn is 8 already: give it once"),
        (["--treatment", "a.toml", "--treatment", "b.toml"], "another file is given already"),
    ):
        refused = run("feed", store, *wrong, "--size", 24)
        assert refused.status == 2
        assert says in refused.err
    assert "say which split" in run("docket", store, "--size", 24).err
