"""Where the command line begins: runs a command, and ends the process with its exit status and one line of error."""

from __future__ import annotations

import contextlib
import io
import os
import re
import sys
from typing import Any

from pannier.errors import PannierError
from pannier.unasked import unasked_left_out

# what an interruption keeps, of commands that go on from there
_KEPT = {
    "gather": "the pictures that came are kept",
    "pack": "the pictures that were read are kept, and the store shows none of them yet",
    "export": "the pictures that are written as they were packed stay",
    "restore": "the files that are written stay",
    "copy": "the pictures that were copied stay, and the other store shows none of them yet",
    "render": "the pictures that are rendered stay",
    "tidy": "what is freed is gone, and nothing else",
}
_WRITING = ("change", "attach", "tag", "strand", "merge")


def main(arguments: list[str] | None = None) -> None:
    """Runs a command and ends the process with its exit status: 0 done, 1 the data, 2 the call, 130 interrupted."""
    if arguments is not None:
        sys.exit(status_of(arguments))
    with unasked_left_out():
        sys.exit(status_of(sys.argv[1:]))


def status_of(arguments: list[str]) -> int:
    """Runs a command in this process, and says its error in one line."""
    if isinstance(sys.stdout, io.TextIOWrapper):  # what a terminal cannot encode is written as \\xe9, as on standard error
        sys.stdout.reconfigure(errors="backslashreplace")
    try:
        with contextlib.redirect_stdout(_Visible(sys.stdout, has_colors=_is_help(arguments))):
            return _run(arguments)
    except PannierError as error:
        return _say(str(error), error.exit_status)
    except KeyboardInterrupt:
        return _say(f"interrupted; {_left_by(*arguments[:1])}", 130)
    except MemoryError:
        return _say("memory ran out; give a lower --memory-limit or fewer --workers", 1)
    except BrokenPipeError:
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())  # the reader of our output has gone: no fault
        return 0
    except OSError as error:
        where = f" ({error.filename})" if error.filename else ""
        return _say(f"{error.strerror or error}{where}", 1)


class _Visible:
    """Standard output, on which names and texts of strangers move no cursor, color nothing and hide nothing.

    Helps alone have colors, which hold no text of a stranger.
    """

    _HIDDEN = "[\0-\x08\x0b-\x1f\x7f-\x9f\u2028-\u202e\u2066-\u2069]"

    def __init__(self, stream: Any, *, has_colors: bool = False) -> None:
        self._stream = stream
        self._hidden = re.compile(("(\x1b\\[[0-9;]*m)|" if has_colors else "(?!)()|") + self._HIDDEN)

    def write(self, text: str) -> int:
        return int(self._stream.write(self._hidden.sub(lambda found: found[1] or ascii(found[0])[1:-1], text)))

    def __getattr__(self, name: str) -> Any:
        return getattr(self._stream, name)


def _is_help(arguments: list[str]) -> bool:
    """True if only a help text is printed: it was asked for, or the command has no arguments."""
    return not arguments or not {"help", "-h", "--help"}.isdisjoint(arguments) or arguments[1:] == []


def _left_by(command: str = "") -> str:
    """What an interrupted command leaves behind, and how to go on."""
    if command in _KEPT:
        return f"{_KEPT[command]}; the same command goes on from there"
    if command in _WRITING:
        return "it was done as a whole or not at all: see pannier history"
    return "nothing was changed"


def _run(arguments: list[str]) -> int:
    from pannier.cli.commands import app

    if not arguments or arguments[0] == "help":
        arguments = [*arguments[1:2], "--help"]
    try:
        result = app(arguments, standalone_mode=False, prog_name="pannier")
    except SystemExit as end:
        return int(end.code or 0)
    except Exception as error:
        if not hasattr(error, "format_message"):  # what the parser raises for a call that is wrong
            raise
        context = getattr(error, "ctx", None)
        hint = f" (see {context.command_path} --help)" if context else ""
        message = error.format_message().rstrip(".")
        return _say(message + hint, 2) if message else 2
    return result if isinstance(result, int) else 0


def _say(message: str, status: int) -> int:
    from pannier.cli.terminal import as_options

    sys.stdout.flush()
    print(f"pannier: {as_options(message)}", file=sys.stderr)
    return status
