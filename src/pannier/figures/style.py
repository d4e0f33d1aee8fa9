"""One look for all figures: calm, readable in gray, told apart by lightness and pattern as well as by color."""

from __future__ import annotations

from collections.abc import Callable
from functools import cache, wraps
from typing import Any, Literal, ParamSpec

from pannier.files import FIGURES, check_result

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
# pixels that stay free at a figure's right
MARGIN = 16
# fonts of many systems with Chinese, Japanese and Korean letters; those that are installed are used
_WIDE_FONTS = (
    *("Noto Sans CJK SC", "Noto Sans CJK JP", "Source Han Sans SC", "WenQuanYi Micro Hei", "WenQuanYi Zen Hei"),
    *("Droid Sans Fallback", "Unifont", "Arial Unicode MS", "PingFang SC", "Hiragino Sans", "Apple SD Gothic Neo"),
)


def with_plain_texts(draw: Callable[P, None]) -> Callable[P, None]:
    """Names are drawn as they are while a function draws: a `$` in one begins no formula."""

    @wraps(draw)
    def plainly(*given: P.args, **said: P.kwargs) -> None:
        import matplotlib

        with matplotlib.rc_context({"text.parse_math": False, "font.family": list(_fonts()[0])}):
            draw(*given, **said)

    return plainly


def new_figure(width: float = WIDTH, height: float = HEIGHT) -> Any:
    """A figure of its own, outside pyplot's global state."""
    from matplotlib.backends.backend_agg import FigureCanvasAgg
    from matplotlib.figure import Figure

    figure = Figure(figsize=(width, height), dpi=DPI, facecolor="white")
    FigureCanvasAgg(figure)  # which measures texts
    return figure


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


def log_ticks(axis: Any, shown: Callable[[float, Any], str]) -> None:
    """Labels 1, 2 and 5 times the powers of ten: an axis of any length has some, and none run into each other."""
    from matplotlib.ticker import LogLocator, NullFormatter

    axis.set_major_locator(LogLocator(10, (1.0, 2.0, 5.0)))
    axis.set_major_formatter(shown)
    axis.set_minor_formatter(NullFormatter())


def text_width(figure: Any, text: str, size: float, weight: str = "normal") -> float:
    """How many pixels wide a text is, in points `size`."""
    from matplotlib.font_manager import FontProperties

    font = FontProperties(family=list(_fonts()[0]), size=size, weight=weight)
    return float(figure.canvas.get_renderer().get_text_width_height_descent(drawable(text), font, False)[0])


def fitted(figure: Any, text: str, room: float, size: float, weight: str = "normal", *, middle: bool = False) -> str:
    """A text that is at most `room` pixels wide, in points `size`: cut at its end, or in its middle, where it is longer."""
    text = drawable(text)
    if text_width(figure, text, size, weight) <= room:
        return text
    low, high = 1, len(text)
    while low < high:
        half = (low + high + 1) // 2
        low, high = (half, high) if text_width(figure, _cut(text, half, middle), size, weight) <= room else (low, half - 1)
    return _cut(text, low, middle)


def _cut(text: str, letters: int, middle: bool) -> str:
    end = (letters - 1) // 2 if middle else 0
    return text[: letters - 1 - end] + "\u2026" + text[len(text) - end :]


def drawable(text: str) -> str:
    """A text in which characters that are not printable, or that no installed font has, are escaped."""
    if text.isascii() and text.isprintable():
        return text
    known = _fonts()[1]
    return "".join(letter if ord(letter) in known and letter.isprintable() else ascii(letter)[1:-1] for letter in text)


@cache
def _fonts() -> tuple[tuple[str, ...], frozenset[int]]:
    """The font families in order of preference, and the code points that they have."""
    from matplotlib.font_manager import FontProperties, findfont, fontManager, get_font

    installed = {entry.name for entry in fontManager.ttflist}
    names = ("DejaVu Sans", *(name for name in _WIDE_FONTS if name in installed))
    letters = (get_font(findfont(FontProperties(family=[name]))).get_charmap() for name in names)
    return names, frozenset().union(*letters)


def save_figure(figure: Any, path: str) -> None:
    """Writes it in the format of the file's ending. Raises UsageError for an ending that cannot be drawn."""
    from matplotlib.text import Text
    from matplotlib.ticker import FixedFormatter

    check_result(path, FIGURES)
    for text in figure.findobj(Text):
        text.set_text(drawable(text.get_text()))
    for axis in (axis for axes in figure.axes for axis in (axes.xaxis, axes.yaxis)):
        if isinstance(formatter := axis.get_major_formatter(), FixedFormatter):
            formatter.seq = [drawable(each) for each in formatter.seq]
    width = figure.bbox.width
    for text in figure.texts:
        if text.get_ha() == "left":
            room = width * (1 - text.get_position()[0]) - MARGIN
            text.set_text(fitted(figure, text.get_text(), room, text.get_fontsize(), text.get_weight()))
    figure.savefig(path, facecolor="white")
