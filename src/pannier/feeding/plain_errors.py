"""Errors between processes: as plain data there, and the same errors again here."""

from __future__ import annotations

import builtins
import traceback
from typing import Any

from pannier import errors
from pannier.memory import was_refused


def plain_error(error: BaseException) -> dict[str, Any]:
    """An error as JSON takes it: by name, text and what else it tells, with the place where it was raised."""
    fields = {name: value for name, value in vars(error).items() if _is_plain(value)}
    place = "".join(traceback.format_exception(error)) if not isinstance(error, errors.PannierError) else ""
    cause = None if error.__cause__ is None else plain_error(error.__cause__)
    kind = "MemoryError" if was_refused(error) else type(error).__name__
    return {"kind": kind, "text": str(error), "fields": fields, "place": place, "cause": cause}


def error_of(told: dict[str, Any]) -> BaseException:
    """The error that `plain_error` told of; one that is not Pannier's comes as a PannierError that names it."""
    kind = getattr(errors, told["kind"], None)
    error: BaseException
    if isinstance(kind, type) and issubclass(kind, errors.PannierError):
        error = kind.__new__(kind, told["text"])
        error.args = (told["text"],)
        vars(error).update(told["fields"])
    elif told["kind"] == "MemoryError":
        error = MemoryError(told["text"])
    else:
        error = errors.PannierError(f"the engine's process: {told['kind']}: {told['text']}")
        error.add_note(told["place"])
    if told["cause"] is not None:
        error.__cause__ = _cause_of(told["cause"])
    return error


def _cause_of(told: dict[str, Any]) -> BaseException:
    builtin = getattr(builtins, told["kind"], None)
    if isinstance(builtin, type) and issubclass(builtin, Exception):
        cause: BaseException = builtin(told["text"])
        cause.add_note(told["place"])
        return cause
    return error_of(told)


def _is_plain(value: Any) -> bool:
    return value is None or isinstance(value, (str, int, float, bool))
