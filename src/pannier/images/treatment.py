"""The treatment: how one picture becomes an array. Frozen, hashable, from a TOML file or from keywords."""

from __future__ import annotations

import hashlib
import json
import tomllib
from pathlib import Path
from typing import TYPE_CHECKING, Any, Literal

import numpy as np
from pydantic import BaseModel, ConfigDict, Field, ValidationError, field_validator, model_validator

from pannier.errors import NotFoundError, TreatmentError, did_you_mean

if TYPE_CHECKING:
    from pannier.store.snapshot import Snapshot

LARGEST_SIDE = 16_384

Array = np.ndarray[Any, Any]


class MeasuredOn(BaseModel):
    """What a mean and deviation were measured on; no part of a treatment's equality."""

    model_config = ConfigDict(frozen=True, extra="forbid")

    split: str | None
    content_id: str
    fixed_part: str


class Treatment(BaseModel):
    """How one picture becomes an array.

    size: canvas in pixels, a number (square) or (height, width).
    fit: "cover" cuts what stands over, in the middle; "contain" pads with the color `pad`; "fill" stretches.
    color: "rgb" or "gray" (one channel, which keeps its axis).
    values: "raw" 0..255, "unit" 0..1, "signed" -1..1, "standard" (v / 255 - mean) / std.
    mean, std: for "standard", one number a channel on the scale 0..1; `measured` finds them.
    layout: "chw" (channel, height, width) or "hwc".
    dtype: "float32", or "uint8" for raw values.
    background: the color that transparent pictures are laid over.
    flip: random mirroring, for training alone: "none", "horizontal", "vertical" or "both", each at one half.

    Colors are names, "#rrggbb" or three numbers 0..255. Raises TreatmentError, which names field, value and what is allowed.
    Safe between threads. Calling it with a path, encoded bytes or a uint8 array gives the prepared array.
    """

    model_config = ConfigDict(frozen=True, extra="forbid", validate_default=True)

    size: tuple[int, int]
    fit: Literal["cover", "contain", "fill"] = "cover"
    color: Literal["rgb", "gray"] = "rgb"
    values: Literal["raw", "unit", "signed", "standard"] = "unit"
    mean: tuple[float, ...] | None = None
    std: tuple[float, ...] | None = None
    layout: Literal["chw", "hwc"] = "chw"
    dtype: Literal["float32", "uint8"] = "float32"
    pad: tuple[int, int, int] = (255, 255, 255)
    background: tuple[int, int, int] = (255, 255, 255)
    flip: Literal["none", "horizontal", "vertical", "both"] = "none"
    measured_on: MeasuredOn | None = Field(default=None, repr=False)

    def __init__(self, size: Any = None, **fields: Any) -> None:
        try:
            super().__init__(**({"size": size} if size is not None else {}), **fields)
        except ValidationError as error:
            raise TreatmentError(_explain(error)) from None

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
        if isinstance(value, str):
            from PIL import ImageColor

            try:
                return ImageColor.getrgb(value)[:3]
            except ValueError:
                raise ValueError('a color name, "#rrggbb" or three numbers 0..255') from None
        if isinstance(value, (tuple, list)) and len(value) == 3 and all(type(v) is int and 0 <= v <= 255 for v in value):
            return tuple(value)
        raise ValueError('a color name, "#rrggbb" or three numbers 0..255')

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

    def _essence(self) -> dict[str, Any]:
        return self.model_dump(mode="json", exclude={"measured_on"})

    def __eq__(self, other: object) -> bool:
        return self._essence() == other._essence() if isinstance(other, Treatment) else NotImplemented

    def __hash__(self) -> int:
        return hash(self.identity)

    @property
    def identity(self) -> str:
        """SHA-256 of the canonical form: all fields but `measured_on` as JSON, keys sorted, no blanks."""
        return _digest(self._essence())

    @property
    def fixed_part(self) -> str:
        """The same of what makes the canvas: size, fit, color, pad and background."""
        return _digest({k: v for k, v in self._essence().items() if k in ("size", "fit", "color", "pad", "background")})

    @property
    def is_ready(self) -> bool:
        """Whether arrays can be made: standard values need their mean and std."""
        return self.values != "standard" or self.mean is not None

    def value_line(self) -> tuple[Array, Array]:
        """float32 (scale, offset) by channel: an array's value is float32(pixel) * scale + offset.

        Raises TreatmentError where values are "standard" and mean and std are not known yet.
        """
        scale, offset = np.ones(self.channels), np.zeros(self.channels)
        if self.values == "unit":
            scale /= 255
        elif self.values == "signed":
            scale, offset = scale * 2 / 255, offset - 1
        elif self.values == "standard":
            if self.mean is None or self.std is None:
                raise TreatmentError(
                    'values = "standard" needs mean and std: give them, or use treatment.measured(snapshot, "train")'
                )
            scale, offset = 1 / (255 * np.array(self.std)), -np.array(self.mean) / np.array(self.std)
        return scale.astype(np.float32), offset.astype(np.float32)

    def with_fields(self, **fields: Any) -> Treatment:
        """The same treatment with some fields changed."""
        kept = self.model_dump(exclude_defaults=True)
        return Treatment(**(kept | fields))

    def __call__(self, picture: str | Path | bytes | Array) -> Array:
        """One picture from anywhere, prepared, without the random steps: a path, bytes or a uint8 array."""
        from pannier.images.prepare import Preparation

        return Preparation(self).one(picture)

    def undo(self, images: Array) -> Array:
        """Pictures to look at: prepared arrays (..., and the layout's three axes) back to uint8 (..., h, w, channels)."""
        images = np.asarray(images)
        if self.layout == "chw":
            images = np.moveaxis(images, -3, -1)
        scale, offset = self.value_line()
        return np.clip(np.rint((images.astype(np.float32) - offset) / scale), 0, 255).astype(np.uint8)

    def measured(self, snapshot: Snapshot, split: str | None = "train", *, workers: int | None = None) -> Treatment:
        """This treatment with values "standard", and the mean and deviation of a split through its very size, fit and color.

        Population statistics over all pixels of the fixed part, padding too, exact. Raises TreatmentError for a channel
        that is constant.
        """
        from pannier.feed.statistics import measure_values

        mean, std = measure_values(snapshot, split, self, workers=workers)
        seen = MeasuredOn(split=split, content_id=snapshot.content_id, fixed_part=self.fixed_part)
        return self.with_fields(values="standard", dtype="float32", mean=mean, std=std, measured_on=seen.model_dump())

    @classmethod
    def from_file(cls, path: str | Path, **override: Any) -> Treatment:
        """Reads a TOML file of the same fields; `override` goes before what it says."""
        try:
            with open(path, "rb") as file:
                fields = tomllib.load(file)
        except FileNotFoundError:
            raise NotFoundError(f"no treatment file {path}") from None
        except (OSError, UnicodeDecodeError, tomllib.TOMLDecodeError) as error:
            raise TreatmentError(f"{path} is no TOML file that can be read: {error}") from None
        try:
            return cls(**(fields | override))
        except TreatmentError as error:
            raise TreatmentError(f"{path}: {error}") from None


def _digest(fields: dict[str, Any]) -> str:
    return hashlib.sha256(json.dumps(fields, sort_keys=True, separators=(",", ":")).encode()).hexdigest()


def _explain(error: ValidationError) -> str:
    """The first problem in one line: field, value, what is allowed."""
    problem = error.errors()[0]
    field = ".".join(str(part) for part in problem["loc"])
    known = Treatment.model_fields
    if problem["type"] == "extra_forbidden":
        return f"a treatment has no field {field!r}{did_you_mean(field, known)}"
    if problem["type"] == "missing":
        return "a treatment needs a size, e.g. size = 96 or size = [96, 128]"
    wanted = problem["msg"].removeprefix("Value error, ").removeprefix("Input should be ")
    return f"{field} = {problem['input']!r}: must be {wanted}" if field else wanted
