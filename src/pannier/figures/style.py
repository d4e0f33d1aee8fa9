"""One look for all figures: calm, readable in gray, told apart by lightness and pattern as well as by color."""

from __future__ import annotations

from collections.abc import Callable
from functools import wraps
from pathlib import Path
from typing import Any, Literal, ParamSpec

from pannier.errors import UsageError

P = ParamSpec("P")

INK = "#20262c"
FAINT = "#8a949e"
GRID = "#e3e7ea"
# in order of lightness, so that they stay apart in gray and for color-blind people
TONES = ("#1f3b57", "#5b8fb9", "#c4dbea", "#e8c07d", "#a3542b", "#6f9168")
HATCHES = ("", "", "", "//", "xx")
# red, green, blue: color and line
CHANNELS: tuple[tuple[str, Literal["-", "--", ":"]], ...] = (("#a3542b", "-"), ("#4d8f5c", "--"), ("#1f3b57", ":"))
WIDTH, HEIGHT, DPI = 12.8, 8.0, 100


def with_plain_texts(draw: Callable[P, None]) -> Callable[P, None]:
    """Names are drawn as they are while a function draws: a `$` in one begins no formula."""

    @wraps(draw)
    def plainly(*given: P.args, **said: P.kwargs) -> None:
        import matplotlib

        with matplotlib.rc_context({"text.parse_math": False}):
            draw(*given, **said)

    return plainly


def new_figure(width: float = WIDTH, height: float = HEIGHT) -> Any:
    """A figure of its own, outside pyplot's global state."""
    from matplotlib.figure import Figure

    return Figure(figsize=(width, height), dpi=DPI, facecolor="white")


def plain_axes(figure: Any, *place: Any, grid: str = "y") -> Any:
    """Axes with little ink; their place may be set later."""
    axes = figure.add_subplot(*place)
    for side in ("top", "right"):
        axes.spines[side].set_visible(False)
    for side in ("left", "bottom"):
        axes.spines[side].set_color(FAINT)
    axes.tick_params(colors=INK, labelsize=11)
    axes.grid(axis=grid, color=GRID, linewidth=1)
    axes.set_axisbelow(True)
    return axes


def save_figure(figure: Any, path: str) -> None:
    """Writes it in the format of the file's ending. Raises UsageError for an ending that cannot be drawn."""
    kinds = figure.canvas.get_supported_filetypes()
    ending = Path(path).suffix.lower().lstrip(".")
    if ending not in kinds:
        raise UsageError(f"{path}: no figure can be drawn into .{ending}; use .png, .pdf or .svg")
    folder = Path(path).parent
    if not folder.is_dir():
        raise UsageError(f"there is no folder {folder} for {Path(path).name}")
    figure.savefig(path, facecolor="white")
