"""The mill's archive: an untidy heap of labelled swatches, a second delivery, and the register. All from one seed."""

from __future__ import annotations

import csv
import io
import os
import struct
import zlib
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass
from multiprocessing import get_context
from pathlib import Path

import numpy as np
from PIL import Image

from pannier.demo.weaves import DRAFTS, draw_swatch

WEAVES = tuple(DRAFTS)
MISSPELT = "herringbon"


@dataclass(frozen=True)
class Shot:
    """One picture to draw: its path within the archive, its weave, how it is saved, and its own seed."""

    path: str
    weave: str
    kind: str
    seed: tuple[int, ...]


def draw_archive(folder: Path, swatches: int, seed: int, progress: Callable[[int, int], None] | None = None) -> None:
    """Draws archive/, season/ and heap/ into a folder, with register.csv, checked.csv and predictions.csv."""
    shots = [Shot(f"archive/{shot.path}", shot.weave, shot.kind, shot.seed) for shot in _archive_shots(swatches, seed)]
    shots += _season_shots(max(5, swatches // 60), seed)
    for shot in shots:
        (folder / shot.path).parent.mkdir(parents=True, exist_ok=True)
    with ProcessPoolExecutor(os.cpu_count(), mp_context=get_context("spawn")) as pool:
        for done, _ in enumerate(pool.map(_draw, [folder] * len(shots), shots, chunksize=8), 1):
            if progress:
                progress(done, len(shots))
    _make_untidy(folder / "archive", shots)
    archived = [shot for shot in shots if shot.path.startswith("archive/")]
    looms = _write_register(folder / "register.csv", archived, seed)
    _lay_in_a_heap(folder / "heap", [shot for shot in archived if shot.path.endswith(".jpg")], looms)
    _write_tables_by_key(folder, archived, seed)


def _archive_shots(swatches: int, seed: int) -> Iterator[Shot]:
    for number in range(swatches):
        weave, i = WEAVES[number % len(WEAVES)], number // len(WEAVES)
        kind = "png" if i % 7 == 3 else "webp" if i % 9 == 5 else "jpg"
        odd = {11: "gray", 16: "cmyk", 20: "turned", 27: "progressive", 29: "turned", 38: "transparent", 33: "gray"}
        if weave in ("twill", "satin", "rib"):
            kind = odd.get(i, kind)
        ending = {"png": "png", "transparent": "png", "webp": "webp"}.get(kind, "jpg")
        yield Shot(f"{weave}/{i:04}.{ending}", weave, kind, (seed, 1, number))


def _season_shots(each: int, seed: int) -> Iterator[Shot]:
    """A second delivery in train and val folders; one class folder of val is misspelt."""
    for split, count in (("train", each), ("val", max(2, each // 3))):
        for w, weave in enumerate(WEAVES):
            folder = MISSPELT if split == "val" and weave == "herringbone" else weave
            for i in range(count):
                yield Shot(f"season/{split}/{folder}/{1000 + i:04}.jpg", weave, "jpg", (seed, 2, len(split), w, i))


def _draw(folder: Path, shot: Shot) -> None:
    rng = np.random.default_rng(shot.seed)
    longest = int(np.clip(np.exp(rng.normal(np.log(330), 0.48)), 160, 1600))
    shorter = int(longest * rng.choice([1.0, 0.75, 0.75, 0.667]))
    height, width = (shorter, longest) if rng.random() < 0.7 else (longest, shorter)
    height, width = max(height, 160), max(width, 160)
    (folder / shot.path).write_bytes(_encoded(draw_swatch(shot.weave, height, width, rng), shot.kind, rng))


def _encoded(pixels: np.ndarray, kind: str, rng: np.random.Generator) -> bytes:
    image = Image.fromarray(pixels)
    quality = int(rng.integers(78, 94))
    sink = io.BytesIO()
    if kind == "png":
        image.save(sink, "png", compress_level=1)
    elif kind == "transparent":
        hole = Image.new("L", image.size, 255)
        hole.paste(0, (0, 0, image.width // 3, image.height // 3))
        image.putalpha(hole)
        image.save(sink, "png", compress_level=1)
    elif kind == "webp":
        image.save(sink, "webp", quality=quality, method=0)
    elif kind == "gray":
        image.convert("L").save(sink, "jpeg", quality=quality)
    elif kind == "cmyk":
        image.convert("CMYK").save(sink, "jpeg", quality=quality)
    elif kind == "turned":
        exif = Image.Exif()
        exif[274] = 6  # lies on its side; upright once turned by a quarter
        image.transpose(Image.Transpose.ROTATE_90).save(sink, "jpeg", quality=quality, exif=exif)
    else:
        image.save(sink, "jpeg", quality=quality, progressive=kind == "progressive")
    return sink.getvalue()


def _make_untidy(archive: Path, shots: list[Shot]) -> None:
    """What real archives have too: broken, empty, enormous and doubled pictures, and files that are none."""
    by_weave = {weave: sorted((archive / weave).iterdir()) for weave in WEAVES}
    plain, twill, satin, rib = (by_weave[weave] for weave in ("plain", "twill", "satin", "rib"))
    jpegs = [path for path in plain if path.suffix == ".jpg"]
    (archive / "plain" / "cut-short.jpg").write_bytes(jpegs[0].read_bytes()[: jpegs[0].stat().st_size // 3])
    (archive / "twill" / "empty.jpg").write_bytes(b"")
    (archive / "satin" / "whole-bolt.png").write_bytes(enormous_png())
    (archive / "satin" / "copy of 0004.jpg").write_bytes(satin[4].read_bytes())
    (archive / "rib" / "misfiled.jpg").write_bytes(twill[1].read_bytes())  # a twill among the ribs
    (archive / "rib" / "again.jpg").write_bytes(rib[2].read_bytes())
    (archive / "satin" / "notes.txt").write_text("lamp moved after 0040, see the register\n")


def enormous_png() -> bytes:
    """A header that announces 30,000 x 30,000 pixels, and next to nothing behind it."""

    def chunk(kind: bytes, body: bytes) -> bytes:
        return struct.pack(">I", len(body)) + kind + body + struct.pack(">I", zlib.crc32(kind + body))

    header = struct.pack(">IIBBBBB", 30_000, 30_000, 8, 2, 0, 0, 0)
    return b"\x89PNG\r\n\x1a\n" + chunk(b"IHDR", header) + chunk(b"IDAT", zlib.compress(bytes(4096))) + chunk(b"IEND", b"")


def _write_register(path: Path, shots: list[Shot], seed: int) -> dict[str, int]:
    """The mill's register: one line a swatch, with the blanks and gaps that such tables have; by path, the looms."""
    looms = {}
    rng = np.random.default_rng((seed, 3))
    header = ["swatch", "weave ", "fiber", "finish", "loom", "warp_per_cm", "weft_per_cm", "daylight", "raking"]
    with open(path, "w", newline="", encoding="utf-8") as file:
        writer = csv.writer(file)
        writer.writerow(header)
        for shot in shots:
            number = Path(shot.path).stem
            fiber = str(rng.choice(["linen", "wool", "cotton", " wool", "linen ", ""]))
            finish = str(rng.choice(["raw", "washed", "fulled", ""]))
            warp = int(rng.integers(8, 40))
            weft = warp + int(rng.integers(-3, 4))
            counts = [str(warp) if rng.random() > 0.06 else "", str(weft) if rng.random() > 0.06 else " "]
            base = f"https://mill.example/swatches/{shot.weave}-{number}"
            links = [f"{base}-day.jpg", f"{base}-raking.jpg" if rng.random() > 0.3 else ""]
            loom = looms[shot.path] = int(rng.integers(1, 9))
            writer.writerow([f"{shot.weave}-{number}", shot.weave, fiber, finish, loom, *counts, *links])
    return looms


def _lay_in_a_heap(heap: Path, shots: list[Shot], looms: dict[str, int]) -> None:
    """Some of the pictures once more, in one folder: their names alone say what they are."""
    heap.mkdir()
    for shot in shots[: 10 * len(WEAVES)]:
        source = heap.parent / shot.path
        (heap / f"{shot.weave}_loom{looms[shot.path]}_{source.name}").write_bytes(source.read_bytes())


def _write_tables_by_key(folder: Path, shots: list[Shot], seed: int) -> None:
    """What comes back from a weaver who has looked again, and from a model that has guessed."""
    keys = [(shot.path.removeprefix("archive/"), shot.weave) for shot in shots]
    ribs = [key for key, weave in keys if weave == "rib"]
    checked = [(ribs[3], "basket"), (ribs[7], "basket"), (ribs[8], "")]
    _write_rows(folder / "checked.csv", ["key", "label"], checked)
    rng = np.random.default_rng((seed, 4))
    guesses = []
    for key, weave in keys:
        is_right, sure = rng.random() > 0.08, rng.random()
        guess = weave if is_right else WEAVES[(WEAVES.index(weave) + 1) % len(WEAVES)]
        guesses.append((key, guess, f"{0.5 + sure / 2 if is_right else 0.3 + sure / 3:.3f}"))
    _write_rows(folder / "predictions.csv", ["key", "predicted", "sure"], guesses)


def _write_rows(path: Path, header: list[str], rows: Sequence[tuple[str, ...]]) -> None:
    with open(path, "w", newline="", encoding="utf-8") as file:
        csv.writer(file).writerows([header, *rows])
