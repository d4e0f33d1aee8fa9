"""Own steps: Python functions that a treatment names. A file only names them; nothing is imported on its word."""

from __future__ import annotations

import contextlib
import threading
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any, Literal

from pydantic import BaseModel, ConfigDict

from pannier.errors import TreatmentError, UsageError, did_you_mean

Array = Any
Function = Callable[..., Array]
At = Literal["decoded", "light", "values"]


class OwnStep(BaseModel):
    """An own step as a treatment holds it: what makes it another treatment is name, version and place."""

    model_config = ConfigDict(frozen=True, extra="forbid")

    name: str
    version: int
    at: At


@dataclass(frozen=True)
class Registered:
    """A function under its name. `lock` where it is not safe between threads."""

    step: OwnStep
    function: Function
    lock: threading.Lock | None


_registered: dict[str, Registered] = {}
# by thread, the steps that are being called
_calls = threading.local()


def own_step(
    name: str, *, version: int = 1, at: At = "decoded", thread_safe: bool = False
) -> Callable[[Function], Function]:
    """Registers a function as a step that treatments can name: `Treatment(96, own=["sharpen"])`. A decorator.

    at: "decoded": uint8 (h, w, 3) or (h, w) for gray, upright, of the picture's own size, before tone and fit; part of the
    fixed part, so it is rendered. "light": uint8 (h, w, channels) of the final size, after all random steps, for training
    alone; called with a second argument, a 64-bit whole number drawn for picture and epoch. "values": the prepared
    array, last of all, for every split.
    The function gives back an array of the same shape and dtype ("decoded" may change height and width). What it gets is
    its own, to change or keep. What it raises ends the feed as a TreatmentError that names step and record.
    version: raise it when the function changes, since it is part of the treatment's identity.
    thread_safe: False means that one thread at a time calls it.
    Raises UsageError where the name is taken by another version or place.
    """
    if not name or not isinstance(version, int) or at not in ("decoded", "light", "values"):
        what = "an own step needs a name, a whole number as version, and at = 'decoded', 'light' or 'values'"
        raise UsageError(f"{what}: {at!r}")
    step = OwnStep(name=name, version=version, at=at)

    def register(function: Function) -> Function:
        known = _registered.get(name)
        if known is not None and known.step != step:
            there = f"version {known.step.version} at {known.step.at!r}"
            raise UsageError(f"own step {name!r} is registered already, as {there}")
        _registered[name] = Registered(step, function, None if thread_safe else threading.Lock())
        return function

    return register


def registered(step: OwnStep) -> Registered:
    """The function behind a step. Raises TreatmentError where it, or this version of it, is not registered."""
    function = _registered.get(step.name)
    if function is None:
        hint = did_you_mean(step.name, _registered)
        raise TreatmentError(
            f"own step {step.name!r} is not registered{hint}: first import the module that registers it (pannier.own_step)"
        )
    if function.step != step:
        raise TreatmentError(
            f"own step {step.name!r}: the treatment names version {step.version} at {step.at!r}, registered is version "
            f"{function.step.version} at {function.step.at!r}"
        )
    return function


def read_own(value: Any) -> Any:
    """Steps by name become those that are registered; tables say version and place themselves."""
    if isinstance(value, str):
        value = [value]
    if not isinstance(value, (list, tuple)):
        raise ValueError("a list of names of registered steps")
    return tuple(_read_one(each) for each in value)


def _read_one(value: Any) -> OwnStep:
    if isinstance(value, OwnStep):
        step = value
    elif isinstance(value, dict):
        step = OwnStep(**value)
    elif isinstance(value, str) and value in _registered:
        step = _registered[value].step
    elif isinstance(value, str):
        hint = did_you_mean(value, _registered)
        raise ValueError(f"the name of a step that is registered (pannier.own_step){hint}")
    else:
        raise ValueError("a list of names of registered steps")
    try:
        registered(step)
    except TreatmentError as error:
        raise ValueError(f"a step that is registered: {error}") from None
    return step


def call(found: Registered, array: Array, *more: Any) -> Array:
    """The function's array, of a copy. Raises TreatmentError where it is not what was agreed, or the function raises."""
    import numpy as np

    name = found.step.name
    under_way: set[str] = _calls.__dict__.setdefault("under_way", set())
    if name in under_way:
        raise TreatmentError(f"own step {name!r} calls the treatment of which it is a step: that would have no end")
    under_way.add(name)
    try:
        with found.lock or contextlib.nullcontext():
            result = found.function(array.copy(), *more)
        got = np.array(result)
    except (MemoryError, TreatmentError):
        raise
    except Exception as error:
        raise TreatmentError(f"own step {name!r} ended with {type(error).__name__}: {error}") from error
    finally:
        under_way.discard(name)
    alike = got.shape[2:] == array.shape[2:] if found.step.at == "decoded" else got.shape == array.shape
    if got.dtype != array.dtype or got.ndim != array.ndim or not alike or 0 in got.shape:
        raise TreatmentError(
            f"own step {name!r} gave {got.dtype} {got.shape} for {array.dtype} {array.shape}: shape and dtype must stay"
        )
    return got
