"""The size of a sheet that a caller wants, and the effect of a Matplotlib style on it."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from contextvars import ContextVar
from functools import cache
from typing import Any, NamedTuple

import matplotlib
import numpy as np
from matplotlib.axes import Axes
from matplotlib.collections import Collection
from matplotlib.colors import LinearSegmentedColormap, to_hex, to_rgb, to_rgba
from matplotlib.figure import Figure, SubFigure
from matplotlib.font_manager import fontManager
from matplotlib.lines import Line2D
from matplotlib.patches import Patch
from matplotlib.text import Text

from joinery.show.palette import DARK, INK, MIST, PAPER, SLATE
from joinery.support.errors import CallError

DPI = 160  # 1280 pixels for eight inches
USUAL_LETTERS = 10.0  # points: Matplotlib's own font.size, for which the sizes here are meant
DARKEST_LIGHT = 0.4  # relative luminance below which a ground takes the light colours
LUMINANCE = (0.2126, 0.7152, 0.0722)  # of red, green and blue (ITU-R BT.709)
# fonts for other scripts, on the machines that have them
OTHER_SCRIPTS = (
    "Noto Sans CJK JP", "Noto Sans CJK SC", "Noto Sans JP", "Source Han Sans", "Hiragino Sans",
    "PingFang SC", "Yu Gothic", "Microsoft YaHei", "Malgun Gothic", "Noto Sans Devanagari",
    "Noto Sans Thai", "Nirmala UI", "Leelawadee UI", "Arial Unicode MS", "Droid Sans Fallback",
)  # fmt: skip
FAINT = "#b9c4c8"  # a cell with few rows


class Given(NamedTuple):
    """The figure or size that a caller gave to draw on."""

    figure: Figure | SubFigure | None = None
    inches: tuple[float, float] | None = None


NOTHING = Given()
_given: ContextVar[Given] = ContextVar("given", default=NOTHING)


def given() -> Given:
    """Return what the caller gave for the picture that is being drawn."""
    return _given.get()


@contextmanager
def drawn_on(ax: Any, figsize: tuple[float, float] | None) -> Iterator[Axes | None]:
    """Yield the axes to draw on, None for a sheet: a fresh one or the figure that was given."""
    figure, inches = None, None
    if figsize is not None:
        wide, high = figsize
        inches = float(wide), float(high)
    if isinstance(ax, (Figure, SubFigure)):
        figure, ax = ax, None
    if figsize is not None and (figure is not None or ax is not None):
        raise CallError(
            "figsize= is the size of a fresh sheet; a figure that is given has its own",
            argument="figsize",
        )
    token = _given.set(Given(figure, inches))
    try:
        yield ax
    finally:
        _given.reset(token)


# of a picture on a page, in inches: two stand beside each other, one is as wide as a phone
PAGE_WIDE, PAGE_HIGH = 5.8, 0.86  # the height is this share of what it is on a sheet
_on_a_page: ContextVar[bool] = ContextVar("on_a_page", default=False)


@contextmanager
def page_style() -> Iterator[None]:
    """Draw for a page, which has grounds, letters and captions of its own: no style is obeyed."""
    token = _on_a_page.set(True)
    try:
        with matplotlib.rc_context():
            matplotlib.rcdefaults()
            yield
    finally:
        _on_a_page.reset(token)


def on_a_page() -> bool:
    """Return True while pictures are drawn for a page."""
    return _on_a_page.get()


def sheet_inches(wide: float, high: float) -> tuple[float, float]:
    """Return the size of a fresh sheet in inches: the caller's, the page's or the usual one."""
    if (wanted := given().inches) is not None:
        return wanted
    if on_a_page():
        return PAGE_WIDE, PAGE_HIGH * high
    return wide, high


def dots_per_inch() -> float:
    """Return the resolution of a fresh sheet: the style's where it sets one."""
    wanted = float(matplotlib.rcParams["figure.dpi"])
    usual = float(matplotlib.rcParamsDefault["figure.dpi"])
    if wanted == usual:
        return DPI
    return wanted


@cache
def fallback_fonts() -> tuple[str, ...]:
    """Return the fonts of this machine for scripts that the usual one does not have."""
    known = {font.name for font in fontManager.ttflist}
    return tuple(name for name in OTHER_SCRIPTS if name in known)


def letters() -> float:
    """Return how many times as large as usual the style has letters."""
    return float(matplotlib.rcParams["font.size"]) / USUAL_LETTERS


def ground() -> str:
    """Return the colour of a fresh sheet: paper, or the style's where it has another than white."""
    wanted = to_hex(matplotlib.rcParams["figure.facecolor"])
    return PAPER if wanted == "#ffffff" else wanted


def resize_letters(figure: Figure | SubFigure) -> None:
    """Bring all letters of a figure to the size that the style asks for."""
    times = letters()
    if times == 1:
        return
    for ax in figure.axes:
        for axis in (ax.xaxis, ax.yaxis):
            size = axis.get_tick_params().get("labelsize")
            if isinstance(size, (int, float)):
                axis.set_tick_params(labelsize=size * times)
    ticks = {
        label for ax in figure.axes for label in (*ax.get_xticklabels(), *ax.get_yticklabels())
    }
    for text in figure.findobj(Text):
        if text not in ticks:
            text.set_fontsize(float(text.get_fontsize()) * times)


def recolour(figure: Figure | SubFigure) -> None:
    """Give every part of a picture the colours that are read on its ground."""
    behind = _ground_of(figure)
    for ax in figure.axes:
        if ax.axison:
            face = ax.get_facecolor()
        else:
            face = behind
        if colours := _colours_on(face if to_rgba(face)[3] > 0 else behind):
            _recolour_axes(ax, colours)
    if colours := _colours_on(behind):
        for artist in [*figure.texts, *figure.lines, *figure.patches, *figure.artists]:
            _recolour_artist(artist, colours)


def _ground_of(figure: Any) -> Any:
    """Return the colour behind a figure, or behind a part of one that has none."""
    while to_rgba(figure.get_facecolor())[3] == 0 and not isinstance(figure, Figure):
        figure = figure.figure
    return figure.get_facecolor()


def _colours_on(face: Any) -> dict[str, str]:
    """Return what each colour becomes on a ground, nothing where paper's colours serve."""
    if float(np.dot(LUMINANCE, to_rgb(face))) >= DARKEST_LIGHT:
        return {}
    return {**DARK, PAPER: to_hex(face)}


def _recolour_axes(ax: Axes, colours: dict[str, str]) -> None:
    for axis in (ax.xaxis, ax.yaxis):
        known = axis.get_tick_params()
        parts = ("color", "labelcolor", "grid_color")
        now = {part: _other(known[part], colours) for part in parts if known.get(part) is not None}
        axis.set_tick_params(**now)
    for artist in ax.findobj():
        if artist is not ax.patch:
            _recolour_artist(artist, colours)


def _recolour_artist(artist: Any, colours: dict[str, str]) -> None:
    if isinstance(artist, Collection):
        if artist.get_array() is not None and artist.get_cmap().name == "density":
            artist.set_cmap(density(colours))
            return
        artist.set_facecolor([_other(c, colours) for c in np.atleast_2d(artist.get_facecolor())])
        artist.set_edgecolor([_other(c, colours) for c in np.atleast_2d(artist.get_edgecolor())])
    elif isinstance(artist, Patch):
        face, edge = artist.get_facecolor(), artist.get_edgecolor()
        artist.set_facecolor(_other(face, colours))
        artist.set_edgecolor(_other(edge, colours))
    elif isinstance(artist, Line2D):
        artist.set_color(_other(artist.get_color(), colours))
        artist.set_markerfacecolor(_other(artist.get_markerfacecolor(), colours))
        artist.set_markeredgecolor(_other(artist.get_markeredgecolor(), colours))
    elif isinstance(artist, Text):
        artist.set_color(_other(artist.get_color(), colours))
        if artist.get_path_effects():
            artist.set_path_effects([])  # an edge of paper is not wanted on a dark ground
        if (box := artist.get_bbox_patch()) is not None:
            _recolour_artist(box, colours)


def _other(color: Any, colours: dict[str, str]) -> Any:
    """Return a colour's twin with the same opacity; one that is not of the palette as it is."""
    if color is None or (isinstance(color, str) and color in ("none", "auto")):
        return color
    if not np.size(color):
        return color
    twin = colours.get(to_hex(color))
    if twin is None:
        return color
    return (*to_rgb(twin), to_rgba(color)[3])


def density(colours: dict[str, str] | None = None) -> Any:
    """Return the shades of cells with few to many rows."""
    shades = [FAINT, SLATE, INK]
    if colours:
        shades = [colours[MIST], colours[SLATE], colours[INK]]
    return LinearSegmentedColormap.from_list("density", shades)
