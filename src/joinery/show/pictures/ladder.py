"""The ladder of powers: how each suits, rung by rung, with the interval as a bracket beside it."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from matplotlib.axes import Axes
from matplotlib.figure import Figure

from joinery.show.numbers import figure as number
from joinery.show.palette import AMBER, INK, MIST, SLATE
from joinery.show.pictures.canvas import Words, paper, sheet
from joinery.show.pictures.layout import outermost


@dataclass(frozen=True)
class Step:
    """One rung: its name, its power, typical miss, fall in log likelihood, nearest or not."""

    name: str
    power: float
    miss: float
    below: float
    nearest: bool


def ladder(
    steps: Sequence[Step],
    ends: tuple[float, float, float],
    level: str,
    words: Words,
    ax: Axes | None,
) -> Figure:
    """Draw the rungs from the lowest power at the foot to the highest, and the interval of powers.

    ``ends`` are the interval's lower end, the best power and the upper end.
    """
    if ax is None:
        figure, top = paper(words.title, words.finding)
        ax = figure.add_axes((0.24, 0.115, 0.52, top - 0.175))
        _, ax = sheet(ax, Words("", "", words.x, words.y))
    else:
        figure, ax = sheet(ax, words)
    rung = list(range(len(steps)))
    ax.set_yticks(rung, [s.name for s in steps])
    ax.tick_params(axis="y", length=0, labelsize=11, colors=INK)
    ax.grid(axis="y", color=MIST, linewidth=2.2)
    across = ax.get_yaxis_transform()
    misses = np.array([s.miss for s in steps])
    for place, step in zip(rung, steps, strict=True):
        if step.nearest:
            color = AMBER
        else:
            color = INK
        if step.nearest:
            size = 120
        else:
            size = 46
        if math.isfinite(step.miss):
            ax.scatter([step.miss], [place], s=size, color=color, zorder=4, linewidths=0)
            above: dict[str, Any] = {
                "xytext": (0, 9),
                "textcoords": "offset points",
                "ha": "center",
            }
            ax.annotate(number(step.miss, 3), (step.miss, place), fontsize=8.5, color=INK, **above)
        else:
            remarks = "some fitted values cannot be back-transformed"
            ax.text(0.5, place + 0.22, remarks, transform=across, **_BESIDE | {"ha": "center"})
        ax.text(1.02, place, f"{number(step.below, 2)} below the best", transform=across, **_BESIDE)
    known = misses[np.isfinite(misses)]
    low, high = float(known.min()), float(known.max())
    room = 0.12 * (high - low) or 0.1 * high
    ax.set_xlim(low - room, high + room)
    ax.set_ylim(-0.7, len(steps) - 0.3)
    _bracket(ax, [s.power for s in steps], ends, level)
    heading = "log likelihood"
    ax.text(1.02, len(steps) - 0.35, heading, transform=across, **_BESIDE)
    return outermost(ax.figure)


_BESIDE: dict[str, Any] = {
    "fontsize": 8.5,
    "color": SLATE,
    "va": "center",
    "ha": "left",
    "clip_on": False,
}


def _bracket(
    ax: Axes, powers: Sequence[float], ends: tuple[float, float, float], level: str
) -> None:
    """The interval of powers, left of the rungs' names."""
    places = np.arange(len(powers))
    low, best, high = np.interp(ends, powers, places, left=-0.5, right=len(powers) - 0.5)
    at = ax.get_yaxis_transform()
    x = -0.17
    for xs, ys in (
        ([x, x], [low, high]),
        ([x, x + 0.02], [low, low]),
        ([x, x + 0.02], [high, high]),
    ):
        ax.plot(xs, ys, transform=at, color=AMBER, linewidth=2, clip_on=False)
    ax.plot([x], [best], transform=at, marker="o", color=AMBER, markersize=6, clip_on=False)
    middle = (low + high) / 2
    remarks = f"{level} interval of powers"
    ax.text(x - 0.035, middle, remarks, transform=at, rotation=90, **_BESIDE | {"ha": "right"})
