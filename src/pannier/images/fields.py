"""What a treatment says: its fields, each checked when it is given."""

from __future__ import annotations

from functools import cached_property
from typing import Annotated, Any, Literal, Self

import numpy as np
from pydantic import BaseModel, BeforeValidator, ConfigDict, Field, field_validator, model_validator

from pannier.errors import did_you_mean
from pannier.images import varying
from pannier.images.own_steps import OwnStep, read_own

LARGEST_SIDE = 16_384


ANCHORS = {"center": 0.5, "top": 0.0, "bottom": 1.0, "left": 0.0, "right": 1.0}


class MeasuredOn(BaseModel):
    """What a mean and deviation were measured on, and through which fixed part; no part of a treatment's equality."""

    model_config = ConfigDict(frozen=True, extra="forbid")

    split: str | None = None  # None: all records
    content_id: str
    fixed_part: str
    pictures: str | None = None  # a digest of the split's pictures, by which one sees that it has changed
    through: dict[str, Any] | None = None


class Fields(BaseModel):
    """Checked fields that show their own names alone, not those of the library that checks them."""

    def __dir__(self) -> list[str]:
        own = {name for name in dir(type(self)) if not name.startswith("_") and not hasattr(BaseModel, name)}
        return sorted(own | {*type(self).model_fields})


class TreatmentFields(Fields):
    """See `pannier.Treatment`, which tells what each field means. Raises TreatmentError."""

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
    crop: Annotated[varying.Crop | None, BeforeValidator(varying.read_crop)] = None
    shear: Annotated[varying.Step | None, varying.reads("shear")] = None
    stretch: Annotated[varying.Step | None, varying.reads("stretch")] = None
    zoom: Annotated[varying.Step | None, varying.reads("zoom")] = None
    turn: Annotated[varying.Step | None, varying.reads("turn")] = None
    shift: Annotated[varying.Step | None, varying.reads("shift")] = None
    perspective: Annotated[varying.Step | None, varying.reads("perspective")] = None
    brightness: Annotated[varying.Step | None, varying.reads("brightness")] = None
    contrast: Annotated[varying.Step | None, varying.reads("contrast")] = None
    saturation: Annotated[varying.Step | None, varying.reads("saturation")] = None
    hue: Annotated[varying.Step | None, varying.reads("hue")] = None
    gray: Annotated[varying.Chance | None, BeforeValidator(varying.read_chance)] = None
    gamma: Annotated[varying.Step | None, varying.reads("gamma")] = None
    blur: Annotated[varying.Step | None, varying.reads("blur")] = None
    noise: Annotated[varying.Step | None, varying.reads("noise")] = None
    jpeg: Annotated[varying.Step | None, varying.reads("jpeg")] = None
    erase: Annotated[varying.Erase | None, BeforeValidator(varying.read_erase)] = None
    order: tuple[str, ...] = varying.STEPS

    values: Literal["raw", "unit", "signed", "standard", "per_picture", "table"] = "unit"
    mean: tuple[float, ...] | None = None
    std: tuple[float, ...] | None = None
    table: tuple[tuple[float, ...], ...] | None = None
    layout: Literal["chw", "hwc"] = "chw"
    dtype: Literal["float32", "float16", "uint8"] = "float32"
    measured_on: MeasuredOn | None = None

    @field_validator("size", mode="before")
    @classmethod
    def _square_from_number(cls, value: Any) -> Any:
        if isinstance(value, str):
            sides = value.lower().split("x")
            if len(sides) > 2 or not all(side.isdigit() for side in sides):
                raise ValueError("one number, as 96, or HEIGHTxWIDTH, as 96x128")
            value = (int(sides[0]), int(sides[-1]))
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
        return varying.read_color(value)

    @field_validator("anchor", mode="before")
    @classmethod
    def _shares_from_words(cls, value: Any) -> Any:
        if isinstance(value, str):
            words = value.replace("-", " ").split()
            down = [word for word in words if word in ("top", "bottom")]
            across = [word for word in words if word in ("left", "right")]
            if words and len(down) <= 1 and len(across) <= 1 and all(word in ANCHORS for word in words):
                return ANCHORS[(down or ["center"])[0]], ANCHORS[(across or ["center"])[0]]
        are_shares = isinstance(value, (list, tuple)) and len(value) == 2
        if are_shares and all(isinstance(share, (int, float)) and 0 <= share <= 1 for share in value):
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
        is_pair = isinstance(value, (tuple, list)) and len(value) == 2
        if not is_pair or any(type(n) is not int or not 1 <= n <= 64 for n in value):
            raise ValueError("how many tiles down and across, from 1 to 64")
        return tuple(value)

    @field_validator("table", mode="before")
    @classmethod
    def _rows_of_256(cls, value: Any) -> Any:
        if value is None:
            return None
        try:
            rows = np.asarray(value, np.float64) if isinstance(value, (list, tuple, np.ndarray)) else np.empty(0)
        except (TypeError, ValueError):  # of what is no number, or rows that are not alike
            rows = np.empty(0)
        rows = rows[None] if rows.ndim == 1 else rows
        if rows.ndim != 2 or rows.shape[1] != 256 or not np.isfinite(rows).all():
            raise ValueError("256 numbers, or a row of 256 for each channel")
        return tuple(tuple(row) for row in rows.tolist())

    @field_validator("order", mode="before")
    @classmethod
    def _all_steps_in_order(cls, value: Any) -> Any:
        if not isinstance(value, (list, tuple)) or not all(isinstance(name, str) for name in value):
            raise ValueError(f"a list of step names, of {', '.join(varying.STEPS)}")
        for name in value:
            if name not in varying.STEPS:
                raise ValueError(f"a list of step names{did_you_mean(name, varying.STEPS)}")
        if len(set(value)) < len(value):
            raise ValueError("a list that names each step once")
        rest = [name for name in varying.STEPS if name not in value]
        geometry = [name for name in [*value, *rest] if name in varying.GEOMETRY]
        if geometry[-1] != "perspective":
            if "perspective" in value:
                raise ValueError("a list in which perspective is the last of the geometry")
            geometry.remove("perspective")
            geometry.append("perspective")
        light = [name for name in [*value, *rest] if name not in varying.GEOMETRY]
        if sorted(value, key=lambda name: name not in varying.GEOMETRY) != list(value):
            raise ValueError("a list with the geometry first, as it becomes one warp: then light, blur and the like")
        return (*geometry, *light)

    @model_validator(mode="after")
    def _fields_agree(self) -> Self:
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
        return self

    @property
    def channels(self) -> int:
        return 1 if self.color == "gray" else 3
