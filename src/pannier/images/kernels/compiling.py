"""How every kernel is compiled: without the interpreter lock, and kept on disk where that can be written."""

from __future__ import annotations

import logging

import numpy as np
from numba import njit

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


CACHED = {"nogil": True, "cache": _can_keep_compiled()}
# of functions that kernels alone call: they need no way in from Python
INNER = {**CACHED, "no_cpython_wrapper": True, "no_cfunc_wrapper": True}
