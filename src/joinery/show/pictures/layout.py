"""The last step of every picture: long names are shortened, axes fitted into their places, and
labels put where they cover nothing."""

from __future__ import annotations

import textwrap
from collections.abc import Callable, Iterable, Iterator
from itertools import pairwise
from typing import Any
from weakref import WeakKeyDictionary, WeakSet

import numpy as np
from matplotlib.axes import Axes
from matplotlib.figure import Figure
from matplotlib.spines import Spine
from matplotlib.text import Annotation, Text
from matplotlib.ticker import FixedLocator, MaxNLocator
from matplotlib.transforms import Bbox

from joinery.show.palette import SLATE
from joinery.show.pictures.folding import (
    FINDING_SPACING,
    MEANT_FOR,
    WRAPS,
    Sheet,
    inches_of,
    wrapped_as,
)
from joinery.show.pictures.short_names import MOST_NAME, brief, briefs_of
from joinery.show.pictures.style import given, on_a_page, recolour, resize_letters

Cell = tuple[float, float, float, float]  # left, bottom, right, top as shares of the figure
Box = tuple[float, float, float, float]  # the same in pixels
WHOLE: Cell = (0.0, 0.0, 1.0, 1.0)
MOST_TICK = 44  # characters of a name at the left of an axis
TICK_GAP = 3.0  # pixels between the labels of two ticks
KEY_LINE = 0.16  # inches
WIDE_LINE, MOST_LINES = 124, 8  # characters of a line under a picture, and lines
END = "end of a series"

_cells: WeakKeyDictionary[Axes, Cell] = WeakKeyDictionary()
_jobs: WeakKeyDictionary[Figure, list[Callable[[], None]]] = WeakKeyDictionary()
_settled: WeakSet[Sheet] = WeakSet()
_under: WeakKeyDictionary[Sheet, str] = WeakKeyDictionary()


def keep_within(ax: Axes, cell: Cell) -> None:
    """Have the axes, with all that is written on them, end inside this part of the figure."""
    _cells[ax] = cell


def right_end(ax: Axes) -> float:
    """Return where in pixels the cell of the axes ends; their own side where they have none."""
    figure: Any = ax.figure
    if ax not in _cells:
        return float(ax.get_window_extent().x1)
    return float(figure.bbox.x0 + figure.bbox.width * _cells[ax][2])


def later(figure: Figure, job: Callable[[], None]) -> None:
    """Do this when every place in the figure is settled."""
    _jobs.setdefault(figure, []).append(job)


def stand_under(figure: Any, words: str) -> None:
    """Have words stand under a picture, in full."""
    if words:
        _under[figure] = words


def caption_of(figure: Figure) -> str:
    """Return the words that stand under a picture, for a page to write."""
    return _under.get(figure, "")


def settle(figure: Sheet, names: Iterable[str] = ()) -> None:
    """Shorten names, fit axes into their cells, thin ticks, and place labels.

    ``names``: those that may be long, of columns, terms and levels. Axes of the caller's own keep
    their place.
    """
    resize_letters(figure)
    key = _shorten(figure, names)
    under = _under.get(figure, "")
    if on_a_page():  # it stands in the page's own caption
        under = ""
    key_words = ";  ".join(f"{short}: {name}" for name, short in key.items())
    _write_under(figure, _lines_under(figure, under), _lines_under(figure, key_words))
    _fit_all(figure)
    for job in _jobs.pop(outermost(figure), []):
        job()
    for ax in figure.axes:
        _spread_ends(ax)
    recolour(figure)
    _settled.add(figure)


def _fit_all(figure: Sheet) -> None:
    """Fit all axes into their cells, and what is written on them beside."""
    _cut_title(figure)
    for ax in figure.axes:
        cell = _cells.get(ax, WHOLE)
        ticks = _thin_ticks(ax)
        _cut_own(ax, cell)
        if ax not in _cells:
            continue
        _fit(ax, cell)
        # axes of another size may have other ticks, which take more or less room; where they have
        # the same, all that is written has moved with the sides
        again = _thin_ticks(ax)
        if _cut_own(ax, cell) or again != ticks:
            _fit(ax, cell)


def refit(figure: Figure, before: np.ndarray) -> None:
    """Keep what is written on a settled picture inside after another size was given to it.

    Parameters: ``before`` the width and height in inches until now. What stands above and below the
    axes keeps its height; the axes take what is left.
    """
    if figure not in _settled:
        return
    high = float(inches_of(figure)[1])
    grown = 0.0  # inches by which the finding is higher
    for text in figure.texts:
        if text.get_gid() not in WRAPS:
            continue
        words = text.get_text()
        text.set_text(wrapped_as(figure, text, words.replace("\n", " ")))
        if text.get_gid() == "finding":
            lines = text.get_text().count("\n") - words.count("\n")
            grown = lines * float(text.get_fontsize()) * FINDING_SPACING / 72
    heading = [text for text in figure.texts if text.get_gid() in ("title", "finding")]
    foot = [text for text in figure.texts if text.get_gid() == "key"]
    if not heading:
        return
    until_now = float(before[1])
    above = (1 - min(float(text.get_position()[1]) for text in heading)) * until_now
    below = sum(KEY_LINE * (text.get_text().count("\n") + 1) for text in foot)
    left = max(high - above - below - grown, 0.2 * high)
    times = left / (until_now - above - below)

    def moved(y: float) -> float:
        return (below + (y * until_now - below) * times) / high

    for text in figure.texts:
        x, y = text.get_position()
        if text in heading:
            text.set_position((x, 1 - (1 - y) * before[1] / high))
        elif text in foot:
            text.set_position((x, y * before[1] / high))
        else:
            text.set_position((x, moved(y)))
    _move_axes(figure, moved)
    _fit_all(figure)


def _move_axes(figure: Sheet, moved: Callable[[float], float]) -> None:
    """Move axes, their cells and rules up or down, ``moved`` taking the share of the height."""
    for ax in figure.axes:
        box = ax.get_position()
        low = moved(box.y0)
        ax.set_position((box.x0, low, box.width, moved(box.y1) - low))
        if ax in _cells:
            x0, y0, x1, y1 = _cells[ax]
            _cells[ax] = (x0, moved(y0), x1, moved(y1))
    for rule in [*figure.patches, *figure.artists]:
        target: Any = rule
        target.set_y(moved(target.get_y()))


def outermost(figure: Any) -> Figure:
    """Return the figure that a part of a figure stands in."""
    while not isinstance(figure, Figure):
        figure = figure.figure
    return figure


# ------------------------------------------------------------------ names


def _shorten(figure: Sheet, names: Iterable[str]) -> dict[str, str]:
    """Put short forms for long names wherever they stand; the ones that were used."""
    briefs = briefs_of(names)
    used: dict[str, str] = {}

    def short(text: str) -> str:
        for name in sorted(briefs, key=len, reverse=True):
            if name in text:
                used[name] = briefs[name]
                text = text.replace(name, briefs[name])
        return text

    for ax in figure.axes:
        for axis in (ax.xaxis, ax.yaxis):
            if named := _named_ticks(axis):
                places, result = named
                if axis is ax.yaxis:
                    most = MOST_TICK
                else:
                    most = MOST_NAME
                briefs.update(briefs_of(t for t in result if t not in briefs and len(t) > most))
                axis.set_ticks(places, [short(text) for text in result])
    for text in figure.findobj(Text):
        words = text.get_text()
        if text.get_gid() in WRAPS:
            words = words.replace("\n", " ")
        if words and (now := short(words)) != words:
            text.set_text(wrapped_as(figure, text, now))
    return used


def _cut_title(figure: Sheet) -> None:
    """A title too wide for the figure in smaller letters."""
    for text in figure.texts:
        wide = text.get_window_extent(renderer_of(figure)).width
        if text.get_gid() == "title" and wide > 0.93 * figure.bbox.width:
            text.set_fontsize(
                max(float(text.get_fontsize()) * 0.93 * figure.bbox.width / wide, 7.5)
            )


def _cut_own(ax: Axes, cell: Cell) -> bool:
    """Cut in the middle what is longer than its cell: the axes' title, labels and texts.

    Returns True if anything was."""
    figure: Any = ax.figure
    renderer, right = renderer_of(figure), figure.bbox.x0 + cell[2] * figure.bbox.width
    wide = (cell[2] - cell[0]) * figure.bbox.width
    high = (cell[3] - cell[1]) * figure.bbox.height
    box = ax.get_window_extent()
    target: Any = ax
    titles: list[tuple[Text, float, int]] = [
        (t, right - t.get_window_extent(renderer).x0, 0) for t in (target.title, target._left_title)
    ]
    middle = (box.y0 + box.y1) / 2 - figure.bbox.y0 - cell[1] * figure.bbox.height
    upright = 2 * min(middle, high - middle)  # the label stands around the middle of the axes
    titles += [(ax.xaxis.label, wide - 8, 0), (ax.yaxis.label, upright - 4, 1)]
    for text in ax.texts:
        if text.get_transform() == ax.transData or text.get_gid() == "listed":
            left = text.get_window_extent(renderer).x0
            titles.append((text, max(figure.bbox.x1 - 6 - left, 0.2 * box.width), 0))
    cut = [_cut(text, most, along, renderer) for text, most, along in titles]
    return any(cut)


def _cut(text: Text, most: float, along: int, renderer: Any) -> bool:
    """Shorten a text in the middle until it is no longer than so many pixels.

    Returns True if it was longer."""
    words = text.get_text()
    if not words:
        return False
    for _ in range(4):
        extent = text.get_window_extent(renderer)
        if along == 0:
            long = extent.width
        else:
            long = extent.height
        now = text.get_text()
        if long <= most or len(now) < 6 or "\n" in words:
            break
        text.set_text(brief(words, max(int(len(now) * most / long) - 1, 5)))
    return text.get_text() != words


def _named_ticks(axis: Any) -> tuple[np.ndarray, list[str]] | None:
    """Return places and names of an axis that has names for ticks; None for one of numbers."""
    if not isinstance(axis.get_major_locator(), FixedLocator):
        return None
    places = np.asarray(axis.get_majorticklocs())
    if not len(places):
        return None
    return places, [text.get_text() for text in axis.get_ticklabels()]


def _lines_under(figure: Sheet, words: str) -> list[str]:
    """Return words in lines as long as the figure is wide."""
    room = float(inches_of(figure)[0]) / MEANT_FOR
    lines = textwrap.wrap(words, max(int(WIDE_LINE * room), 12))
    if len(lines) > MOST_LINES:
        lines = [*lines[:MOST_LINES], "…"]
    return lines


def _write_under(figure: Sheet, words: list[str], key: list[str]) -> None:
    """Write lines under the picture, and the full names, by which it grows."""
    lines = [*words, *key]
    if not lines:
        return
    wide, high = (float(size) for size in inches_of(figure))
    grown = 0.0
    if key and isinstance(figure, Figure) and not given().figure and not given().inches:
        grown = KEY_LINE * len(key) + 0.08
    low = (KEY_LINE * len(lines) + 0.08) / (high + grown)
    top = max((_cells[ax][3] for ax in figure.axes if ax in _cells), default=0.85)
    shrunk = high / (high + grown)
    new_top = 1 - (1 - top) * shrunk

    def moved(y: float) -> float:
        """Return where a height goes: all below the heading is moved up, above the lines."""
        return low + y * (new_top - low) / top

    _move_axes(figure, moved)
    for text in figure.texts:
        x, y = text.get_position()
        if text.get_gid() in ("title", "finding"):
            text.set_position((x, 1 - (1 - y) * shrunk))
        else:
            text.set_position((x, moved(y)))
    if grown:
        outermost(figure).set_size_inches(wide, high + grown)
    place: dict[str, Any] = {"fontsize": 7.5, "color": SLATE, "va": "bottom", "ha": "left"}
    figure.text(0.045, 0.012, "\n".join(lines), linespacing=1.3, gid="key", **place)


# ------------------------------------------------------------------ axes


def renderer_of(figure: Sheet) -> Any:
    """Return what measures the letters of a figure."""
    from matplotlib.backends.backend_agg import FigureCanvasAgg

    outer_here = outermost(figure)
    target: Any = outer_here.canvas
    canvas: Any = target if hasattr(target, "get_renderer") else FigureCanvasAgg(outer_here)
    return canvas.get_renderer()


def _fit(ax: Axes, cell: Cell) -> None:
    """Move the sides of the axes so that what is written on them ends inside the cell."""
    figure: Any = ax.figure
    # spines stand where the axes end, whose box counts in any case
    beside = [a for a in ax.get_default_bbox_extra_artists() if not isinstance(a, Spine)]
    tight = ax.get_tightbbox(renderer_of(figure), bbox_extra_artists=beside)
    if tight is None:
        return
    tight = tight.transformed(figure.transSubfigure.inverted())
    box = ax.get_position()
    outer = (tight.x0, tight.y0, tight.x1, tight.y1)
    x0 = box.x0 + max(cell[0] - outer[0], 0)
    y0 = box.y0 + max(cell[1] - outer[1], 0)
    x1 = box.x1 - max(outer[2] - cell[2], 0)
    y1 = box.y1 - max(outer[3] - cell[3], 0)
    if x1 - x0 > 0.02 and y1 - y0 > 0.02:
        ax.set_position((x0, y0, x1 - x0, y1 - y0))


def _thin_ticks(ax: Axes) -> list[str]:
    """Write fewer numbers on an axis, or names on their side, where they would run together.

    Returns what is written in the end."""
    figure: Any = ax.figure
    renderer = renderer_of(figure)
    written: list[str] = []
    for axis, along in ((ax.xaxis, 0), (ax.yaxis, 1)):
        for step in range(6):
            shown = list(shown_ticks(ax, axis, renderer))
            boxes = sorted((box for _, box in shown), key=lambda b: float(b.min[along]))
            if all(a.max[along] + TICK_GAP <= b.min[along] for a, b in pairwise(boxes)):
                break
            _make_room(axis, along, step)
        written += [label.get_text() for label, _ in shown]
    return written


def _make_room(axis: Any, along: int, step: int) -> None:
    named = _named_ticks(axis)
    if named is None:
        axis.set_major_locator(MaxNLocator(nbins=max(5 - step, 2), steps=[1, 2, 5, 10]))
        return
    if along == 0 and step == 0:
        axis.set_tick_params(labelrotation=90)
        return
    places, names = named
    axis.set_ticks(places[::2], names[::2])


def shown_ticks(ax: Axes, axis: Any, renderer: Any) -> Iterator[tuple[Text, Bbox]]:
    """Yield the tick labels that are seen, with their boxes in pixels."""
    if not ax.axison or not axis.get_visible():
        return
    low, high = sorted(axis.get_view_interval())
    slack = 1e-9 * max(abs(low), abs(high), 1e-300)
    axis.get_majorticklabels()  # settles them
    for tick in axis.get_major_ticks():
        label = tick.label1
        seen = low - slack <= tick.get_loc() <= high + slack and label.get_visible()
        if seen and label.get_text().strip():
            yield label, label.get_window_extent(renderer)


# ------------------------------------------------------------------ labels


def _spread_ends(ax: Axes) -> None:
    """Push the names at the ends of series apart, up and down, where they would touch."""
    figure: Any = ax.figure
    renderer, scale = renderer_of(figure), figure.dpi / 72
    ends = [t for t in ax.texts if isinstance(t, Annotation) and t.get_gid() == END]
    ends.sort(key=lambda t: float(t.get_window_extent(renderer).y0))
    for below, above in pairwise(ends):
        a, b = below.get_window_extent(renderer), above.get_window_extent(renderer)
        if overlap(box_of(a), box_of(b)):
            x, y = above.get_position()
            above.set_position((x, y + (a.y1 - b.y0 + 1) / scale))


def box_of(extent: Bbox) -> Box:
    """Return a box of pixels as left, bottom, right, top."""
    return (float(extent.x0), float(extent.y0), float(extent.x1), float(extent.y1))


def overlap(a: Box, b: Box) -> bool:
    """Return True if two boxes share more than an edge."""
    return a[0] < b[2] and b[0] < a[2] and a[1] < b[3] and b[1] < a[3]
