"""The varying part of a treatment: which random steps there are, in which units, and what may be said of each."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, Literal

from pydantic import BaseModel, BeforeValidator, ConfigDict, Field, field_validator

Pair = tuple[float, float]


class _Frozen(BaseModel):
    model_config = ConfigDict(frozen=True, extra="forbid")


class Step(_Frozen):
    """One random step: the range that a number is drawn from, evenly, and how likely the step is for a picture."""

    range: Pair
    chance: float = Field(default=1.0, ge=0, le=1)


class Chance(_Frozen):
    """A step that happens or does not."""

    chance: float = Field(ge=0, le=1)


class Crop(_Frozen):
    """A random part of the view: its share of the area, its shape (width by height, against the view's), and how likely."""

    area: Pair
    shape: Pair = (1.0, 1.0)
    chance: float = Field(default=1.0, ge=0, le=1)

    @field_validator("area", mode="before")
    @classmethod
    def _area(cls, value: Any) -> Pair:
        return _range(value, 0.01, 1.0, "shares of the area from 0.01 to 1", lambda x: (x, 1.0))

    @field_validator("shape", mode="before")
    @classmethod
    def _shape(cls, value: Any) -> Pair:
        return _range(value, 0.1, 10.0, "factors from 0.1 to 10", _by_factor)


class Erase(_Frozen):
    """Random boxes blotted out: how many, each one's share of the area and shape, filled with a color or with noise."""

    area: Pair = (0.02, 0.2)
    shape: Pair = (0.4, 2.5)
    count: int = Field(default=1, ge=1, le=16)
    fill: tuple[int, int, int] | Literal["noise"] = (127, 127, 127)
    chance: float = Field(default=1.0, ge=0, le=1)

    @field_validator("area", mode="before")
    @classmethod
    def _area(cls, value: Any) -> Pair:
        return _range(value, 0.001, 0.8, "shares of the area from 0.001 to 0.8", lambda x: (x, x))

    @field_validator("shape", mode="before")
    @classmethod
    def _shape(cls, value: Any) -> Pair:
        return _range(value, 0.1, 10.0, "factors from 0.1 to 10", _by_factor)

    @field_validator("fill", mode="before")
    @classmethod
    def _fill(cls, value: Any) -> Any:
        return value if value == "noise" else read_color(value)


def _both_ways(x: float) -> Pair:
    return (-abs(x), abs(x))


def _by_factor(x: float) -> Pair:
    return (min(x, 1 / x), max(x, 1 / x)) if x > 0 else (x, x)


def _around_one(x: float) -> Pair:
    return (1 - abs(x), 1 + abs(x))


@dataclass(frozen=True)
class StepKind:
    """What a step's numbers are: `unit` in words, the widest range, and the range that a single number stands for."""

    unit: str
    low: float
    high: float
    single: Any
    is_geometry: bool = False
    by_factor: bool = False  # drawn evenly in the logarithm, so that twice and half are alike

    def show(self, pair: Pair) -> str:
        """The range as a reader wants it."""
        word = self.unit.partition(" ")[0]
        ends = [f"{end:g}" if pair[0] >= 0 or end == 0 else f"{end:+g}" for end in pair]
        text = ends[0] if pair[0] == pair[1] else f"{ends[0]} to {ends[1]}"
        return f"{text} {self.unit}" if word in ("degrees", "shares") else text


KINDS = {
    "shear": StepKind("degrees", -45, 45, _both_ways, True),
    "stretch": StepKind("factors", 0.25, 4, _by_factor, True, True),
    "zoom": StepKind("factors", 0.25, 4, _by_factor, True, True),
    "turn": StepKind("degrees", -180, 180, _both_ways, True),
    "shift": StepKind("shares of the side", -1, 1, _both_ways, True),
    "perspective": StepKind("shares of the side", -0.2, 0.2, _both_ways, True),
    "brightness": StepKind("factors", 0, 4, _around_one),
    "contrast": StepKind("factors", 0, 4, _around_one),
    "saturation": StepKind("factors", 0, 4, _around_one),
    "hue": StepKind("degrees", -180, 180, _both_ways),
    "gamma": StepKind("factors", 0.2, 5, _by_factor, by_factor=True),
    "blur": StepKind("shares of the shorter side", 0, 0.1, lambda x: (0.0, x)),
    "noise": StepKind("shares of full white", 0, 0.5, lambda x: (0.0, x)),
    "jpeg": StepKind("qualities", 1, 100, lambda x: (x, x)),
}

# as they follow one another unless `order` says otherwise; all geometry becomes one warp, perspective its last part
GEOMETRY = ("flip", "crop", "shear", "stretch", "zoom", "turn", "shift", "perspective")
LIGHT = ("brightness", "contrast", "saturation", "hue", "gray", "gamma", "blur", "noise", "jpeg", "erase")
POINTWISE = ("brightness", "contrast", "saturation", "hue", "gray", "gamma")
STEPS = GEOMETRY + LIGHT


def _range(value: Any, low: float, high: float, allowed: str, single: Any) -> Pair:
    if isinstance(value, (int, float)) and not isinstance(value, bool):
        value = single(value)
    if not isinstance(value, (list, tuple)) or len(value) != 2 or any(type(v) not in (int, float) for v in value):
        raise ValueError(f"{allowed}: one number, or [low, high]")
    first, last = float(value[0]), float(value[1])
    if not low <= first <= last <= high:
        raise ValueError(f"{allowed}: one number, or [low, high]")
    return first, last


def reads(name: str) -> BeforeValidator:
    """Reads one step of `KINDS` from a number, [low, high], or a table of range and chance."""
    kind = KINDS[name]
    allowed = f"{kind.unit} from {kind.low:g} to {kind.high:g}"

    def read(value: Any) -> Any:
        if value is None or isinstance(value, Step):
            return value
        if isinstance(value, dict):
            if "range" not in value:
                raise ValueError(f"{allowed}, as {{ range = [low, high], chance = 0.5 }}")
            return value | {"range": _range(value["range"], kind.low, kind.high, allowed, kind.single)}
        return {"range": _range(value, kind.low, kind.high, allowed, kind.single)}

    return BeforeValidator(read)


def read_chance(value: Any) -> Any:
    """A step that happens or does not, from its chance."""
    if isinstance(value, (int, float)) and not isinstance(value, bool):
        if not 0 <= value <= 1:
            raise ValueError("a chance from 0 to 1")
        return {"chance": float(value)}
    return value


def read_crop(value: Any) -> Any:
    """A crop from its range of areas alone."""
    return {"area": value} if isinstance(value, (int, float, list, tuple)) and not isinstance(value, bool) else value


def read_erase(value: Any) -> Any:
    """Erased boxes from their chance alone."""
    return {"chance": value} if isinstance(value, (int, float)) and not isinstance(value, bool) else value


def read_color(value: Any) -> tuple[int, int, int]:
    """A color as three numbers 0..255, from a name, "#rrggbb" or them. Raises ValueError."""
    if isinstance(value, str):
        from PIL import ImageColor

        try:
            red, green, blue = ImageColor.getrgb(value)[:3]
            return red, green, blue
        except ValueError:
            raise ValueError('a color name, "#rrggbb" or three numbers 0..255') from None
    if isinstance(value, (tuple, list)) and len(value) == 3 and all(type(v) is int and 0 <= v <= 255 for v in value):
        return value[0], value[1], value[2]
    raise ValueError('a color name, "#rrggbb" or three numbers 0..255')
