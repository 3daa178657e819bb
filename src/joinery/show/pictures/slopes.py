"""Slopes across a moderator, the ellipse of two coefficients, and shares against cut-offs."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from matplotlib.axes import Axes
from matplotlib.figure import Figure

from joinery.show.palette import AMBER, INK, MIST, SLATE, TEAL
from joinery.show.pictures.canvas import Words, bins_of, end_label, paper, sheet
from joinery.show.pictures.layout import keep_within


@dataclass(frozen=True)
class Across:
    """Slopes (m,) with their ends at values of the moderator, and its values in the rows (n,)."""

    at: np.ndarray
    slope: np.ndarray
    lower: np.ndarray
    upper: np.ndarray
    uncertain: Sequence[tuple[float, float]]  # stretches in which the interval holds zero
    seen: np.ndarray


def across_number(curve: Across, words: Words, ax: Axes | None) -> Figure:
    """Draw the slope with its band, zero, the uncertain stretch, the moderator under the axis."""
    strip = None
    if ax is None:
        figure, top = paper(words.title, words.finding)
        ax = figure.add_axes((0.095, 0.27, 0.865, top - 0.27))
        keep_within(ax, (0.02, 0.25, 0.985, top + 0.005))
        strip = figure.add_axes((0.095, 0.1, 0.865, 0.12), sharex=ax)
        sheet(ax, Words("", "", "", words.y, words.x_dates))
    else:
        figure, ax = sheet(ax, words)
    for start, stop in curve.uncertain:
        ax.axvspan(start, stop, color=MIST, alpha=0.7, linewidth=0, zorder=0.5)
    ax.axhline(0, color=SLATE, linewidth=1.2, zorder=2)
    ax.fill_between(curve.at, curve.lower, curve.upper, color=AMBER, alpha=0.25, linewidth=0)
    ax.plot(curve.at, curve.slope, color=AMBER, linewidth=2.2, zorder=3)
    ax.set_xlim(float(curve.at[0]), float(curve.at[-1]))
    if strip is not None:
        _under(strip, ax, curve.seen, words)
    return figure


def _under(strip: Axes, ax: Axes, seen: np.ndarray, words: Words) -> None:
    """The moderator's distribution as a strip below."""
    ax.tick_params(labelbottom=False)
    for side in ("top", "right", "left"):
        strip.spines[side].set_visible(False)
    strip.spines["bottom"].set_color(SLATE)
    if len(seen):
        strip.hist(seen, bins=bins_of(seen, 40), color=SLATE, alpha=0.6, linewidth=0)
    strip.set_yticks([])
    strip.tick_params(colors=SLATE, labelsize=9)
    strip.set_xlabel(words.x, color=INK, fontsize=10)
    strip.set_ylabel("rows", color=SLATE, fontsize=8.5)
    keep_within(strip, (0.02, 0.012, 0.985, 0.25))


def ellipse(
    middle: tuple[float, float],
    edge: np.ndarray,
    ends: tuple[tuple[float, float], tuple[float, float]],
    words: Words,
    ax: Axes | None,
) -> Figure:
    """Draw the joint region of two coefficients (2, m), with the interval of each by itself."""
    figure, ax = sheet(ax, words)
    ax.fill(edge[0], edge[1], color=AMBER, alpha=0.22, linewidth=0, zorder=1)
    ax.plot(edge[0], edge[1], color=AMBER, linewidth=2.0, zorder=3)
    ax.scatter(*middle, s=40, color=INK, zorder=4)
    dashes: dict[str, Any] = {"color": SLATE, "linewidth": 1.0, "linestyle": (0, (5, 3))}
    for x in ends[0]:
        ax.axvline(x, **dashes)
    for y in ends[1]:
        ax.axhline(y, **dashes)
    low, high = ax.get_xlim()
    if low <= 0 <= high or min(abs(low), abs(high)) < 0.4 * (high - low):
        ax.axvline(0, color=INK, linewidth=1.1)
    low, high = ax.get_ylim()
    if low <= 0 <= high or min(abs(low), abs(high)) < 0.4 * (high - low):
        ax.axhline(0, color=INK, linewidth=1.1)
    return figure


@dataclass(frozen=True)
class Share:
    """A share with its interval across cut-offs, each (m,), and its name."""

    name: str
    middle: np.ndarray
    lower: np.ndarray
    upper: np.ndarray


def shares(at: np.ndarray, of: Sequence[Share], words: Words, ax: Axes | None) -> Figure:
    """Draw shares right against the cut-off, each named at its end."""
    figure, ax = sheet(ax, words)
    for one, color in zip(of, (AMBER, TEAL), strict=False):
        known = np.isfinite(one.middle)
        ax.fill_between(at, one.lower, one.upper, color=color, alpha=0.18, linewidth=0)
        ax.plot(at, one.middle, color=color, linewidth=2.2)
        if known.any():
            last = np.flatnonzero(known)[-1]
        else:
            last = -1
        dark = "#8f5a08" if color == AMBER else color
        end_label(ax, float(at[last]), float(one.middle[last]), one.name, dark)
    ax.set_ylim(-0.02, 1.02)
    return figure
