"""Many ranges of files in one call, without the interpreter lock: what a read costs beside itself is paid once."""

from __future__ import annotations

from numba import njit, types

from pannier.images.kernels.compiling import CACHED

# the C library's own: from a file, into so many bytes of memory, from an offset on
_pread = types.ExternalFunction("pread", types.intp(types.int32, types.uintp, types.uintp, types.int64))


@njit(**CACHED)
def read_each(handles, offsets, parts):
    """Fills each row of `parts` from a file and offset of its own; False where one came not whole."""
    for i in range(len(handles)):
        part = parts[i]
        if _pread(handles[i], part.ctypes.data, part.nbytes, offsets[i]) != part.nbytes:
            return False
    return True
