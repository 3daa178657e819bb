"""The pictures of a first look: handed arrays and words, they ask no statistical question."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from matplotlib.axes import Axes
from matplotlib.figure import Figure

from joinery.core.inference.smooth import Smooth
from joinery.show.numbers import count, fixed
from joinery.show.palette import AMBER, INK, MIST, SLATE, TEAL
from joinery.show.pictures.canvas import (
    HIGH,
    bins_of,
    date_axis,
    dress,
    label_points,
    panels,
    paper,
    points,
)
from joinery.show.pictures.folding import inches_of
from joinery.show.pictures.short_names import brief

MOST_LEVEL = 18  # characters of a level's name beside its bar
ROOMY = 8  # columns of a matrix in whose panels three numbers stand along an axis


@dataclass(frozen=True)
class Distribution:
    """One column to be drawn by itself: numbers, or the counts of its levels."""

    name: str
    values: np.ndarray | None
    levels: tuple[tuple[str, int], ...] = ()
    rest: str = ""  # the levels that have no bar, in words
    under: str = ""
    dates: bool = False  # whether the numbers are days since 1970


@dataclass(frozen=True)
class Across:
    """The response against one predictor: points and a smooth, or levels with means."""

    name: str
    x: np.ndarray
    y: np.ndarray
    smooth: Smooth | None = None
    levels: tuple[str, ...] = ()
    means: np.ndarray = field(default_factory=lambda: np.empty(0))
    reach: np.ndarray = field(default_factory=lambda: np.empty(0))
    flags: tuple[tuple[int, str], ...] = ()
    dates: bool = False  # whether x counts days since 1970
    shares: np.ndarray | None = None  # (4, groups) of yes or no: x, share, lower, upper


def _grid_for(n: int) -> tuple[int, int]:
    if n == 1:
        columns = 1
    elif n <= 4:
        columns = 2
    elif n <= 9:
        columns = 3
    else:
        columns = 4
    return math.ceil(n / columns), columns


def columns(distributions: Sequence[Distribution], title: str, finding: str) -> Figure:
    """Draw a small distribution for each column."""
    rows, wide = _grid_for(len(distributions))
    figure, top = paper(title, finding, max(HIGH, 1.15 * rows + 0.8))
    for ax, distribution in zip(
        panels(figure, top, rows, wide, gap=(0.05, 0.055)), distributions, strict=False
    ):
        _one_distribution(ax, distribution)
    for ax in figure.axes[len(distributions) :]:
        ax.remove()
    return figure


def _one_distribution(ax: Axes, distribution: Distribution) -> None:
    ax.set_title(distribution.name, loc="left", fontsize=9, color=INK, pad=3)
    if distribution.values is not None and len(distribution.values):
        bins = bins_of(distribution.values, 24)
        ax.hist(distribution.values, bins=bins, color=SLATE, alpha=0.75, linewidth=0)
        ax.set_yticks([])
        ax.grid(visible=False)
        if distribution.dates:
            date_axis(ax, fewest=2)
    elif distribution.levels:
        _counts(ax, distribution)
    else:
        ax.set_axis_off()
        ax.text(
            0.0,
            0.5,
            distribution.under,
            transform=ax.transAxes,
            fontsize=8,
            color=SLATE,
            va="center",
        )


def _counts(ax: Axes, distribution: Distribution) -> None:
    """A bar a level, named at its left and counted at its end; what is left out in words."""
    names = [brief(name, MOST_LEVEL) for name, _ in distribution.levels][::-1]
    sizes = [n for _, n in distribution.levels][::-1]
    places = list(range(len(names)))
    ax.barh(places, sizes, color=SLATE, alpha=0.75, height=0.62)
    ax.set_yticks(places, names)
    ax.tick_params(axis="y", labelsize=7.5, length=0, colors=INK)
    beside: dict[str, Any] = {"textcoords": "offset points", "fontsize": 7.5, "color": INK}
    for place, size in zip(places, sizes, strict=True):
        ax.annotate(f"{size:,}", (size, place), (3, 0), va="center", **beside)
    if distribution.rest:
        ax.annotate(distribution.rest, (0, -1), (2, 0), va="center", **beside | {"color": SLATE})
    ax.set_ylim(-1.5 if distribution.rest else -0.6, len(names) - 0.4)
    ax.set_xlim(0, 1.15 * max(sizes))
    ax.grid(visible=False)
    ax.set_xticks([])


def response(panels_of: Sequence[Across], y_label: str, title: str, finding: str) -> Figure:
    """Draw the response against each predictor, all on one scale of the response."""
    rows, wide = _grid_for(len(panels_of))
    figure, top = paper(title, finding, max(HIGH, 1.55 * rows + 0.8))
    low = min(float(np.nanmin(a.y)) for a in panels_of)
    high = max(float(np.nanmax(a.y)) for a in panels_of)
    margin = 0.07 * (high - low) or 1.0
    for place, (ax, across) in enumerate(
        zip(panels(figure, top, rows, wide, gap=(0.055, 0.085)), panels_of, strict=False)
    ):
        ax.set_ylim(low - margin, high + margin)
        ax.set_xlabel(across.name, fontsize=8.5, color=INK, labelpad=2)
        if place % wide == 0:
            ax.set_ylabel(y_label, fontsize=8, color=INK)
        _one_across(ax, across)
    for ax in figure.axes[len(panels_of) :]:
        ax.remove()
    return figure


def _one_across(ax: Axes, across: Across) -> None:
    if across.levels:
        # a little apart, always the same, so that equal values do not hide one another
        apart = np.random.default_rng(1).uniform(-0.16, 0.16, len(across.x))
        points(ax, across.x + apart, across.y, size=9)
        places = np.arange(len(across.levels))
        ax.errorbar(
            places + 0.28,
            across.means,
            across.reach,
            fmt="o",
            color=AMBER,
            markersize=4,
            linewidth=1.6,
            zorder=4,
        )
        step = math.ceil(len(across.levels) / 8)
        ax.set_xticks(places[::step], list(across.levels[::step]))
        ax.set_xlim(-0.5, len(across.levels) - 0.3)
        return
    if across.shares is not None:
        at, share, lower, upper = across.shares
        ends = np.vstack([share - lower, upper - share])
        bars: dict[str, Any] = {
            "fmt": "D",
            "color": AMBER,
            "markersize": 4,
            "linewidth": 1.6,
            "zorder": 4,
        }
        ax.errorbar(at, share, ends, **bars)
    points(ax, across.x, across.y, size=9)
    if across.dates:
        date_axis(ax, fewest=2)
    if across.smooth is not None:
        s = across.smooth
        ax.fill_between(
            s.at,
            s.height - 2 * s.error,
            s.height + 2 * s.error,
            color=TEAL,
            alpha=0.16,
            linewidth=0,
        )
        ax.plot(s.at, s.height, color=TEAL, linewidth=1.6, zorder=3.5)
    if across.flags:
        places = np.array([place for place, _ in across.flags])
        label_points(
            ax,
            across.x[places],
            across.y[places],
            [word for _, word in across.flags],
            (across.x, across.y),
        )


@dataclass(frozen=True)
class Pair:
    """Two columns by name with their correlation."""

    names: tuple[str, str]
    r: float


def matrix(
    names: Sequence[str],
    values: np.ndarray,
    strongest: Sequence[Pair],
    flags: Sequence[tuple[int, str]],
    title: str,
    finding: str,
) -> Figure:
    """Draw scatters below the diagonal, distributions on it, the strongest pairs above it."""
    k = len(names)
    figure, top = paper(title, finding, max(HIGH, 0.52 * k + 0.8))
    cells = panels(figure, top, k, k, gap=(0.06 / k, 0.06 / k), above=0.06 / k)
    for i in range(k):
        for j in range(k):
            ax = cells[i * k + j]
            if j > i:
                ax.remove()
                continue
            _outer_ticks(ax, names, i, j, k)
            _matrix_cell(
                ax,
                values[:, j],
                values[:, i],
                diagonal=i == j,
                dots=2.5 if k > 8 else 4 if k > 5 else 8,
            )
            if i == j:
                box = {"facecolor": "white", "alpha": 0.75, "pad": 0.6, "linewidth": 0}
                size = 8 if k < 8 else 6.5
                name = names[i]
                ax.text(
                    0.03,
                    0.96,
                    name,
                    transform=ax.transAxes,
                    fontsize=size,
                    color=INK,
                    va="top",
                    bbox=box,
                    gid="listed",
                )
    _strongest(figure, top, k, strongest)
    for i in range(1, k) if k <= 7 and flags else ():
        x, y = values[:, 0], values[:, i]
        shown = [(p, w) for p, w in flags[:3] if np.isfinite(x[p]) and np.isfinite(y[p])]
        places = np.array([p for p, _ in shown], int)
        label_points(cells[i * k], x[places], y[places], [w for _, w in shown], (x, y))
    return figure


def _outer_ticks(ax: Axes, names: Sequence[str], i: int, j: int, k: int) -> None:
    """A few numbers on each outer axis of the matrix, none inside."""
    ax.tick_params(labelsize=6.5, length=2, pad=1)
    ax.locator_params(nbins=3)
    if k > ROOMY:  # one number alone rather than some over one another
        ax.locator_params(axis="x", nbins=2, min_n_ticks=1)
    if i < k - 1:
        ax.tick_params(labelbottom=False)
    if j > 0 or i == j:
        ax.tick_params(labelleft=False)


def _matrix_cell(ax: Axes, x: np.ndarray, y: np.ndarray, *, diagonal: bool, dots: float) -> None:
    ax.grid(visible=False)
    if diagonal:
        ax.set_yticks([])
        ax.spines["left"].set_visible(False)
        present = x[np.isfinite(x)]
        ax.hist(present, bins=bins_of(present, 16), color=SLATE, alpha=0.6, linewidth=0)
        low, high = ax.get_ylim()
        ax.set_ylim(low, high * 1.35)
        return
    here = np.isfinite(x) & np.isfinite(y)
    points(ax, x[here], y[here], size=dots)


def _strongest(figure: Figure, top: float, k: int, pairs: Sequence[Pair]) -> None:
    """The list of the strongest pairs, a bar for each, in the upper right half."""
    if not pairs or k < 3:
        return
    most = min(len(pairs), 4 if k == 3 else 6 if k < 8 else 10)
    if k > 3:
        wide = 0.42
    else:
        wide = 0.33
    high = min((0.042 * most + 0.05) * HIGH / inches_of(figure)[1], 0.44 * top)
    ax = figure.add_axes((0.98 - wide, top - high - 0.005, wide, high))
    dress(ax)
    for side in ("left", "bottom"):
        ax.spines[side].set_visible(False)
    ax.grid(visible=False)
    ax.set_xticks([])
    ax.set_yticks([])
    ax.set_xlim(-1.05, 3.3)
    ax.set_ylim(most - 0.4, -1.3)
    ax.axvline(0, color=SLATE, linewidth=0.7, ymax=0.9)
    ax.text(
        -1,
        -0.9,
        f"strongest {count(most, 'pair')}: r from −1 to 1",
        fontsize=8,
        color=INK,
        fontweight="bold",
    )
    for place, pair in enumerate(pairs[:most]):
        ax.barh(place, pair.r, color=AMBER, height=0.5, zorder=3)
        ax.barh(place, 2, left=-1, color=MIST, height=0.5, zorder=1)
        words = f"{fixed(pair.r, 2)}  {pair.names[0]} · {pair.names[1]}"
        ax.text(1.08, place, words, fontsize=7.5, color=INK, va="center")
