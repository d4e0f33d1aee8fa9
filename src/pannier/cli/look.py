"""pannier look"""

from __future__ import annotations

import os
from typing import TYPE_CHECKING, Any

import pannier
from pannier.cli import options as opt
from pannier.cli.terminal import drawing, print_json, print_table
from pannier.errors import UsageError

if TYPE_CHECKING:
    from pannier.images.seen import Stage


@opt.reads_afar
def look(
    store: str = opt.argument(
        ..., "A store, and a record's key behind it; or a picture's file.", metavar="STORE[@NAME]|FILE"
    ),
    key: str | None = opt.argument(None, "The record, by its key.", metavar="[KEY]"),
    treatment: list[str] | None = opt.value(None, "A treatment file, or fields; several lie side by side.", "FILE|FIELDS"),
    size: list[str] | None = opt.value(None, "In place of a file's size, or alone; may be given again.", "PIXELS"),
    variations: int | None = opt.value(None, "So many random variations on a grid.", min=1, max=240),
    seed: int = opt.value(0, "Seed of the random steps.", min=0),
    epoch: int = opt.value(0, "The epoch whose random steps come first.", min=0),
    figure: opt.Figure = "look.png",
    json: opt.AsJson = False,
) -> int:
    """One picture through every step of a treatment: what is seen, and the numbers. Or many random variations of it.

    [dim]$[/dim] pannier look swatches.store twill/0042.jpg --treatment cloth.toml
    [dim]$[/dim] pannier look swatches.store twill/0042.jpg --treatment cloth.toml --variations 12 --figure variations.png
    """
    from pannier.figures.look import draw_look
    from pannier.images.seen import drawn_words, stages, varied

    data, name, box_of, snapshot = _picture(store, key)
    treatments = [opt.ready(each, snapshot) for each in _treatments(treatment or [], size or [])]
    names = _names(treatment or [], size or [])
    path = figure or "look.png"
    if variations is not None:
        if len(treatments) > 1:
            raise UsageError("--variations shows the variations of one treatment: give one --treatment, one --size")
        pictures = varied(treatments[0], data, name, seed, epoch, variations, box_of(treatments[0]))
        words = [drawn_words(treatments[0], name, seed, each) for each in range(epoch, epoch + variations)]
        title = f"{name} through {names[0]}, {variations} times, seed {seed}"
        return _show_variations(pictures, words, epoch, title, path, json)
    rows = [
        (title, stages(each, data, name, seed=seed, epoch=epoch, times=3 if len(treatments) == 1 else 2, box=box_of(each)))
        for title, each in zip(names, treatments, strict=True)
    ]
    _print_stages(rows, json)
    with drawing(path, "look"):
        draw_look(rows, path, title=f"{name} through {names[0]}" if len(rows) == 1 else name)
    return 0


def _picture(store: str, key: str | None) -> tuple[bytes, str, Any, Any]:
    """Bytes, name, what gives the crop box for a treatment, and the snapshot if it is one's record."""
    if key is None:
        if os.path.isdir(store) or not os.path.exists(store):
            raise UsageError(f"{store} is no picture: name a record's key behind a store, or a picture's file")
        with open(store, "rb") as file:
            return file.read(), os.path.basename(store), lambda treatment: None, None
    snapshot = pannier.open(store)
    record = snapshot[key]
    return record.bytes(), record.key, record.box, snapshot


def _treatments(files: list[str], sizes: list[str]) -> list[pannier.Treatment]:
    """A treatment for each file, or for each size; every file at every size where both are given."""
    if not files and not sizes:
        raise UsageError("say through which treatment: --treatment FILE, or --size")
    if not files:
        return [pannier.Treatment(size) for size in sizes]
    if not sizes:
        return [pannier.Treatment.read(file) for file in files]
    return [pannier.Treatment.read(file, size=size) for file in files for size in sizes]


def _names(files: list[str], sizes: list[str]) -> list[str]:
    shown = [os.path.basename(file) for file in files]
    if not shown:
        return [f"size {size}" for size in sizes]
    return shown if not sizes else [f"{file} at {size}" for file in shown for size in sizes]


def _print_stages(rows: list[tuple[str, list[Stage]]], json: bool) -> None:
    if json:
        print_json([{"treatment": title, "steps": [stage.to_dict() for stage in found]} for title, found in rows])
        return
    for i, (title, found) in enumerate(rows):
        if len(rows) > 1:
            print(("\n" if i else "") + title)
        _print(found)


def _print(stages: list[Stage]) -> None:
    rows = []
    for stage in stages:
        ends = (f"{stage.lowest:.4g}", f"{stage.highest:.4g}")
        means, stds = " ".join(f"{m:.4g}" for m in stage.means), " ".join(f"{d:.3g}" for d in stage.deviations)
        rows.append([stage.name, stage.shape, str(stage.array.dtype), *ends, means, stds])
    print_table(["step", "shape", "dtype", "lowest", "highest", "mean", "std"], rows, left=3)


def _show_variations(
    pictures: list[Any], words: list[list[tuple[str, str]]], epoch: int, title: str, path: str, json: bool
) -> int:
    """What was drawn for each of the variations, in numbers and on a grid."""
    from pannier.figures.look import draw_variations

    if not pictures:
        raise UsageError("this treatment has no random steps, so there are no variations to look at")
    if json:
        print_json([{"epoch": epoch + i, **dict(each)} for i, each in enumerate(words)])
    else:
        header = ["epoch", *(name for name, _ in words[0])]
        print_table(header, [[str(epoch + i), *(text for _, text in each)] for i, each in enumerate(words)], left=0)
    with drawing(path, "look"):
        draw_variations(pictures, words, path, title=title)
    return 0
