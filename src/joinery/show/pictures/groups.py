"""Small multiples over groups of rows."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from joinery.show.palette import AMBER, INK, MIST, SLATE
from joinery.show.pictures.canvas import date_axis, panels, paper
from joinery.show.pictures.layout import stand_under
from joinery.show.pictures.short_names import brief

if TYPE_CHECKING:
    from matplotlib.figure import Figure

LINE_HIGH, LEAST_HIGH, ROOM = 0.24, 5.0, 1.7  # inches: of a group, of a picture, beside the panels
PANEL_HIGH, MOST_ACROSS = 1.75, 5
FAINT = 250  # points of a panel beyond which they are drawn fainter


@dataclass(frozen=True)
class IntervalPanel:
    """One coefficient: its estimate and interval in each group, (groups,)."""

    name: str
    middle: np.ndarray
    lower: np.ndarray
    upper: np.ndarray


@dataclass(frozen=True)
class LinePanel:
    """One group: its rows (n,), and its line at some places."""

    name: str
    x: np.ndarray
    y: np.ndarray
    grid: np.ndarray
    line: np.ndarray


def interval_panels(
    names: Sequence[str], shown: Sequence[IntervalPanel], title: str, finding: str
) -> Figure:
    """Draw intervals of each group side by side, a panel a coefficient, zero drawn."""
    high = max(LEAST_HIGH, LINE_HIGH * len(names) + ROOM)
    figure, top = paper(title, finding, high)
    columns = min(len(shown), 3)
    rows = math.ceil(len(shown) / columns)
    if rows > 1:
        figure.set_size_inches(figure.get_size_inches()[0], high * rows * 0.75)
    axes = panels(figure, top, rows, columns, gap=(0.13, 0.05), above=0.05)
    places = np.arange(len(names))[::-1]
    for ax, panel in zip(axes, shown, strict=False):
        ax.grid(visible=False)
        ax.grid(axis="x", color=MIST, linewidth=0.8)
        ax.axvline(0, color=SLATE, linewidth=1.0, zorder=1)
        ax.hlines(places, panel.lower, panel.upper, color=AMBER, linewidth=2.2, zorder=2)
        ax.scatter(panel.middle, places, s=22, color=AMBER, linewidths=0, zorder=3)
        ax.set_yticks(places, [brief(name) for name in names])
        ax.tick_params(axis="y", length=0, colors=INK, labelsize=8)
        ax.set_ylim(-0.7, len(names) - 0.3)
        ax.set_title(panel.name, loc="left", fontsize=9, color=INK)
    for ax in axes[len(shown) :]:
        ax.remove()
    return figure


def line_panels(
    shown: Sequence[LinePanel],
    together: tuple[np.ndarray, np.ndarray],
    title: str,
    finding: str,
    x_label: str,
    y_label: str,
    *,
    dates: bool = False,
    under: str = "",
) -> Figure:
    """Draw a panel a group on one scale: its rows and its line in amber, that of all rows in
    slate."""
    across = min(MOST_ACROSS, max(2, math.ceil(math.sqrt(len(shown)))))
    rows = math.ceil(len(shown) / across)
    figure, top = paper(
        title, f"{finding}; grey: one line for all", max(LEAST_HIGH, PANEL_HIGH * rows + 1)
    )
    stand_under(figure, under)
    axes = panels(figure, top, rows, across, gap=(0.055, 0.085), above=0.045)
    every_y = np.concatenate([panel.y for panel in shown])
    low, high = float(np.nanmin(every_y)), float(np.nanmax(every_y))
    margin = 0.05 * (high - low) or 1.0
    for place, (ax, panel) in enumerate(zip(axes, shown, strict=False)):
        ax.plot(*together, color=SLATE, linewidth=1.0, zorder=1)
        alpha = 0.75 if len(panel.x) <= FAINT else 0.2
        ax.scatter(panel.x, panel.y, s=9, color=INK, alpha=alpha, linewidths=0, zorder=2)
        ax.plot(panel.grid, panel.line, color=AMBER, linewidth=2.2, zorder=3)
        ax.set_ylim(low - margin, high + margin)
        first, last = float(together[0][0]), float(together[0][-1])
        ax.set_xlim(first - 0.04 * (last - first), last + 0.04 * (last - first))
        ax.set_title(brief(panel.name), loc="left", fontsize=8.5, color=INK)
        if dates:
            date_axis(ax, 2)
        if place + across >= len(shown):
            ax.set_xlabel(x_label, fontsize=8, color=INK)
        if place % across == 0:
            ax.set_ylabel(y_label, fontsize=8, color=INK)
    for ax in axes[len(shown) :]:
        ax.remove()
    return figure
