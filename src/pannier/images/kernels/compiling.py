"""How every kernel is compiled: without the interpreter lock, and kept on disk where that can be written."""

from __future__ import annotations

import hashlib
import logging
import pickle
import zlib
from collections.abc import Callable
from functools import cache
from pathlib import Path
from typing import Any

import numba
import numpy as np
from numba import config, njit
from numba.core import event
from numba.core.caching import FunctionCache
from numba.core.runtime import rtsys
from numba.core.serialize import dumps

from pannier.errors import StoreError
from pannier.files import write_whole

U8, U16, U32, U64 = np.uint8, np.uint16, np.uint32, np.uint64
I32 = np.int32

CACHED = {"nogil": True, "error_model": "numpy"}
# of functions that kernels alone call: they need no way in from Python
INNER = {**CACHED, "no_cpython_wrapper": True, "no_cfunc_wrapper": True}
_log = logging.getLogger("pannier")


def compiled(**how: Any) -> Callable[[Callable[..., Any]], Any]:
    """As Numba's decorator, for a kernel that is kept on disk."""

    def made(function: Callable[..., Any]) -> Any:
        kernel = njit(**how)(function)
        if _can_keep():
            kernel._cache = _Kept(function)
        return kernel

    return made


@cache
def _can_keep() -> bool:
    """They are kept beside this file or in the user's cache folder; where neither is writable Numba raises."""
    try:
        FunctionCache(_can_keep.__wrapped__)
    except RuntimeError:
        note = (
            "no folder for compiled kernels is writable, so they are compiled anew (some 30 s); set NUMBA_CACHE_DIR to one"
        )
        _log.warning(note)
        return False
    return True


class _Kept(FunctionCache):  # type: ignore[misc]  # Numba has no types
    """Where Numba keeps a kernel, in files of our own: its own go by number, which several processes give out at once, and
    look at one source file alone, so that a kernel may be another one's, or one of before an update."""

    def __init__(self, function: Callable[..., Any]) -> None:
        super().__init__(function)
        self._cache_file = _Files(Path(self._cache_path), self._impl.filename_base, _sources(function.__code__.co_filename))

    def load_overload(self, arguments: Any, target: Any) -> Any:
        """As Numba's, which makes itself ready to compile first: for what is kept that is not needed, and takes a sixth of
        an engine's start. Where nothing is kept it does so when it compiles."""
        rtsys.initialize(target)
        return self._load_overload(arguments, target)


class _Files:
    """One file for each kernel, kind of arguments, processor, and state of all kernels' sources, by which it is named."""

    def __init__(self, folder: Path, name: str, sources: str) -> None:
        self._folder, self._name, self._sources = folder, name, sources

    def _path(self, key: object) -> Path:
        kind = hashlib.sha256(repr(key).encode()).hexdigest()[:16]
        return self._folder / f"{self._name}.{self._sources}.{kind}.nbc"

    def load(self, key: object) -> Any:
        """What was kept for arguments of that kind; None where nothing was, or what is there is damaged."""
        try:
            data = self._path(key).read_bytes()
        except OSError:
            return None
        return pickle.loads(data[4:]) if data[:4] == _checksum(data[4:]) else None

    def save(self, key: object, kept: object) -> None:
        """Those of another state of the sources go. A disk that refuses is said: the kernel works all the same."""
        data, path = dumps(kept), self._path(key)
        try:
            write_whole(path, _checksum(data) + data, flushed=False)
            for other in self._folder.glob(f"{self._name}.*.nbc"):
                if not other.name.startswith(f"{self._name}.{self._sources}."):
                    other.unlink(missing_ok=True)
        except (OSError, StoreError) as error:
            _log.warning("a compiled kernel cannot be kept, and is compiled again next time: %s", error)

    def flush(self) -> None:
        for path in self._folder.glob(f"{self._name}.*.nbc"):
            path.unlink(missing_ok=True)


def _checksum(data: bytes) -> bytes:
    return zlib.crc32(data).to_bytes(4, "little")


@cache
def _sources(file: str) -> str:
    """A short digest of a kernel's own source file and of those that kernels share, with Numba's version."""
    return hashlib.sha256(Path(file).read_bytes() + _shared_sources()).hexdigest()[:16]


@cache
def _shared_sources() -> bytes:
    files = sorted(Path(__file__).parent.glob("*.py"))
    return hashlib.sha256(b"\0".join([numba.__version__.encode(), *(file.read_bytes() for file in files)])).digest()


class _Compilation(event.Listener):  # type: ignore[misc]
    """Says once in a process that kernels are being compiled."""

    is_said = False

    def on_start(self, event: event.Event) -> None:
        package, _, _ = event.data["dispatcher"].py_func.__module__.rpartition(".")
        if not self.is_said and package == __package__:
            self.is_said = True
            where = f", kept in {config.CACHE_DIR}" if config.CACHE_DIR else ""
            _log.warning("compiling kernels, once for this machine: up to some 15 s%s", where)

    def on_end(self, event: event.Event) -> None:
        """Nothing to say: what waited for it goes on."""


event.register("numba:compile", _Compilation())
