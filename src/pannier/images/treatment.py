"""The treatment: how one picture becomes an array; what its fields come to, and its identity."""

from __future__ import annotations

import hashlib
import json
from functools import cached_property
from typing import Any, Self

import numpy as np
from pydantic import ValidationError, model_validator

from pannier.array_types import Array
from pannier.errors import TreatmentError, did_you_mean
from pannier.images.canvas import proposed_margin, proposed_scale, warps
from pannier.images.fields import LARGEST_SIDE, TreatmentFields
from pannier.images.own_steps import OwnStep
from pannier.images.placement import Frame
from pannier.images.values import undone, value_line
from pannier.images.varying import STEPS

# of the fixed part these always count; what came later counts where it is not the default, so that digests stay
_ALWAYS_FIXED = ("size", "fit", "color", "pad", "background")
_FIXED = (
    *_ALWAYS_FIXED,
    *("side", "anchor", "gray_weights", "box", "box_unit", "trim", "tone", "tone_gamma", "clahe_limit", "clahe_tiles"),
    *("autocontrast_cut", "filter", "border"),
)
_ALWAYS = (*_ALWAYS_FIXED, "values", "mean", "std", "layout", "dtype", "flip")
_VARYING = (*STEPS, "flip_chance", "order")


class Treatment(TreatmentFields):
    """How one picture becomes an array: a fixed part, which ends at a uint8 canvas, a varying part, and values.

    Fixed part, in this order: decoded and turned upright, `box`, `trim`, own steps at "decoded", color, tone, fit.

    size: pixels of the result, a number (square) or (height, width).
    fit: "cover" cuts what stands over; "contain" pads with the color `pad`; "fill" stretches; "shortest" and "longest" make
    that side of the picture `side` pixels long (by default the size), cut what stands over and pad what is missing.
    anchor: which part is kept, or where padding is not: "center", "top left" ..., or shares (down, across).
    filter: "nearest", "bilinear", "bicubic" or "lanczos", antialiased but for nearest.
    color: "rgb" or "gray" (one channel, which keeps its axis). gray_weights: of red, green, blue, in place of luma.
    background: the color that transparent pictures are laid over.
    box: four side columns that hold each record's crop box (top, left, height, width), in box_unit "pixels" or "shares".
    trim: uniform borders are cut whose pixels are within so many steps (0..255) of the corner's color.
    tone: "none", "equalize", "clahe" (contrast-limited, clahe_limit, clahe_tiles), "autocontrast" (autocontrast_cut: the
    share cut at each end); all on luma. tone_gamma: then v ** (1 / gamma).
    margin, scale: how much canvas there is around the view, as a share of the side, and canvas pixels to one of the view;
    by default as the ranges below need it, at most 0.5 and 2. border: what lies beyond: "mirror", "edge" or "pad".
    own: own steps by name, see `pannier.own_step`.

    Varying part, for training alone. A range is one number, (low, high), or {"range": ..., "chance": 0.5}:
    flip: "none", "horizontal", "vertical" or "both", each at flip_chance. turn, shear: degrees. shift, perspective: shares
    of the side. zoom, stretch: factors. crop: {"area": (0.5, 1), "shape": (0.75, 1.33)}. All of these become one warp.
    brightness, contrast, saturation, gamma: factors. hue: degrees. gray: a chance. blur: sigma in shares of the shorter
    side. noise: sigma in shares of full white. jpeg: qualities. erase: {"area", "shape", "count", "fill"}.
    order: all step names in the order in which they are done, geometry first.

    Values: "raw" 0..255, "unit" 0..1, "signed" -1..1, "standard" (v / 255 - mean) / std, "per_picture" (each picture with
    its own mean and deviation), "table" (`table`: 256 numbers, or as many for each channel).
    mean, std: for "standard", one number a channel on the scale 0..1; `measured` finds them.
    layout: "chw" (channel, height, width) or "hwc". dtype: "float32", "float16", or "uint8" for raw values.

    Colors are names, "#rrggbb" or three numbers 0..255. Raises TreatmentError, which names field, value and what is allowed.
    Safe between threads. Calling it with a path, encoded bytes, a Pillow picture or a uint8 array gives the prepared array.
    """

    def __init__(self, size: Any = None, **fields: Any) -> None:
        try:
            super().__init__(**({"size": size} if size is not None else {}), **fields)
        except ValidationError as error:
            raise TreatmentError(_explain(error)) from None

    @model_validator(mode="after")
    def _canvas_has_room(self) -> Self:
        height, width = self.frame.canvas
        if max(height, width) > 2 * LARGEST_SIDE:
            raise ValueError("margin and scale make a canvas that is too large: lower them")
        return self

    @property
    def shape(self) -> tuple[int, int, int]:
        """The shape of one prepared array."""
        height, width = self.size
        return (self.channels, height, width) if self.layout == "chw" else (height, width, self.channels)

    @property
    def byte_count(self) -> int:
        """Bytes of one prepared array."""
        return self.channels * self.size[0] * self.size[1] * np.dtype(self.dtype).itemsize

    @cached_property
    def frame(self) -> Frame:
        """The view on the canvas, as every picture is placed on it."""
        scale = self.scale if self.scale is not None else proposed_scale(self)
        margin = self.margin if self.margin is not None else proposed_margin(self, scale)
        view = (max(1, int(self.size[0] * scale + 0.5)), max(1, int(self.size[1] * scale + 0.5)))
        side = self.side if self.side is not None else (min if self.fit == "shortest" else max)(self.size)
        around = (int(np.ceil(margin * view[0] - 1e-9)), int(np.ceil(margin * view[1] - 1e-9)))
        whole = self.box is not None or self.trim is not None or self.filter == "nearest" or bool(self.own_at("decoded"))
        return Frame(view, around, self.fit, self.anchor, max(1, int(side * scale + 0.5)), whole)

    @property
    def is_canvas(self) -> bool:
        """Whether the view is the canvas, so that nothing but mirroring moves its pixels."""
        return self.frame.canvas == self.size and not warps(self)

    def own_at(self, at: str) -> list[OwnStep]:
        """The own steps at one place."""
        return [step for step in self.own if step.at == at]

    @property
    def varies(self) -> tuple[str, ...]:
        """The random steps that it has, in their order; none of them is done where a feed does not augment."""
        named = [name for name in self.order if getattr(self, name) not in (None, "none")]
        return (*named, *(step.name for step in self.own_at("light")))

    def essence(self) -> dict[str, Any]:
        """The canonical form: the first fields always, later ones where they differ from their defaults."""
        fields = self.model_dump(mode="json", exclude={"measured_on", "margin", "scale"})
        fields = {name: value for name, value in fields.items() if name in _ALWAYS or value != _default(name)}
        return fields | self._around()

    def fixed_fields(self) -> dict[str, Any]:
        """What makes the picture that is seen: all of the fixed part but margin and scale."""
        essence = self.essence()
        fields = {name: essence[name] for name in _FIXED if name in essence}
        own = [step.model_dump() for step in self.own_at("decoded")]
        return fields | ({"own": own} if own else {})

    def _around(self) -> dict[str, Any]:
        frame = self.frame
        return {} if frame.canvas == self.size else {"view": list(frame.view), "around": list(frame.margin)}

    def __eq__(self, other: object) -> bool:
        return self.essence() == other.essence() if isinstance(other, Treatment) else NotImplemented

    def __hash__(self) -> int:
        return hash(self.identity)

    @property
    def identity(self) -> str:
        """SHA-256 of the canonical form as JSON, keys sorted, no blanks; `measured_on` is no part of it."""
        return _digest(self.essence())

    @property
    def fixed_part(self) -> str:
        """The same of what makes the canvas: renderings are kept under it."""
        return _digest(self.fixed_fields() | self._around())

    @property
    def varying_part(self) -> str:
        """The same of the random steps."""
        essence = self.essence()
        own = [step.model_dump() for step in self.own_at("light")]
        return _digest({name: essence[name] for name in _VARYING if name in essence} | ({"own": own} if own else {}))

    @property
    def is_ready(self) -> bool:
        """Whether arrays can be made: standard values need their mean and std."""
        return self.values != "standard" or self.mean is not None

    def check_ready(self) -> None:
        """Raises TreatmentError where mean and std are unknown, or were measured through another fixed part."""
        if not self.is_ready:
            what = 'values = "standard" needs mean and std'
            raise TreatmentError(f'{what}: give them, or use treatment.measured(snapshot, "train")')
        if self.measured_on is None or self.measured_on.through is None:
            return
        here, there = self.fixed_fields(), self.measured_on.through
        for name in sorted(here.keys() | there.keys()):
            mine, theirs = here.get(name, _default(name)), there.get(name, _default(name))
            if mine != theirs:
                raise TreatmentError(
                    f"mean and std were measured at {name} = {_shown(theirs)}, this treatment has {_shown(mine)}: measure "
                    "again, with pannier stats or treatment.measured(snapshot)"
                )

    def value_line(self) -> tuple[Array, Array]:
        """float32 (scale, offset) by channel: an array's value is float32(pixel) * scale + offset.

        Raises TreatmentError where values are "standard" and mean and std are not known yet, or where values are no line.
        """
        self.check_ready()
        return value_line(self)

    def said(self) -> dict[str, Any]:
        """The fields that were given, by name."""
        return {name: getattr(self, name) for name in self.model_fields_set}

    def with_fields(self, **fields: Any) -> Self:
        """The same treatment with some fields changed."""
        return type(self)(**(self.said() | fields))

    def undo(self, images: Array) -> Array:
        """Pictures to look at: prepared arrays (..., and the layout's three axes) back to uint8 (..., h, w, channels).

        Within half a step of the pixels, but for "per_picture", whose mean and deviation are lost: those come back with a
        mean of 127.5 and a deviation of 64.
        """
        return undone(self, np.asarray(images))


def _default(name: str) -> Any:
    """A field's default as JSON has it."""
    return _DEFAULTS.get(name)


def _shown(value: Any) -> str:
    return "x".join(map(str, value)) if isinstance(value, list) else str(value)


def _digest(fields: dict[str, Any]) -> str:
    return hashlib.sha256(json.dumps(fields, sort_keys=True, separators=(",", ":")).encode()).hexdigest()


def _explain(error: ValidationError) -> str:
    """The first problem in one line: field, value, what is allowed; a field that is none before one that is missing."""
    problem = max(error.errors(), key=lambda each: each["type"] == "extra_forbidden")
    location = [str(part) for part in problem["loc"] if str(part) not in _UNION_ARMS]
    field = ".".join(location)
    if problem["type"] == "extra_forbidden":
        if len(location) > 1:
            return f"{location[0]} has no field {location[-1]!r}"
        return f"a treatment has no field {field!r}{did_you_mean(field, Treatment.model_fields)}"
    if problem["type"] == "missing" and field == "size":
        return "a treatment needs a size, e.g. size = 96 or size = [96, 128]"
    wanted = problem["msg"].removeprefix("Value error, ").removeprefix("Input should be ")
    return f"{field} = {problem['input']!r}: must be {wanted}" if field else wanted


_UNION_ARMS = {"Step", "Crop", "Erase", "Chance"}


_DEFAULTS = json.loads(json.dumps({name: f.get_default() for name, f in Treatment.model_fields.items() if name != "size"}))
