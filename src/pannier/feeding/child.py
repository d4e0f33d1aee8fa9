"""The program that an engine of its own process runs, as it starts; `serving` is what it does then.

What it will not need is not loaded, and nothing is collected meanwhile: that is half of the time it takes.
"""

from __future__ import annotations

import contextlib
import faulthandler
import gc
import json
import os
import signal
import sys

from pannier.unasked import unasked_left_out


def main() -> None:
    """Ctrl-C is the parent's, which ends this process in order; what own steps print goes where errors go."""
    faulthandler.enable()
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    gc.disable()
    answers = os.dup(1)
    os.dup2(2, 1)
    said = b""
    while b"\n" not in said:
        piece = os.read(0, 1 << 16)
        if not piece:
            return
        said += piece
    line, _, rest = said.partition(b"\n")
    jobs = json.loads(line)
    try:
        with contextlib.ExitStack() as starting:
            starting.callback(_keep_what_is_there)
            if not jobs["modules"]:  # own steps may need anything
                starting.enter_context(unasked_left_out())
            from pannier.feeding.serving import Child

            Child(0, answers).run(jobs, rest, starting.close)
    except BaseException:
        sys.excepthook(*sys.exc_info())
    os._exit(1)  # threads may be at work, under which the interpreter must not be taken down


def _keep_what_is_there() -> None:
    """What was made while the process started stays: it is not looked through again."""
    gc.freeze()
    gc.enable()


if __name__ == "__main__":
    main()
