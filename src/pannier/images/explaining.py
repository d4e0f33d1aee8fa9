"""A treatment in words: its steps in the order in which they are done, their sizes, and what they cost."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from pannier.images.canvas import LARGEST_MARGIN, LARGEST_SCALE, warps
from pannier.images.cost import after_fit_bytes
from pannier.images.tone import has_tone
from pannier.images.treatment import Treatment
from pannier.images.varying import GEOMETRY, KINDS, Chance, Crop, Erase, Step
from pannier.units import show_bytes

Line = tuple[str, str]


def explained(treatment: Treatment) -> str:
    """See `Treatment.explain`."""
    parts = [
        ("Fixed part, the same for every split:", fixed_lines(treatment)),
        ("Random steps, for training alone:", varying_lines(treatment) or [("none", "")]),
        ("Values:", value_lines(treatment)),
        ("Costs:", cost_lines(treatment)),
    ]
    width = max(len(name) for _, lines in parts for name, _ in lines)
    text = [
        f"{title}\n" + "\n".join(f"  {name:<{width}}  {what}".rstrip() for name, what in lines) for title, lines in parts
    ]
    return "\n\n".join(text)


def _by(size: Sequence[int]) -> str:
    return "x".join(map(str, size))


def fixed_lines(treatment: Treatment) -> list[Line]:
    """Decoding, cutting, color, tone, fit, canvas."""
    frame = treatment.frame
    lines = [("decode", "upright; JPEGs at a half to an eighth where that leaves enough pixels")]
    if frame.decodes_whole:
        lines = [("decode", "upright, with all pixels")]
    if treatment.box is not None:
        lines.append(("box", f"the part that {', '.join(treatment.box)} say, in {treatment.box_unit}"))
    if treatment.trim is not None:
        lines.append(("trim", f"borders within {treatment.trim} steps of the corner's color are cut"))
    lines += [(f"own {step.name}", f"version {step.version}") for step in treatment.own_at("decoded")]
    weights = treatment.gray_weights
    gray = "gray, " + ("luma" if weights is None else "weights " + ", ".join(f"{weight:g}" for weight in weights))
    lines.append(("color", gray if treatment.color == "gray" else "rgb"))
    if has_tone(treatment):
        tiles = _by(treatment.clahe_tiles)
        what = {"clahe": f"contrast-limited equalization, limit {treatment.clahe_limit:g}, {tiles} tiles"}
        tones = [] if treatment.tone == "none" else [what.get(treatment.tone, treatment.tone)]
        tones += [f"gamma {treatment.tone_gamma:g}"] if treatment.tone_gamma != 1 else []
        lines.append(("tone", ", then ".join(tones)))
    lines.append(("fit", _fit(treatment)))
    return lines + (_canvas_lines(treatment) if frame.canvas != treatment.size else [])


def _canvas_lines(treatment: Treatment) -> list[Line]:
    """How large the canvas is, and where it is smaller than the steps would need."""
    frame, (top, left) = treatment.frame, treatment.frame.margin
    around = f"{top} pixels around it down, {left} across, " if top or left else ""
    size = f"{_by(frame.canvas)}: the view at {_by(frame.view)}, {around}beyond the picture {treatment.border}"
    reached = {
        "margin": max(top / frame.view[0], left / frame.view[1]) / LARGEST_MARGIN,
        "scale": frame.view[0] / treatment.size[0] / LARGEST_SCALE,
    }
    capped = [name for name, share in reached.items() if getattr(treatment, name) is None and share >= 0.998]
    if not capped or not warps(treatment):
        return [("canvas", size)]
    at_most = f"{' and '.join(capped)} at the most that is proposed: the strongest draws show the border or blur"
    return [("canvas", size), ("", at_most)]


def _fit(treatment: Treatment) -> str:
    how = {
        "cover": f"to {_by(treatment.size)}, what stands over is cut{_anchored(treatment)}",
        "contain": f"into {_by(treatment.size)}, padded with {_color(treatment.pad)}{_anchored(treatment)}",
        "fill": f"to {_by(treatment.size)}, stretched",
    }.get(treatment.fit)
    if how is None:
        side = treatment.side or (min if treatment.fit == "shortest" else max)(treatment.size)
        how = f"the {treatment.fit} side to {side} pixels, of that {_by(treatment.size)}{_anchored(treatment)}"
    return f"{how}, {treatment.filter}"


def _anchored(treatment: Treatment) -> str:
    return "" if treatment.anchor == (0.5, 0.5) else f" at {treatment.anchor[0]:g} down, {treatment.anchor[1]:g} across"


def _color(color: tuple[int, int, int]) -> str:
    return {(255, 255, 255): "white", (0, 0, 0): "black"}.get(color, "#" + "".join(f"{part:02x}" for part in color))


def varying_lines(treatment: Treatment) -> list[Line]:
    """Every random step with its range and chance."""
    lines: list[Line] = []
    for name in treatment.varies:
        step = getattr(treatment, name, None)
        chance = getattr(step, "chance", 1.0)
        what = ""
        if name == "flip":
            what, chance = str(treatment.flip), treatment.flip_chance
        elif isinstance(step, Step):
            what = KINDS[name].show(step.range)
        elif isinstance(step, Crop):
            what = f"{_range(step.area)} of the area, shape {_range(step.shape)}"
        elif isinstance(step, Erase):
            fill = step.fill if isinstance(step.fill, str) else _color(step.fill)
            what = f"{step.count} of {_range(step.area)} of the area, {fill}"
        elif not isinstance(step, Chance):
            what = "own step"
        often = "" if chance == 1 else f"{', ' if what else ''}for {chance:.0%} of the pictures"
        lines.append((name, what + often))
    if sum(name in GEOMETRY for name in treatment.varies) > 1 and not treatment.is_canvas:
        lines.append(("", "all of the geometry is one warp, so pixels are interpolated once"))
    return lines


def _range(pair: tuple[float, float]) -> str:
    return f"{pair[0]:g}" if pair[0] == pair[1] else f"{pair[0]:g} to {pair[1]:g}"


def value_lines(treatment: Treatment) -> list[Line]:
    """What numbers come out, and as which array."""
    how = {
        "raw": "raw 0 to 255",
        "unit": "unit, 0 to 1",
        "signed": "signed, -1 to 1",
        "standard": "standard, (v / 255 - mean) / std",
        "per_picture": "each picture standardized by its own mean and deviation",
        "table": "by a table of 256 numbers",
    }[treatment.values]
    lines = [("values", how)]
    for name in ("mean", "std"):
        numbers = getattr(treatment, name)
        if numbers is not None:
            lines.append((name, ", ".join(f"{number:.4f}" for number in numbers)))
    if not treatment.is_ready:
        lines.append(("mean", "not measured yet: pannier stats, or treatment.measured(snapshot)"))
    if treatment.measured_on is not None:
        split = treatment.measured_on.split or "all records"
        lines.append(("measured", f"on {split} of content {treatment.measured_on.content_id[:12]}"))
    lines += [(f"own {step.name}", f"version {step.version}") for step in treatment.own_at("values")]
    lines.append(("array", f"{treatment.dtype} {_by(treatment.shape)} ({treatment.layout})"))
    return lines


def cost_lines(treatment: Treatment) -> list[Line]:
    """Bytes of an array, of a canvas where it is rendered, and of what a worker holds."""
    canvas = treatment.channels * int(np.prod(treatment.frame.canvas))
    return [
        ("an array", f"{show_bytes(treatment.byte_count)}; a batch of 32 {show_bytes(32 * treatment.byte_count)}"),
        ("rendered", f"{show_bytes(canvas)} a picture, {show_bytes(canvas * 1_000_000)} a million"),
        ("a worker", f"{show_bytes(after_fit_bytes(treatment))} for canvas and view, beside the decoded picture"),
        ("digests", f"fixed part {treatment.fixed_part[:12]}, varying part {treatment.varying_part[:12]}"),
    ]
