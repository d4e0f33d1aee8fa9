"""How every kernel is compiled: without the interpreter lock, and kept on disk where that can be written."""

from __future__ import annotations

import logging

import numpy as np
from numba import config, njit
from numba.core import event

U8, U16, U32, U64 = np.uint8, np.uint16, np.uint32, np.uint64
I32 = np.int32


def _can_keep_compiled() -> bool:
    """Numba keeps compiled kernels beside this file or in the user's cache folder; where neither is writable it raises."""
    try:
        njit(cache=True)(_can_keep_compiled)
    except RuntimeError:
        note = (
            "no folder for compiled kernels is writable, so they are compiled anew (some 30 s); set NUMBA_CACHE_DIR to one"
        )
        logging.getLogger("pannier").warning(note)
        return False
    return True


class _Compilation(event.Listener):  # type: ignore[misc]  # Numba has no types
    """Says once in a process that the kernels of pixels are being compiled; those of likeness take less than a second."""

    is_said = False

    def on_start(self, event: event.Event) -> None:
        package, _, module = event.data["dispatcher"].py_func.__module__.rpartition(".")
        if not self.is_said and package == __package__ and module != "likeness":
            self.is_said = True
            where = f", kept in {config.CACHE_DIR}" if config.CACHE_DIR else ""
            logging.getLogger("pannier").warning("compiling kernels, once for this machine: up to some 15 s%s", where)

    def on_end(self, event: event.Event) -> None:
        """Nothing to say: what waited for it goes on."""


event.register("numba:compile", _Compilation())
CACHED = {"nogil": True, "cache": _can_keep_compiled(), "error_model": "numpy"}
# of functions that kernels alone call: they need no way in from Python
INNER = {**CACHED, "no_cpython_wrapper": True, "no_cfunc_wrapper": True}
