"""Verbs whose options are a dataclass' fields: spelled in the signature, typed, a wrong one answered with the nearest."""

from __future__ import annotations

import inspect
from collections.abc import Callable
from functools import wraps
from typing import Any, Concatenate, ParamSpec, TypeVar

from pannier.errors import UsageError, did_you_mean

P = ParamSpec("P")
S = TypeVar("S")
Options = TypeVar("Options")
R = TypeVar("R")


def spelled(options: Callable[P, Options]) -> Callable[[Callable[[Options], R]], Callable[P, R]]:
    """A function takes, in place of one object of that dataclass, what it is made of. Raises UsageError for other names."""

    def taking(verb: Callable[[Options], R]) -> Callable[P, R]:
        @wraps(verb)
        def with_options(*given: P.args, **said: P.kwargs) -> R:
            return verb(_made(options, verb.__name__, *given, **said))

        _give_signature(with_options, options, verb, [])
        return with_options

    return taking


def spelled_method(options: Callable[P, Options]) -> Callable[[Callable[[S, Options], R]], Callable[Concatenate[S, P], R]]:
    """The same of a method."""

    def taking(verb: Callable[[S, Options], R]) -> Callable[Concatenate[S, P], R]:
        @wraps(verb)
        def with_options(self: S, /, *given: P.args, **said: P.kwargs) -> R:
            return verb(self, _made(options, verb.__name__, *given, **said))

        _give_signature(with_options, options, verb, [next(iter(inspect.signature(verb).parameters.values()))])
        return with_options

    return taking


def _made(options: Callable[P, Options], verb: str, *given: P.args, **said: P.kwargs) -> Options:
    known = inspect.signature(options).parameters
    for name in said:
        if name not in known:
            raise UsageError(f"{verb} has no option {name!r}{did_you_mean(name, known)}", argument=name)
    try:
        return options(*given, **said)
    except TypeError as error:
        raise UsageError(f"{verb}: {str(error).partition('() ')[2] or error}") from None


def _give_signature(
    spelled: Any, options: Callable[..., Any], verb: Callable[..., Any], first: list[inspect.Parameter]
) -> None:
    returned = inspect.signature(verb).return_annotation
    parameters = [*first, *inspect.signature(options).parameters.values()]
    spelled.__signature__ = inspect.Signature(parameters, return_annotation=returned)
