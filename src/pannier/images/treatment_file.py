"""Treatment files: TOML of a treatment's fields; read, written with comments kept, and a commented one to begin with."""

from __future__ import annotations

import re
import tomllib
from collections.abc import Iterable, Mapping
from pathlib import Path
from typing import Any

from pannier.errors import NotFoundError, TreatmentError, UsageError
from pannier.files import write_whole
from pannier.images.treatment import Treatment
from pannier.images.varying import KINDS
from pannier.units import at_commas

# a text that needs no quotes between commas
_WORD = re.compile(r"(?!(true|false|nan|inf)$)[A-Za-z#][A-Za-z0-9#._-]*")

TEMPLATE = """\
# How one picture becomes an array. Every line that begins with "#" shows a default, or what might be said.
# pannier treatment THIS.toml explains it; pannier look STORE KEY --treatment THIS.toml shows it.

size = 96                         # pixels: a number, or [height, width]
fit = "cover"                     # cover (cut), contain (pad), fill (stretch), shortest, longest (see side)
# side = 110                      # with shortest or longest: that side's pixels, then the middle is taken
# anchor = "center"               # which part is kept: "top", "bottom left" and the like, or [0.5, 0.5]
# pad = "white"                   # what a picture leaves free, with contain
# filter = "bilinear"             # nearest, bilinear, bicubic, lanczos; antialiased
color = "rgb"                     # rgb, gray
# gray_weights = [0.3, 0.59, 0.11]  # of red, green, blue, in place of luma
# background = "white"            # what transparent pictures lie over

# box = ["top", "left", "height", "width"]  # side columns with a crop box for each record
# trim = 8                        # cuts uniform borders: steps of 0..255 from the corner's color
# tone = "none"                   # equalize, clahe (clahe_limit, clahe_tiles), autocontrast (autocontrast_cut)
# tone_gamma = 1.0                # above 1 is lighter

# Random steps, for training alone: one number, [low, high], or { range = [low, high], chance = 0.5 }
flip = "horizontal"               # none, horizontal, vertical, both
turn = 8                          # degrees
zoom = [0.9, 1.15]                # factors
shift = 0.05                      # shares of the side
# shear = 5                       # degrees
# stretch = 1.1                   # factors of width by height
# perspective = 0.05              # shares of the side that corners move by
# crop = { area = [0.6, 1.0], shape = [0.8, 1.25] }  # a part of the view, by its share of the area
brightness = 0.15                 # factors around 1
contrast = 0.15
# saturation = 0.3
# hue = 10                        # degrees
# gray = 0.1                      # a chance
# gamma = 1.2
# blur = { range = [0.0, 0.01], chance = 0.3 }   # sigma in shares of the shorter side
# noise = 0.02                    # sigma in shares of full white
# jpeg = { range = [40, 90], chance = 0.3 }      # qualities
# erase = { area = [0.02, 0.15], count = 1, fill = "noise", chance = 0.3 }
# margin, scale: how much larger and finer than the view the canvas is; by default as the ranges need it
# border = "mirror"               # what lies beyond the picture: mirror, edge, pad

values = "unit"                   # raw, unit, signed, standard (pannier stats fills mean and std), per_picture
dtype = "float32"                 # float32, float16, uint8 (raw alone)
layout = "chw"                    # chw, hwc
"""

# above the fields that `save` adds to a file, in the order in which a reader looks for them
FEED = "feed"
FEEDING = ("batch_size", "workers", "processes", "ahead", "memory_limit", "rendered")
_LAST = ("values", "mean", "std", "table", "dtype", "layout", "measured_on")


def read_fields(path: str | Path) -> dict[str, Any]:
    """The fields as they stand in a file, without what it says of feeding. Raises NotFoundError, TreatmentError."""
    return {name: value for name, value in _read(path).items() if name != FEED}


def read_feeding(path: str | Path) -> dict[str, Any]:
    """What a file says of feeding, in a table `feed`: options by name. Raises NotFoundError, TreatmentError."""
    said = _read(path).get(FEED, {})
    wrong = [*said] if not isinstance(said, dict) else [name for name in said if name not in FEEDING]
    if wrong or not isinstance(said, dict):
        raise TreatmentError(f"{path}: [{FEED}] holds {', '.join(FEEDING)}; not {', '.join(map(repr, wrong)) or repr(said)}")
    return said


def save_feeding(treatment: Treatment, options: Mapping[str, Any], path: str | Path) -> None:
    """Writes a treatment with options of a feed, those that are None left out. Raises StoreError."""
    import tomlkit

    document = tomlkit.document()
    for name, value in plain_fields(treatment).items():
        document[name] = value
    document[FEED] = {name: value for name, value in options.items() if value is not None}
    write_whole(path, tomlkit.dumps(document))


def _read(path: str | Path) -> dict[str, Any]:
    try:
        with open(path, "rb") as file:
            return tomllib.load(file)
    except FileNotFoundError:
        raise NotFoundError(f"no treatment file {path}; pannier treatment writes one to begin with (`new`)") from None
    except (OSError, UnicodeDecodeError, tomllib.TOMLDecodeError) as error:
        raise TreatmentError(f"{path} is no TOML file that can be read: {error}") from None


def read_said(text: str | Path) -> tuple[str | None, dict[str, Any]]:
    """What is said of a treatment: (a file's path, or None; fields, as in "size=96x128,color=gray,turn=8")."""
    if "=" not in str(text) or Path(text).exists():
        return str(text), {}
    fields = {}
    for piece in at_commas(str(text)):
        name, _, value = (part.strip() for part in piece.partition("="))
        try:
            fields[name] = tomllib.loads(f"it = {value}")["it"]
        except tomllib.TOMLDecodeError:
            fields[name] = value  # a word
    return None, fields


def read_all_said(texts: Iterable[str]) -> tuple[str | None, dict[str, Any]]:
    """What several texts say of a treatment together: one file at most, and fields. Raises UsageError where two differ."""
    file: str | None = None
    fields: dict[str, Any] = {}
    for text in texts:
        path, more = read_said(text)
        if path is not None and file not in (None, path):
            what = f"`treatment` {path}: another file is given already, {file}: give one, and fields"
            raise UsageError(what, argument="treatment")
        file = path if path is not None else file
        for name, value in more.items():
            if fields.setdefault(name, value) != value:
                what = f"`treatment` {name}={value}: {name} is {fields[name]} already: give it once"
                raise UsageError(what, argument="treatment")
    return file, fields


def as_text(fields: Mapping[str, Any]) -> str:
    """Fields as `read_said` reads them again, as in "size=96,color=gray,turn=[-8, 8]"."""
    return ",".join(f"{name}={_as_toml(value)}" for name, value in fields.items())


def _as_toml(value: Any) -> str:
    import tomlkit

    if isinstance(value, str) and _WORD.fullmatch(value):
        return value
    if isinstance(value, Mapping):
        table = tomlkit.inline_table()
        table.update(value)
        return table.as_string()
    text: str = tomlkit.item(list(value) if isinstance(value, tuple) else value).as_string()
    return text


def write_new(path: str | Path) -> None:
    """Writes the commented treatment to begin with. Raises UsageError where something is there already."""
    try:
        with open(path, "x", encoding="utf-8") as file:
            file.write(TEMPLATE)
    except FileExistsError:
        raise UsageError(f"{path} is there already: give another name, or explain it without `new`") from None
    except OSError as error:
        raise UsageError(f"{path} cannot be written: {error.strerror or error}") from None


def save(treatment: Treatment, path: str | Path) -> None:
    """See `Treatment.save`. The file is replaced as a whole, so that nobody reads half of it."""
    import tomlkit

    target, before = Path(path), None
    document = tomlkit.document()
    if target.exists():
        before = _read_again(read_fields(target))
        document = tomlkit.parse(target.read_text(encoding="utf-8"))
    fields = plain_fields(treatment)
    for name in list(document):
        if before is not None and name != "measured_on" and getattr(before, name) == getattr(treatment, name):
            fields.pop(name, None)  # it means the same: however it is written there, it stays
        elif name not in fields and name != FEED:
            document.remove(name)
    for name in sorted(fields, key=lambda each: _LAST.index(each) if each in _LAST else -1):
        value = fields[name]
        if name == "measured_on":
            document.pop(name, None)
            document.add(name, _measured(value))
        elif document.get(name) != value:
            document[name] = value
    write_whole(target, tomlkit.dumps(document))


def _read_again(fields: dict[str, Any]) -> Treatment | None:
    """The treatment that a file holds; None where it holds none that is valid."""
    try:
        return Treatment(**fields)
    except TreatmentError:
        return None


def _measured(value: dict[str, Any]) -> Any:
    import tomlkit

    table = tomlkit.table()
    for name, each in value.items():
        if isinstance(each, dict):
            inline = tomlkit.inline_table()
            inline.update(each)
            each = inline
        table.add(name, each)
    return table


def plain_fields(treatment: Treatment) -> dict[str, Any]:
    """What a file has to say: size, and every field that differs from its default, as short as it can be said."""
    fields: dict[str, Any] = {}
    for name, field in type(treatment).model_fields.items():
        value = getattr(treatment, name)
        if name != "size" and value == field.get_default():
            continue
        fields[name] = _plain(treatment.model_dump(mode="json", include={name}, exclude_none=True)[name])
    if fields.get("size", [0, 1])[0] == fields.get("size", [0, 1])[1]:
        fields["size"] = fields["size"][0]
    for name in ("pad", "background"):
        if name in fields:
            fields[name] = "#" + "".join(f"{part:02x}" for part in fields[name])
    if "own" in fields:
        fields["own"] = [step if isinstance(step, str) else dict(step) for step in fields["own"]]
    return fields


def written(treatment: Treatment) -> str:
    """As one would write it in Python: size first, numbers without their zeros, a range as the number that stands for it."""
    fields = plain_fields(treatment)
    fields.pop("measured_on", None)
    told = [_literal(fields.pop("size")), *(f"{name}={_literal(_single(name, value))}" for name, value in fields.items())]
    return f"Treatment({', '.join(told)})"


def _single(name: str, value: Any) -> Any:
    """The number that stands for a step's range, where there is one."""
    if name not in KINDS or not isinstance(value, list):
        return value
    pair, high = tuple(value), value[1]
    return next((x for x in (high, round(high - 1, 9)) if KINDS[name].single(x) == pair), value)


def _literal(value: Any) -> str:
    if isinstance(value, dict):
        return "{" + ", ".join(f"{name!r}: {_literal(each)}" for name, each in value.items()) + "}"
    if isinstance(value, list | tuple):
        return "[" + ", ".join(map(_literal, value)) + "]"
    return repr(int(value) if isinstance(value, float) and value.is_integer() else value)


def _plain(value: Any) -> Any:
    """A step that always happens is its range alone."""
    if isinstance(value, dict) and set(value) == {"range", "chance"} and value["chance"] == 1.0:
        return value["range"]
    if isinstance(value, dict) and set(value) == {"chance"}:
        return value["chance"]
    return value
