"""Collecting: surveys, tables with rules, near doubles, a second pack, gathering; each against what it could be at best."""

from __future__ import annotations

import multiprocessing
import os
import random
import resource
import tempfile
import time
from concurrent.futures import ProcessPoolExecutor, ThreadPoolExecutor
from http.server import BaseHTTPRequestHandler
from multiprocessing import get_context
from pathlib import Path
from typing import Any

import numpy as np
from PIL import Image

import pannier
from bench.data import write_archive
from bench.pack import bare, write_small
from bench.slices import Report, alternate, ratio
from pannier.images.miniature import SIDE, Miniatures, miniature
from pannier.images.near import near_links
from pannier.memory import Sampler, release_free_memory, working_bytes
from pannier.units import show_bytes

PICTURES = 1_000
MANY = 100_000
ROWS = 1_000_000
CHANGED = 100
HOSTS, PAUSE_SECONDS, LINKS_A_HOST = 20, 0.1, 100


def run(report: Report) -> None:
    _surveys(report)
    _near(report)
    _table(report)
    _many(report)
    _gather(report)


def headers(paths: list[str]) -> int:
    total = 0
    for path in paths:
        with Image.open(path) as image:
            total += image.size[0] + len(image.mode)
    return total


def _surveys(report: Report) -> None:
    report.title(f"Survey of {PICTURES:,} JPEG of 500 x 375, two workers")
    with tempfile.TemporaryDirectory() as folder, ProcessPoolExecutor(2, mp_context=get_context("spawn")) as pool:
        archive = write_archive(Path(folder) / "archive", PICTURES)
        paths = sorted(map(str, archive.rglob("*.jpg")))
        halves = [paths[0::2], paths[1::2]]

        def plain_threads() -> None:
            with ThreadPoolExecutor(2) as threads:
                list(threads.map(headers, halves))

        ways = {
            "survey": lambda: pannier.survey(archive, workers=2),
            "bare": lambda: list(pool.map(bare, halves)),
            "quick": lambda: pannier.survey(archive, workers=2, quick=True),
            "headers": plain_threads,
        }
        times = alternate(ways, 12)
        share = ratio(times["bare"], times["survey"])
        report.line("against two bare processes that read, hash and decode", share, ">= 0.8", share.median >= 0.8)
        share = ratio(times["headers"], times["quick"])
        report.line("--quick against two threads that read headers with Pillow", share, ">= 0.8", share.median >= 0.8)


def _near(report: Report) -> None:
    report.title("Near doubles among made-up pictures, a hundredth of them cropped copies; processor time beyond decoding")
    seconds = {}
    for count in (1000, MANY // 4, MANY):  # the first compiles
        shown, digests = _miniatures(count), np.random.default_rng(1).integers(0, 256, (count, 32), dtype=np.uint8)
        started = time.process_time()
        found = near_links(lambda rows, shown=shown: shown[rows], digests, 6)
        seconds[count] = time.process_time() - started
        assert len(found.pairs) >= count // 100
    report.line(f"{MANY:,} pictures, seconds", f"{seconds[MANY]:.0f}", "<= 60", seconds[MANY] <= 60)
    growth = seconds[MANY] / seconds[MANY // 4]
    report.line("four times as many, times as long (16 would be quadratic)", f"{growth:.1f}", "< 16", growth < 16)


def _miniatures(count: int) -> Miniatures:
    """Of clouds, whose amplitudes fall with the frequency as in photographs; a hundredth are others cropped."""
    rng, made = np.random.default_rng(0), np.empty((count, SIDE, SIDE), np.uint8)
    across = np.fft.fftfreq(2 * SIDE)
    falling = 1 / np.maximum(np.hypot(across[:, None], across[None, :]), 1 / SIDE)
    for i in range(count):
        field = np.fft.ifft2(np.fft.fft2(rng.standard_normal((2 * SIDE, 2 * SIDE))) * falling).real
        pixels = np.clip(128 + 50 * field / field.std(), 0, 255).astype(np.uint8)
        made[i] = np.frombuffer(miniature(pixels), np.uint8).reshape(SIDE, SIDE)
        if i >= count - count // 100:
            made[count - 1 - i] = np.frombuffer(miniature(pixels[6:-6, 6:-3]), np.uint8).reshape(SIDE, SIDE)
    return made


def _table(report: Report) -> None:
    report.title(f"A table of {ROWS:,} rows with rules, until the first picture would be read")
    rng = random.Random(1)
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "register.csv"
        with open(path, "w") as file:
            file.write("file,weave,loom,warp,weft,finish\n")
            for i in range(ROWS):
                warp = rng.randint(8, 40)
                weave = rng.choice(["twill ", " satin", "plain", ""])
                file.write(f"pictures/{i:07}.jpg,{weave},{i % 9},{warp},{warp + i % 3},raw\n")
        rules: dict[str, Any] = {"where": ["finish = 'raw'", "warp = weft"], "columns": "loom, warp * 2.54 as warp_per_inch"}
        rules |= {"label": "CASE WHEN warp < 20 THEN 'coarse' ELSE 'fine' END", "picture": "file"}
        started = time.perf_counter()
        sized = _Opened(path, rules)
        seconds = time.perf_counter() - started
        report.line(f"seconds ({sized.left:,} rows left)", f"{seconds:.1f}", "<= 5", seconds <= 5)


class _Opened:
    """A table's rows as pack would bring them in."""

    def __init__(self, path: Path, rules: dict[str, Any]) -> None:
        from pannier.sources.opening import as_source
        from pannier.sources.rules import RuleOptions
        from pannier.sources.several import choose

        source = as_source(path, picture=rules.pop("picture"))
        self.left = len(choose(source, RuleOptions(**rules).read_rules()))


def _many(report: Report) -> None:
    report.title(f"{MANY:,} pictures of 24 x 32, two workers")
    with tempfile.TemporaryDirectory() as folder:
        archive = write_small(Path(folder) / "archive", MANY)
        store = pannier.create(Path(folder) / "s.store")
        packing: dict[str, Any] = {"shares": {"train": 80, "test": 20}, "workers": 2}
        pannier.survey(write_small(Path(folder) / "few", 500), workers=2)  # libraries and kernels are loaded
        seconds, peak = _measured(lambda: pannier.survey(archive, workers=2))
        report.line("survey, working memory at most", show_bytes(peak), "<= 250 MiB", peak <= 250 << 20)
        report.line("survey, microseconds a picture", round(seconds / MANY * 1e6))
        first, peak = _measured(lambda: store.pack(archive, **packing))
        report.line("pack with shares, working memory at most", show_bytes(peak), "<= 250 MiB", peak <= 250 << 20)
        files = sorted(archive.rglob("*.jpg"))
        before = time.time_ns() - 10_000_000_000
        for path in files[:CHANGED]:
            path.write_bytes(path.read_bytes() + b"\0")
            os.utime(path, ns=(before, before))
        opened: list[int] = []
        second, _ = _measured(lambda: opened.append(_files_read(store, archive, packing)))
        report.line(f"second pack, {CHANGED} files changed: files opened", opened[0], f"<= {CHANGED}", opened[0] <= CHANGED)
        report.line("second pack, share of the first one's time", f"{second / first:.2f}")


def _files_read(store: pannier.Store, archive: Path, packing: dict[str, Any]) -> int:
    """How many files of the source a pack opens."""
    opened: set[bytes] = set()
    real, root = os.open, os.fsencode(archive)

    def noted(path: Any, *arguments: Any, **options: Any) -> int:
        if isinstance(path, bytes) and path.startswith(root):
            opened.add(path)
        return real(path, *arguments, **options)

    os.open = noted
    try:
        result = store.pack(archive, **packing)
    finally:
        os.open = real
    assert result.changed == CHANGED
    return len(opened)


def _measured(work: Any) -> tuple[float, int]:
    """Seconds, and the most memory that was held above the level before."""
    release_free_memory()
    level = working_bytes()
    sampler = Sampler(0, 0.05)
    started = time.perf_counter()
    try:
        work()
    finally:
        sampler.close()
    return time.perf_counter() - started, max(0, sampler.peak_bytes - level)


class _Quiet(BaseHTTPRequestHandler):
    """Answers every request with one small picture."""

    protocol_version = "HTTP/1.1"
    picture = b""

    def do_GET(self) -> None:
        body = self.picture if self.path != "/robots.txt" else b"User-agent: *\nDisallow:\n"
        self.send_response(200)
        self.send_header("Content-Length", str(len(body)))
        self.end_headers()
        self.wfile.write(body)

    def log_message(self, format: str, *args: Any) -> None:
        """Says nothing."""


def _serve(ports: Any, picture: bytes, hosts: int) -> None:
    from contextlib import ExitStack

    from pannier.demo.mill import serving

    handler = type("Handler", (_Quiet,), {"picture": picture})
    with ExitStack() as stack:
        ports.put([stack.enter_context(serving(handler)) for _ in range(hosts)])
        time.sleep(600)


def _gather(report: Report) -> None:
    report.title(f"Gathering from {HOSTS} hosts at once, one request each {PAUSE_SECONDS * 1000:g} ms a host")
    with tempfile.TemporaryDirectory() as folder:
        picture = next(iter(write_archive(Path(folder) / "one", 1, 120, 160).rglob("*.jpg"))).read_bytes()
        context = multiprocessing.get_context("spawn")
        ports = context.Queue()
        server = context.Process(target=_serve, args=(ports, picture, HOSTS), daemon=True)
        server.start()
        try:
            links = ports.get(timeout=60)
            rows = [{"photo": f"{link}/{h}-{i}.jpg"} for i in range(LINKS_A_HOST) for h, link in enumerate(links)]
            pannier.gather(rows[:HOSTS], Path(folder) / "warm", pause=0.001, ignore_robots=True)
            used = resource.getrusage(resource.RUSAGE_SELF)
            started = time.perf_counter()
            result = pannier.gather(rows, Path(folder) / "p", pause=PAUSE_SECONDS)
            seconds = time.perf_counter() - started
            after = resource.getrusage(resource.RUSAGE_SELF)
        finally:
            server.terminate()
            server.join()
        assert result.came == len(rows)
        at_best = (LINKS_A_HOST + 1) * PAUSE_SECONDS  # and each host's robots.txt
        share = at_best / seconds
        report.line("rate against what the hosts' pauses allow", f"{share:.2f}", ">= 0.9", share >= 0.9)
        cpu = (after.ru_utime + after.ru_stime - used.ru_utime - used.ru_stime) / seconds
        report.line("cores that it took", f"{cpu:.2f}", "<= 1", cpu <= 1)
        report.line("pictures a second", round(len(rows) / seconds))
