"""The treatment: how one picture becomes an array. Frozen, hashable, from a TOML file or from keywords."""

from __future__ import annotations

import hashlib
import json
from functools import cached_property
from pathlib import Path
from typing import Annotated, Any, Literal, Self

import numpy as np
from pydantic import BaseModel, BeforeValidator, ConfigDict, Field, ValidationError, field_validator, model_validator

from pannier.errors import TreatmentError, did_you_mean
from pannier.images.canvas import proposed_margin, proposed_scale, warps
from pannier.images.own_steps import OwnStep, read_own
from pannier.images.placement import Frame
from pannier.images.values import undone, value_line
from pannier.images.varying import (
    GEOMETRY,
    STEPS,
    Chance,
    Crop,
    Erase,
    Step,
    read_chance,
    read_color,
    read_crop,
    read_erase,
    reads,
)

LARGEST_SIDE = 16_384

Array = np.ndarray[Any, Any]

ANCHORS = {"center": 0.5, "top": 0.0, "bottom": 1.0, "left": 0.0, "right": 1.0}

# of the fixed part these always count; what came later counts where it is not the default, so that digests stay
_ALWAYS_FIXED = ("size", "fit", "color", "pad", "background")
_FIXED = (
    *_ALWAYS_FIXED,
    *("side", "anchor", "gray_weights", "box", "box_unit", "trim", "tone", "tone_gamma", "clahe_limit", "clahe_tiles"),
    *("autocontrast_cut", "filter", "border"),
)
_ALWAYS = (*_ALWAYS_FIXED, "values", "mean", "std", "layout", "dtype", "flip")
_VARYING = (*STEPS, "flip_chance", "order")


class MeasuredOn(BaseModel):
    """What a mean and deviation were measured on, and through which fixed part; no part of a treatment's equality."""

    model_config = ConfigDict(frozen=True, extra="forbid")

    split: str | None
    content_id: str
    fixed_part: str
    pictures: str | None = None  # a digest of the split's pictures, by which one sees that it has changed
    through: dict[str, Any] | None = None


class Treatment(BaseModel):
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

    model_config = ConfigDict(frozen=True, extra="forbid", validate_default=True, ignored_types=(cached_property,))

    size: tuple[int, int]
    fit: Literal["cover", "contain", "fill", "shortest", "longest"] = "cover"
    side: int | None = Field(default=None, ge=1, le=LARGEST_SIDE)
    anchor: tuple[float, float] = (0.5, 0.5)
    filter: Literal["nearest", "bilinear", "bicubic", "lanczos"] = "bilinear"
    color: Literal["rgb", "gray"] = "rgb"
    gray_weights: tuple[float, float, float] | None = None
    background: tuple[int, int, int] = (255, 255, 255)
    pad: tuple[int, int, int] = (255, 255, 255)
    box: tuple[str, str, str, str] | None = None
    box_unit: Literal["pixels", "shares"] = "pixels"
    trim: int | None = Field(default=None, ge=0, le=255)
    tone: Literal["none", "equalize", "clahe", "autocontrast"] = "none"
    tone_gamma: float = Field(default=1.0, ge=0.1, le=10)
    clahe_limit: float = Field(default=2.0, gt=0, le=100)
    clahe_tiles: tuple[int, int] = (8, 8)
    autocontrast_cut: float = Field(default=0.0, ge=0, lt=0.5)
    margin: float | None = Field(default=None, ge=0, le=1)
    scale: float | None = Field(default=None, ge=1, le=4)
    border: Literal["mirror", "edge", "pad"] = "mirror"
    own: Annotated[tuple[OwnStep, ...], BeforeValidator(read_own)] = ()

    flip: Literal["none", "horizontal", "vertical", "both"] = "none"
    flip_chance: float = Field(default=0.5, ge=0, le=1)
    crop: Annotated[Crop | None, BeforeValidator(read_crop)] = None
    shear: Annotated[Step | None, reads("shear")] = None
    stretch: Annotated[Step | None, reads("stretch")] = None
    zoom: Annotated[Step | None, reads("zoom")] = None
    turn: Annotated[Step | None, reads("turn")] = None
    shift: Annotated[Step | None, reads("shift")] = None
    perspective: Annotated[Step | None, reads("perspective")] = None
    brightness: Annotated[Step | None, reads("brightness")] = None
    contrast: Annotated[Step | None, reads("contrast")] = None
    saturation: Annotated[Step | None, reads("saturation")] = None
    hue: Annotated[Step | None, reads("hue")] = None
    gray: Annotated[Chance | None, BeforeValidator(read_chance)] = None
    gamma: Annotated[Step | None, reads("gamma")] = None
    blur: Annotated[Step | None, reads("blur")] = None
    noise: Annotated[Step | None, reads("noise")] = None
    jpeg: Annotated[Step | None, reads("jpeg")] = None
    erase: Annotated[Erase | None, BeforeValidator(read_erase)] = None
    order: tuple[str, ...] = STEPS

    values: Literal["raw", "unit", "signed", "standard", "per_picture", "table"] = "unit"
    mean: tuple[float, ...] | None = None
    std: tuple[float, ...] | None = None
    table: tuple[tuple[float, ...], ...] | None = None
    layout: Literal["chw", "hwc"] = "chw"
    dtype: Literal["float32", "float16", "uint8"] = "float32"
    measured_on: MeasuredOn | None = Field(default=None, repr=False)

    def __init__(self, size: Any = None, **fields: Any) -> None:
        try:
            super().__init__(**({"size": size} if size is not None else {}), **fields)
        except ValidationError as error:
            raise TreatmentError(_explain(error)) from None

    def __repr_args__(self) -> Any:
        """Only what was said: size, and fields that differ from their defaults."""
        for name, field in type(self).model_fields.items():
            if field.repr and (name == "size" or getattr(self, name) != field.get_default()):
                yield name, getattr(self, name)

    @field_validator("size", mode="before")
    @classmethod
    def _square_from_number(cls, value: Any) -> Any:
        if isinstance(value, int) and not isinstance(value, bool):
            value = (value, value)
        if not isinstance(value, (tuple, list)) or len(value) != 2 or any(type(side) is not int for side in value):
            raise ValueError("a number or (height, width), in whole pixels")
        if not all(1 <= side <= LARGEST_SIDE for side in value):
            raise ValueError(f"sides from 1 to {LARGEST_SIDE:,} pixels")
        return tuple(value)

    @field_validator("pad", "background", mode="before")
    @classmethod
    def _color(cls, value: Any) -> Any:
        return read_color(value)

    @field_validator("anchor", mode="before")
    @classmethod
    def _shares_from_words(cls, value: Any) -> Any:
        if isinstance(value, str):
            words = value.replace("-", " ").split()
            down = [word for word in words if word in ("top", "bottom")]
            across = [word for word in words if word in ("left", "right")]
            if words and len(down) <= 1 and len(across) <= 1 and all(word in ANCHORS for word in words):
                return ANCHORS[(down or ["center"])[0]], ANCHORS[(across or ["center"])[0]]
        elif (
            isinstance(value, (list, tuple))
            and len(value) == 2
            and all(isinstance(share, (int, float)) and 0 <= share <= 1 for share in value)
        ):
            return float(value[0]), float(value[1])
        raise ValueError('"center", "top", "top left", "bottom right" and the like, or shares (down, across) from 0 to 1')

    @field_validator("gray_weights")
    @classmethod
    def _weights_sum_to_one(cls, value: Any) -> Any:
        if value is not None and (abs(sum(value) - 1) > 1e-6 or min(value) < 0):
            raise ValueError("three weights of 0 or more, of red, green and blue, that sum up to 1")
        return value

    @field_validator("clahe_tiles", mode="before")
    @classmethod
    def _tiles(cls, value: Any) -> Any:
        value = (value, value) if type(value) is int else value
        if (
            not isinstance(value, (tuple, list))
            or len(value) != 2
            or any(type(n) is not int or not 1 <= n <= 64 for n in value)
        ):
            raise ValueError("how many tiles down and across, from 1 to 64")
        return tuple(value)

    @field_validator("table", mode="before")
    @classmethod
    def _rows_of_256(cls, value: Any) -> Any:
        if value is None:
            return None
        rows = np.asarray(value, np.float64) if isinstance(value, (list, tuple, np.ndarray)) else np.empty(0)
        rows = rows[None] if rows.ndim == 1 else rows
        if rows.ndim != 2 or rows.shape[1] != 256 or not np.isfinite(rows).all():
            raise ValueError("256 numbers, or a row of 256 for each channel")
        return tuple(tuple(row) for row in rows.tolist())

    @field_validator("order", mode="before")
    @classmethod
    def _all_steps_in_order(cls, value: Any) -> Any:
        if not isinstance(value, (list, tuple)) or not all(isinstance(name, str) for name in value):
            raise ValueError(f"a list of step names, of {', '.join(STEPS)}")
        for name in value:
            if name not in STEPS:
                raise ValueError(f"a list of step names{did_you_mean(name, STEPS)}")
        if len(set(value)) < len(value):
            raise ValueError("a list that names each step once")
        rest = [name for name in STEPS if name not in value]
        geometry = [name for name in [*value, *rest] if name in GEOMETRY]
        if geometry[-1] != "perspective":
            if "perspective" in value:
                raise ValueError("a list in which perspective is the last of the geometry")
            geometry.remove("perspective")
            geometry.append("perspective")
        light = [name for name in [*value, *rest] if name not in GEOMETRY]
        if [name for name in value if name in GEOMETRY] + [name for name in value if name not in GEOMETRY] != list(value):
            raise ValueError("a list with the geometry first, as it becomes one warp: then light, blur and the like")
        return (*geometry, *light)

    @model_validator(mode="after")
    def _fields_agree(self) -> Treatment:
        if self.dtype == "uint8" and self.values != "raw":
            raise ValueError('dtype = "uint8" goes with values = "raw" alone')
        given = self.mean is not None or self.std is not None
        if given and self.values != "standard":
            raise ValueError('mean and std go with values = "standard" alone')
        if given and (self.mean is None or self.std is None):
            raise ValueError("mean and std go together")
        if self.mean is not None and self.std is not None:
            if len(self.mean) != self.channels or len(self.std) != self.channels:
                raise ValueError(f"mean and std need {self.channels} numbers for color = {self.color!r}")
            if not all(np.isfinite(self.mean)) or not all(np.isfinite(s) and s > 0 for s in self.std):
                raise ValueError("mean must be finite and std above 0 in every channel")
        if (self.values == "table") != (self.table is not None):
            raise ValueError('values = "table" and a table of 256 numbers go together')
        if self.table is not None and len(self.table) not in (1, self.channels):
            raise ValueError(f"table needs one row of 256 numbers, or {self.channels} for color = {self.color!r}")
        if self.gray_weights is not None and self.color != "gray":
            raise ValueError('gray_weights go with color = "gray" alone')
        if self.side is not None and self.fit not in ("shortest", "longest"):
            raise ValueError('side goes with fit = "shortest" or "longest" alone')
        if self.color == "gray":
            colorful = [name for name in ("saturation", "hue", "gray") if getattr(self, name) is not None]
            if colorful:
                raise ValueError(f'{colorful[0]} changes nothing where color = "gray": leave it out')
        height, width = self.frame.canvas
        if max(height, width) > 2 * LARGEST_SIDE:
            raise ValueError("margin and scale make a canvas that is too large: lower them")
        return self

    @property
    def channels(self) -> int:
        return 1 if self.color == "gray" else 3

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
        said = self.model_dump(mode="json", exclude={"measured_on", "margin", "scale"})
        said = {name: value for name, value in said.items() if name in _ALWAYS or value != _default(name)}
        return said | self._around()

    def fixed_fields(self) -> dict[str, Any]:
        """What makes the picture that is seen: all of the fixed part but margin and scale."""
        essence = self.essence()
        said = {name: essence[name] for name in _FIXED if name in essence}
        own = [step.model_dump() for step in self.own_at("decoded")]
        return said | ({"own": own} if own else {})

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
            raise TreatmentError(
                'values = "standard" needs mean and std: give them, or use treatment.measured(snapshot, "train")'
            )
        if self.measured_on is None or self.measured_on.through is None:
            return
        here, there = self.fixed_fields(), self.measured_on.through
        for name in sorted(here.keys() | there.keys()):
            mine, theirs = here.get(name, _default(name)), there.get(name, _default(name))
            if mine != theirs:
                raise TreatmentError(
                    f"mean and std were measured at {name} = {_shown(theirs)}, this treatment has {_shown(mine)}: measure "
                    "again with treatment.measured(snapshot), or pannier stats --save"
                )

    def value_line(self) -> tuple[Array, Array]:
        """float32 (scale, offset) by channel: an array's value is float32(pixel) * scale + offset.

        Raises TreatmentError where values are "standard" and mean and std are not known yet, or where values are no line.
        """
        self.check_ready()
        return value_line(self)

    def with_fields(self, **fields: Any) -> Self:
        """The same treatment with some fields changed."""
        kept = {name: getattr(self, name) for name in self.model_fields_set if name not in fields}
        return type(self)(**(kept | fields))

    def __call__(self, picture: Any, *, box: tuple[float, float, float, float] | None = None) -> Array:
        """One picture from anywhere, prepared, without the random steps: a path, bytes, a Pillow picture or a uint8 array.

        box: (top, left, height, width) of the part used, in `box_unit`; of the upright picture.
        """
        from pannier.images.prepare import Preparation

        return Preparation(self).one(picture, box=box)

    def undo(self, images: Array) -> Array:
        """Pictures to look at: prepared arrays (..., and the layout's three axes) back to uint8 (..., h, w, channels).

        Within half a step of the pixels, but for "per_picture", whose mean and deviation are lost: those come back with a
        mean of 127.5 and a deviation of 64.
        """
        return undone(self, np.asarray(images))

    def explain(self) -> str:
        """The steps with their sizes and costs, in words."""
        from pannier.images.explaining import explained

        return explained(self)

    @classmethod
    def from_file(cls, path: str | Path, **override: Any) -> Self:
        """Reads a TOML file of the same fields; `override` goes before what it says."""
        from pannier.images.treatment_file import read_fields

        fields = read_fields(path)
        try:
            return cls(**(fields | override))
        except TreatmentError as error:
            raise TreatmentError(f"{path}: {error}") from None

    def save(self, path: str | Path) -> None:
        """Writes it as a TOML file; in one that is there, comments and the order of fields are kept."""
        from pannier.images.treatment_file import save

        save(self, path)


def _default(name: str) -> Any:
    """A field's default as JSON has it."""
    return _DEFAULTS.get(name)


def _shown(value: Any) -> str:
    return "x".join(map(str, value)) if isinstance(value, list) else str(value)


def _digest(fields: dict[str, Any]) -> str:
    return hashlib.sha256(json.dumps(fields, sort_keys=True, separators=(",", ":")).encode()).hexdigest()


def _explain(error: ValidationError) -> str:
    """The first problem in one line: field, value, what is allowed."""
    problem = error.errors()[0]
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
