"""Levels one under the other: points where there are any, a mean or difference, its interval."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from matplotlib.axes import Axes
from matplotlib.figure import Figure

from joinery.show.palette import AMBER, INK, MIST, SLATE
from joinery.show.pictures.canvas import HIGH, Words, paper, sheet
from joinery.show.pictures.layout import keep_within

LINE = 0.24  # inches a level takes, where there are many
LEVEL_POINTS = 400  # of a level that are drawn beside its mean


@dataclass(frozen=True)
class Level:
    """A name, its values (n,) where they are drawn, the figure in the middle and its interval."""

    name: str
    values: np.ndarray
    middle: float
    lower: float
    upper: float


def levels(rows: Sequence[Level], words: Words, ax: Axes | None, *, zero: bool = True) -> Figure:
    """Draw a line for each level from the top down, on one scale, the names at the left in full."""
    if ax is None:
        high = max(HIGH, LINE * len(rows) + 1.6)
        figure, top = paper(words.title, words.finding, high)
        ax = figure.add_axes((0.2, 0.6 / high, 0.76, top - 0.6 / high))
        keep_within(ax, (0.02, 0.05 / high, 0.985, top + 0.005))
        sheet(ax, Words("", "", words.x, words.y))
    else:
        figure, ax = sheet(ax, words)
    ax.grid(visible=False)
    ax.grid(axis="x", color=MIST, linewidth=0.8)
    if zero:
        ax.axvline(0, color=SLATE, linewidth=1.0, zorder=1)
    rng = np.random.default_rng(1)
    places = list(range(len(rows)))[::-1]
    for place, row in zip(places, rows, strict=True):
        if len(row.values):
            some = row.values[:: math.ceil(len(row.values) / LEVEL_POINTS)]
            apart = rng.uniform(-0.22, 0.22, len(some))
            ax.scatter(some, place + apart, s=8, color=INK, alpha=0.45, linewidths=0, zorder=2)
        ax.plot([row.lower, row.upper], [place, place], color=AMBER, linewidth=2.4, zorder=3)
        ax.scatter([row.middle], [place], s=36, color=AMBER, zorder=4, linewidths=0)
    ax.set_yticks(places, [row.name for row in rows])
    ax.tick_params(axis="y", length=0, colors=INK)
    ax.set_ylim(-0.7, len(rows) - 0.3)
    return figure
