"""The sheet every picture is drawn on: its size, type, title and finding, axes, labelled points."""

from __future__ import annotations

import io
import logging
import math
import os
import warnings
from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import matplotlib.dates
import numpy as np
from matplotlib.axes import Axes
from matplotlib.figure import Figure, SubFigure
from matplotlib.ticker import MaxNLocator, ScalarFormatter

from joinery.show.files import write_whole
from joinery.show.palette import INK, MIST, PAPER, RUST, SLATE
from joinery.show.pictures.folding import fold, inches_of
from joinery.show.pictures.labels import place_labels
from joinery.show.pictures.layout import (
    END,
    keep_within,
    later,
    outermost,
    refit,
    settle,
    stand_under,
)
from joinery.show.pictures.style import (
    DPI,
    density,
    dots_per_inch,
    drawn_on,
    fallback_fonts,
    given,
    ground,
    letters,
    sheet_inches,
)
from joinery.support.errors import CallError

WIDE, HIGH = 8.0, 5.0
LEAST_LEFT = 0.35  # share of a sheet's height below its heading, however small it is
DENSE = 5000  # points beyond which a density is drawn: they would cover one another
NARROW_KEY, WIDE_KEY = 1.9, 3.8  # inches of a panel that its key of density takes, short and long
ROWS = "rows"  # how the name of a group of points begins that stand for rows
ENDINGS = (".png", ".svg", ".pdf")


@dataclass(frozen=True)
class Words:
    """The words written on a picture."""

    title: str
    finding: str
    x: str
    y: str
    x_dates: bool = False  # whether the horizontal axis counts days since 1970
    x_rows: bool = False  # whether it counts rows, so that its numbers are whole
    under: str = ""  # what stands under the picture, in full: an equation, what is held


def sheet(ax: Axes | None, words: Words) -> tuple[Figure, Axes]:
    """Dress a fresh sheet, or the axes given: title in words, the finding under it."""
    if ax is None:
        figure, top = paper(words.title, words.finding)
        ax = figure.add_axes((0.095, 0.115, 0.865, top - 0.115))
        keep_within(ax, (0.02, 0.015, 0.985, top + 0.005))
    else:
        figure = outermost(ax.figure)
        ax.set_title(words.title, loc="left", fontsize=11, fontweight="bold", color=INK)
    stand_under(ax.figure, words.under)
    dress(ax)
    ax.set_xlabel(words.x, color=INK, fontsize=10)
    ax.set_ylabel(words.y, color=INK, fontsize=10)
    if words.x_dates:
        date_axis(ax)
    if words.x_rows:
        ax.xaxis.set_major_locator(MaxNLocator(nbins="auto", steps=[1, 2, 5, 10], integer=True))
    return figure, ax


@contextmanager
def names_as_they_are() -> Iterator[None]:
    """Draw text as it is: a name with $ in it is no formula, one in a rare script no warning."""
    families = list(dict.fromkeys((*matplotlib.rcParams["font.family"], *fallback_fonts())))
    settings: Any = {"text.parse_math": False, "font.family": families}
    fonts = logging.getLogger("matplotlib.font_manager")
    level = fonts.level
    fonts.setLevel(logging.ERROR)  # a fallback without a bold face is no news
    try:
        with matplotlib.rc_context(settings), warnings.catch_warnings():
            warnings.filterwarnings("ignore", message="Glyph .* missing from")
            yield
    finally:
        fonts.setLevel(level)


def date_axis(ax: Axes, fewest: int = 4) -> None:
    """Write the horizontal axis, which counts days since 1970, as dates."""
    dates: Any = matplotlib.dates
    locator = dates.AutoDateLocator(minticks=fewest, maxticks=fewest + 4)
    ax.xaxis.set_major_locator(locator)
    ax.xaxis.set_major_formatter(dates.ConciseDateFormatter(locator))


class Picture(Figure):
    """A figure that a notebook shows of itself, as the last line of a cell and by ``display``."""

    def _repr_png_(self) -> bytes:
        out = io.BytesIO()
        self.savefig(out, format="png", dpi="figure")
        return out.getvalue()

    def draw(self, renderer: Any) -> None:
        """Draw on a window, a page or a file, names as they are."""
        with names_as_they_are():
            super().draw(renderer)

    def set_size_inches(self, w: Any, h: float | None = None, forward: bool = True) -> None:
        """Give the picture another size, with all that is written on it kept inside."""
        before = self.get_size_inches().copy()
        super().set_size_inches(w, h, forward)
        if np.array_equal(before, self.get_size_inches()):  # other dots per inch alone
            return
        with names_as_they_are():
            refit(self, before)


def paper(title: str, finding: str, high: float = HIGH) -> tuple[Figure, float]:
    """Return a sheet with title and finding, and the share of its height left below them."""
    figure: Any = given().figure
    if figure is None:
        size = sheet_inches(WIDE, high)
        figure = Picture(figsize=size, dpi=dots_per_inch(), facecolor=ground())
    words = fold(figure, "finding", finding)
    unit = HIGH / float(inches_of(figure)[1]) * letters()
    heading: dict[str, Any] = {"fontsize": 13, "fontweight": "bold", "color": INK}
    figure.text(0.045, 1 - 0.045 * unit, title, ha="left", va="top", gid="title", **heading)
    under: dict[str, Any] = {"fontsize": 9, "color": SLATE, "ha": "left", "va": "top"}
    figure.text(0.045, 1 - 0.1 * unit, words, linespacing=1.4, gid="finding", **under)
    lines = words.count("\n")
    return figure, max(1 - (0.155 + 0.037 * lines) * unit, LEAST_LEFT)


def panels(
    figure: Figure,
    top: float,
    rows: int,
    columns: int,
    *,
    gap: tuple[float, float],
    above: float = 0.035,
) -> list[Axes]:
    """Return so many small dressed axes in equal cells below ``top``, row by row.

    ``gap`` lies left of and below each, ``above`` over it, as shares of the figure.
    """
    left, right, low = 0.02, 0.98, 0.01
    wide, high = (right - left) / columns, (top - low) / rows
    out = []
    for row in range(rows):
        for column in range(columns):
            x, y = left + column * wide, top - (row + 1) * high
            inner = max(wide - gap[0] - 0.01, 0.01), max(high - gap[1] - above, 0.01)
            ax = figure.add_axes((x + gap[0], y + gap[1], *inner))
            keep_within(ax, (x, y, x + wide, y + high))
            dress(ax)
            ax.tick_params(labelsize=7)
            out.append(ax)
    return out


def dress(ax: Axes) -> None:
    """No frame on top and right, rules in mist, axes in slate."""
    for side in ("top", "right"):
        ax.spines[side].set_visible(False)
    for side in ("left", "bottom"):
        ax.spines[side].set_color(SLATE)
    ax.tick_params(colors=SLATE, labelsize=9)
    for axis in (ax.xaxis, ax.yaxis):
        axis.set_major_formatter(Separated())
    ax.grid(axis="y", color=MIST, linewidth=0.8)
    ax.set_axisbelow(True)
    ax.margins(x=0.04, y=0.08)


def bins_of(values: np.ndarray, most: int) -> list[float]:
    """Return edges of a histogram's bins; those of whole numbers hold whole steps of them."""
    low, high = float(values.min()), float(values.max())
    many = min(most, max(8, int(np.sqrt(len(values)))))
    if high > low and np.array_equal(values, np.round(values)) and high - low < 1e9:
        step = max(1, math.ceil((high - low + 1) / many))
        return [float(v) for v in np.arange(low - 0.5, high + step, step)]
    if low == high:
        return [low - 0.5, high + 0.5]
    return [float(v) for v in np.linspace(low, high, many + 1)]


class Separated(ScalarFormatter):
    """Numbers along an axis, thousands separated where some have five digits; years stay."""

    def __init__(self) -> None:
        super().__init__(useOffset=False)
        self.set_powerlimits((-5, 8))
        self._long = False  # whether some number has five digits

    def set_locs(self, locs: Any) -> None:
        """Learn where the numbers stand."""
        self._long = any(abs(place) >= 10_000 for place in locs)
        super().set_locs(locs)

    def __call__(self, x: float, pos: int | None = None) -> str:
        """Return a number as text."""
        full, point, rest = super().__call__(x, pos).partition(".")
        digits = full.lstrip("-−")
        if self._long and len(digits) > 3 and digits.isdecimal():
            full = full.removesuffix(digits) + f"{int(digits):,}"
        return full + point + rest


class Chances(Separated):
    """The same for chances: rows drawn beyond 0 and 1 have no number."""

    def __call__(self, x: float, pos: int | None = None) -> str:
        """Return a number as text."""
        if -1e-9 <= x <= 1 + 1e-9:
            return super().__call__(x, pos)
        return ""


def points(
    ax: Axes,
    x: np.ndarray,
    y: np.ndarray,
    size: float = 22,
    rows: np.ndarray | None = None,
    **style: Any,
) -> None:
    """A scatter; semi-transparent when many, by density above 5,000 rows.

    ``rows`` (n,) are the points' places among the rows of a fit: a page links them by these.
    """
    if len(x) > DENSE:
        _dense(ax, x, y)
        return
    if len(x) <= 200:
        alpha = 0.75
    elif len(x) <= 1000:
        alpha = 0.45
    else:
        alpha = 0.25
    usual: dict[str, Any] = {"color": INK, "alpha": alpha, "linewidths": 0, "zorder": 3}
    drawn = ax.scatter(x, y, s=size, **usual | style)
    if rows is not None:
        drawn.set_gid(" ".join([ROWS, *map(str, np.asarray(rows).tolist())]))


def _dense(ax: Axes, x: np.ndarray, y: np.ndarray) -> None:
    """Rows by density, with its key; a row alone in its cell stays a point."""
    inches = ax.get_position().width * float(inches_of(ax.figure)[0])
    across = int(np.clip(18 * inches, 18, 60))
    shades = density()
    cells = ax.hexbin(x, y, gridsize=across, mincnt=1, bins="log", cmap=shades, linewidths=0)
    counts = np.asarray(cells.get_array())
    alone = np.asarray(cells.get_offsets())[counts == 1]
    if inches > NARROW_KEY:
        size = 5
    else:
        size = 2
    ax.scatter(alone[:, 0], alone[:, 1], s=size, color=INK, linewidths=0, zorder=3)
    if inches < NARROW_KEY:  # a panel among many
        return
    most = int(counts.max())
    key = f"1 to {most:,} rows a cell"
    if inches > WIDE_KEY:
        key = f"darker where more rows lie: 1 to {most:,} in a cell"
    place: dict[str, Any] = {"fontsize": 8, "color": SLATE, "ha": "right", "va": "bottom"}
    ax.text(1.0, 1.005, key, transform=ax.transAxes, gid=END, **place)


def ring(
    ax: Axes, x: np.ndarray, y: np.ndarray, serious: Sequence[bool], *, lit: bool = False
) -> None:
    """Marks remarkable points: a ring, in rust where serious; ``lit`` to be seen on dark cells."""
    if lit:
        ax.scatter(x, y, s=70, facecolors="none", edgecolors=PAPER, linewidths=3.6, zorder=3.9)
    for px, py, bad in zip(x, y, serious):
        ax.scatter(
            [px],
            [py],
            s=70,
            facecolors="none",
            edgecolors=RUST if bad else INK,
            linewidths=1.3,
            zorder=4,
        )


def label_points(
    ax: Axes,
    x: np.ndarray,
    y: np.ndarray,
    words: Sequence[str],
    others: tuple[np.ndarray, np.ndarray],
) -> None:
    """Write a label beside each point, once all places are settled, where it covers nothing."""
    at = [(float(px), float(py)) for px, py in zip(x, y, strict=True)]
    lit = len(others[0]) > DENSE
    later(outermost(ax.figure), lambda: place_labels(ax, at, words, others, lit=lit))


def end_label(ax: Axes, x: float, y: float, words: str, color: str = SLATE) -> None:
    """A series' name at its right end."""
    if math.isfinite(x) and math.isfinite(y):
        ax.annotate(
            words,
            (x, y),
            xytext=(5, 0),
            textcoords="offset points",
            fontsize=8.5,
            color=color,
            va="center",
            clip_on=False,
            gid=END,
        )


def finished(
    make: Callable[[Any], Figure],
    names: Iterable[str],
    *,
    ax: Axes | Figure | SubFigure | None,
    figsize: tuple[float, float] | None,
    path: str | os.PathLike[str] | None,
) -> Figure:
    """Return a picture with everything on it in its place, and write it where a path is given.

    Parameters: ``make`` draws on the axes it is given, or on a sheet; ``names`` that may be long.
    """
    with names_as_they_are(), drawn_on(ax, figsize) as axes:
        figure = make(axes)
        settle(figure, names)
        if path is not None:
            write(figure, path)
    return figure


def refuse_axes(name: str, ax: Axes | None) -> None:
    """Raise CallError for axes that a picture of several panels cannot be drawn on."""
    if ax is not None:
        raise CallError(
            f"the picture {name!r} has panels of its own: it is drawn on a Figure or a SubFigure, "
            "not on axes",
            argument="ax",
        )


def as_svg(figure: Figure, name: str) -> str:
    """Return a picture as an SVG element to stand in a page; ``name`` keeps its marks its own."""
    from io import StringIO

    text = StringIO()
    text_stays: Any = {"svg.hashsalt": name, "svg.fonttype": "none"}
    with matplotlib.rc_context(text_stays):
        figure.savefig(text, format="svg", metadata={"Date": None})
    full = text.getvalue()
    return full[full.index("<svg") :]


def write(figure: Figure, path: str | os.PathLike[str]) -> Path:
    """Write a picture by its ending: .png, .svg or .pdf. The same figures give the same bytes."""
    ending = Path(path).suffix.lower()
    if ending not in ENDINGS:
        raise CallError(
            f"cannot tell how to draw {os.fspath(path)!r}; its ending is one of "
            f"{', '.join(ENDINGS)}"
        )
    dates = {".svg": {"Date": None}, ".pdf": {"CreationDate": None}}.get(ending, {"Software": None})
    outer, dpi = outermost(figure), matplotlib.rcParams["savefig.dpi"]
    if dpi == "figure":
        if isinstance(outer, Picture):
            dpi = outer.dpi
        else:
            dpi = DPI
    return write_whole(path, lambda beside: outer.savefig(beside, dpi=dpi, metadata=dates))
