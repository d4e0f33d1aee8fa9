"""Many ranges of files in one call, without the interpreter lock: what a read and its check cost beside is paid once."""

from __future__ import annotations

import numpy as np
from numba import types

from pannier.images.kernels.compiling import CACHED, compiled

# the C library's own: from a file, into so many bytes of memory, from an offset on
_pread = types.ExternalFunction("pread", types.intp(types.int32, types.uintp, types.uintp, types.int64))


@compiled(**CACHED)
def read_each(handles, offsets, parts):
    """Fills each row of `parts` from a file and offset of its own; False where one came not whole."""
    for i in range(len(handles)):
        part = parts[i]
        if _pread(handles[i], part.ctypes.data, part.nbytes, offsets[i]) != part.nbytes:
            return False
    return True


@compiled(**CACHED | {"nogil": False})  # so short that giving the interpreter lock away would take longer
def join_crcs(tables, crcs):
    """The CRC-32 of pieces in a row from those of each; `tables`: what the bytes of one become by what follows, uint32."""
    total = np.uint32(0)
    for i in range(len(crcs)):
        low = tables[0, total & np.uint32(255)] ^ tables[1, total >> np.uint32(8) & np.uint32(255)]
        high = tables[2, total >> np.uint32(16) & np.uint32(255)] ^ tables[3, total >> np.uint32(24)]
        total = low ^ high ^ np.uint32(crcs[i])
    return total
