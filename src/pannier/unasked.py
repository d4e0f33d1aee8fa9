"""Libraries that others look for wherever they are installed, for what is not asked of them here: half of a start.

Arrow looks for pandas when it first makes an array of a list, Numba for SciPy, CFFI and YAML when it starts. Code that names
one of them itself gets it.
"""

from __future__ import annotations

import contextlib
import sys
from collections.abc import Iterator

NAMES = ("cffi", "pandas", "scipy", "yaml")
_LOOKING = ("numba", "pyarrow")


class _Finder:
    """Stands before the finders of modules, and says of those libraries that they are not there."""

    def find_spec(self, name: str, path: object = None, target: object = None) -> None:
        if name in NAMES and not _is_asked_for(name):
            raise ModuleNotFoundError(f"{name} is not looked for here", name=name)


def _is_asked_for(name: str) -> bool:
    """Whether the code that imports it is neither one of those that look for it, nor of ours without naming it."""
    frame = sys._getframe(2)
    while frame.f_back is not None and frame.f_globals.get("__name__", "").startswith("importlib."):
        frame = frame.f_back
    package = frame.f_globals.get("__name__", "").partition(".")[0]
    return package not in _LOOKING and (package != __package__ or name in frame.f_code.co_names)


@contextlib.contextmanager
def unasked_left_out() -> Iterator[None]:
    """While it lasts they are not loaded unasked. For a process of ours: Arrow does not look again by itself."""
    finder = _Finder()
    sys.meta_path.insert(0, finder)
    try:
        yield
    finally:
        sys.meta_path.remove(finder)
