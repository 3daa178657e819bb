"""The pictures of a fit: handed arrays and words, they ask no statistical question."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from matplotlib.axes import Axes
from matplotlib.figure import Figure

from joinery.core.smooth import Smooth
from joinery.show.canvas import end_label, label_points, points, ring, sheet
from joinery.show.palette import AMBER, MIST, SLATE, TEAL


@dataclass(frozen=True)
class Words:
    """What is written on a picture."""

    title: str
    finding: str
    x: str
    y: str


@dataclass(frozen=True)
class Flag:
    """A remarkable point: its place among the points, its label, and whether it is serious."""

    place: int
    label: str
    serious: bool


@dataclass(frozen=True)
class Curve:
    """A fitted curve with its two bands, at ``x``; ``seen`` is the range of the data, beyond it is drawn dashed."""

    x: np.ndarray
    fitted: np.ndarray
    mean: tuple[np.ndarray, np.ndarray]
    new: tuple[np.ndarray, np.ndarray]
    seen: tuple[float, float]


def _mark(ax: Axes, x: np.ndarray, y: np.ndarray, flags: Sequence[Flag]) -> None:
    if not flags:
        return
    places = np.array([f.place for f in flags])
    ring(ax, x[places], y[places], [f.serious for f in flags])
    label_points(ax, x[places], y[places], [f.label for f in flags], (x, y))


def line(x: np.ndarray, y: np.ndarray, curve: Curve, flags: Sequence[Flag], words: Words, ax: Axes | None) -> Figure:
    """Scatter, fitted line or curve, the band for the mean, and the lighter band for a new row."""
    figure, ax = sheet(ax, title=words.title, finding=words.finding, x_label=words.x, y_label=words.y)
    ax.fill_between(curve.x, *curve.new, color=MIST, alpha=0.55, linewidth=0, zorder=1)
    ax.fill_between(curve.x, *curve.mean, color=AMBER, alpha=0.28, linewidth=0, zorder=2)
    points(ax, x, y)
    inside = (curve.x >= curve.seen[0]) & (curve.x <= curve.seen[1])
    ax.plot(curve.x[inside], curve.fitted[inside], color=AMBER, linewidth=2.2, zorder=3.5)
    for beyond in (curve.x <= curve.seen[0], curve.x >= curve.seen[1]):
        ax.plot(curve.x[beyond], curve.fitted[beyond], color=AMBER, linewidth=1.6, linestyle=(0, (4, 3)), zorder=3.5)
    span = curve.x[-1] - curve.x[0]
    ax.set_xlim(curve.x[0], curve.x[-1] + 0.09 * span)
    if np.isfinite(curve.new[1][-1]):
        tops = (curve.new[1][-1], curve.mean[1][-1])
        low, high = ax.get_ylim()
        end_label(ax, curve.x[-1], tops[0], "new row")
        if tops[0] - tops[1] > 0.05 * (high - low):
            end_label(ax, curve.x[-1], tops[1], "mean")
    _mark(ax, x, y, flags)
    return figure


def residuals(
    x: np.ndarray, residual: np.ndarray, curve: Smooth | None, flags: Sequence[Flag], words: Words, ax: Axes | None
) -> Figure:
    """Residuals across something, with a smooth and its band: the eye sees trend and fan at once."""
    figure, ax = sheet(ax, title=words.title, finding=words.finding, x_label=words.x, y_label=words.y)
    # as far as the data only, so that it does not strike through the label at the smooth's end
    ax.plot([np.min(x), np.max(x)], [0, 0], color=SLATE, linewidth=1.0, zorder=2)
    points(ax, x, residual)
    if curve is not None:
        ax.fill_between(
            curve.at,
            curve.height - 2 * curve.error,
            curve.height + 2 * curve.error,
            color=TEAL,
            alpha=0.16,
            linewidth=0,
        )
        ax.plot(curve.at, curve.height, color=TEAL, linewidth=2.0, zorder=3.5)
        low, high = ax.get_xlim()
        ax.set_xlim(low, high + 0.05 * (high - low))
        end_label(ax, float(curve.at[-1]), float(curve.height[-1]), "smooth", TEAL)
    _mark(ax, x, residual, flags)
    return figure


def quantiles(
    expected: np.ndarray,
    observed: np.ndarray,
    band: tuple[np.ndarray, np.ndarray],
    flags: Sequence[Flag],
    words: Words,
    ax: Axes | None,
) -> Figure:
    """Sorted residuals against the quantiles a normal sample would have, with the band that chance allows."""
    figure, ax = sheet(ax, title=words.title, finding=words.finding, x_label=words.x, y_label=words.y)
    ax.fill_between(expected, *band, color=MIST, alpha=0.8, linewidth=0, zorder=1)
    ends = np.array([expected[0], expected[-1]])
    ax.plot(ends, ends, color=SLATE, linewidth=1.2, zorder=2)
    points(ax, expected, observed)
    end_label(ax, float(expected[-1]), float(band[0][-1]), "95 % by chance")
    low, high = ax.get_xlim()
    ax.set_xlim(low, high + 0.09 * (high - low))
    _mark(ax, expected, observed, flags)
    return figure
