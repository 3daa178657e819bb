"""The pictures of a fit: handed arrays and words, they ask no statistical question."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from matplotlib.axes import Axes
from matplotlib.figure import Figure

from joinery.core.inference.smooth import Smooth
from joinery.show.palette import AMBER, INK, MIST, RUST, SLATE, TEAL
from joinery.show.pictures.canvas import DENSE, Chances, Words, end_label, points, sheet
from joinery.show.pictures.flags import Flag, mark


@dataclass(frozen=True)
class Curve:
    """A fitted curve with its two bands, at ``x``.

    ``seen`` is the range of the data, beyond it is drawn dashed.
    """

    x: np.ndarray
    fitted: np.ndarray
    mean: tuple[np.ndarray, np.ndarray]
    new: tuple[np.ndarray, np.ndarray]
    seen: tuple[float, float]


@dataclass(frozen=True)
class Named:
    """A curve with the name that stands at its end."""

    name: str
    curve: Curve


SERIES = (TEAL, "#5b6fb0", "#8a5a83", "#6f8f3a", SLATE, INK)
SHAPES = ("o", "s", "^", "D", "v", "P", "X")
HEADROOM = 0.08  # over the highest point, as a share of the height
AMBER_WORDS = "#8f5a08"  # amber for words: it keeps 4.5 : 1 on paper


def line(
    x: np.ndarray,
    y: np.ndarray,
    curve: Curve,
    flags: Sequence[Flag],
    words: Words,
    ax: Axes | None,
    local: Smooth | None = None,
    groups: tuple[np.ndarray, np.ndarray] | None = None,
    beside: Sequence[Named] = (),
    rows: np.ndarray | None = None,
) -> Figure:
    """Draw scatter, fitted line or curve, both bands, and a thin smooth.

    ``groups`` are means of the response in groups of x, drawn as diamonds; ``beside`` the curves
    of other fits, which leave the new row's band away.
    """
    figure, ax = sheet(ax, words)
    if not beside:
        ax.fill_between(curve.x, *curve.new, color=MIST, alpha=0.55, linewidth=0, zorder=1)
    ax.fill_between(curve.x, *curve.mean, color=AMBER, alpha=0.28, linewidth=0, zorder=2)
    points(ax, x, y, rows=rows)
    _trace(ax, curve, AMBER)
    for place, other in enumerate(beside):
        _trace(ax, other.curve, SERIES[place % len(SERIES)])
    if groups is not None:
        ax.yaxis.set_major_formatter(Chances())
        ax.scatter(*groups, s=48, marker="D", color=TEAL, zorder=3.8)
    if local is not None:
        ax.plot(
            local.at, local.height, color=TEAL, linewidth=1.3, linestyle=(0, (1, 1.2)), zorder=3.4
        )
        end_label(ax, *_last(local), "smooth", TEAL)
    span = curve.x[-1] - curve.x[0]
    ax.set_xlim(curve.x[0], curve.x[-1] + 0.09 * span)
    if beside:
        _name_ends(ax, [Named("this fit", curve), *beside], [AMBER_WORDS, *SERIES])
    elif np.isfinite(curve.new[1][-1]):
        tops = (curve.new[1][-1], curve.mean[1][-1])
        low, high = ax.get_ylim()
        end_label(ax, curve.x[-1], tops[0], "new row")
        if tops[0] - tops[1] > 0.05 * (high - low):
            end_label(ax, curve.x[-1], tops[1], "mean")
    mark(ax, x, y, flags)
    return figure


def carried(
    ax: Axes, at: float, readings: Sequence[tuple[float, Sequence[tuple[float, float]]]]
) -> None:
    """Carry a reading on the upright axis over to its values on the other one.

    Each value comes with the stretches that agree with the reading; ends without bound run to the
    edge of the picture."""
    left, right = ax.get_xlim()
    low, high = ax.get_ylim()
    known = [v for v, _ in readings if np.isfinite(v)]
    left, right = min([left, *known]), max([right, *known])
    for v, stretches in readings:
        if np.isfinite(v):
            ax.plot([left, v, v], [at, at, low], color=RUST, linewidth=1.6, zorder=4)
        for start, stop in stretches:
            ends = max(start, left), min(stop, right)
            ax.plot(
                ends,
                [low, low],
                color=RUST,
                linewidth=6,
                solid_capstyle="butt",
                zorder=5,
                clip_on=False,
            )
    ax.set_xlim(left, right)
    ax.set_ylim(min(low, at), max(high, at))


def lines(
    x: np.ndarray,
    y: np.ndarray,
    named: Sequence[Named],
    groups: np.ndarray | None,
    flags: Sequence[Flag],
    words: Words,
    ax: Axes | None,
) -> Figure:
    """Draw a scatter with one curve a level or value, each named at its end, bands kept light.

    ``groups`` (n,) says to which curve a row belongs, where it belongs to one.
    """
    figure, ax = sheet(ax, words)
    colors = [AMBER, *SERIES]
    shades = [AMBER_WORDS, *SERIES]
    for place, one in enumerate(named):
        color = colors[place % len(colors)]
        ax.fill_between(one.curve.x, *one.curve.mean, color=color, alpha=0.13, linewidth=0)
        _trace(ax, one.curve, color)
        if groups is not None and len(x) <= DENSE:
            mine = groups == place
            shape = SHAPES[place % len(SHAPES)]
            ax.scatter(x[mine], y[mine], s=20, color=color, marker=shape, alpha=0.75, linewidths=0)
    if groups is None or len(x) > DENSE:
        points(ax, x, y)
    _name_ends(ax, named, shades)
    mark(ax, x, y, flags)
    return figure


def _trace(ax: Axes, curve: Curve, color: str) -> None:
    """The curve, dashed beyond what was seen."""
    inside = (curve.x >= curve.seen[0]) & (curve.x <= curve.seen[1])
    ax.plot(curve.x[inside], curve.fitted[inside], color=color, linewidth=2.2, zorder=3.5)
    dashed: dict[str, Any] = {"linewidth": 1.6, "linestyle": (0, (4, 3)), "zorder": 3.5}
    for beyond in (curve.x <= max(curve.seen[0], curve.x[0]), curve.x >= curve.seen[1]):
        ax.plot(curve.x[beyond], curve.fitted[beyond], color=color, **dashed)


def _name_ends(ax: Axes, named: Sequence[Named], colors: Sequence[str]) -> None:
    for place, one in enumerate(named):
        known = np.flatnonzero(np.isfinite(one.curve.fitted))
        if len(known):
            last = known[-1]
            at = float(one.curve.x[last]), float(one.curve.fitted[last])
            end_label(ax, *at, one.name, colors[place % len(colors)])


@dataclass(frozen=True)
class Guide:
    """A straight line to read points by: its ends, and a name at the right end."""

    x: tuple[float, float]
    y: tuple[float, float]
    name: str = ""
    amber: bool = False


def cloud(
    x: np.ndarray,
    y: np.ndarray,
    flags: Sequence[Flag],
    words: Words,
    ax: Axes | None,
    *,
    curve: Smooth | None = None,
    guides: Sequence[Guide] = (),
    joined: bool = False,
    name: str = "smooth",
    floor: float | None = None,
    rows: np.ndarray | None = None,
) -> Figure:
    """Draw points with lines to read them by, and a smooth with its band, called ``name``.

    ``floor`` is the lowest value there is.
    """
    figure, ax = sheet(ax, words)
    for guide in guides:
        color, wide = (AMBER, 2.0) if guide.amber else (SLATE, 1.0)
        ax.plot(guide.x, guide.y, color=color, linewidth=wide, zorder=3.2 if guide.amber else 2)
    if joined and len(x) <= 2000:
        ax.plot(x, y, color=SLATE, linewidth=0.6, alpha=0.7, zorder=2.5)
    points(ax, x, y, rows=rows)
    names = [(g.x[1], g.y[1], g.name, SLATE) for g in guides if g.name]
    if curve is not None:
        band = curve.height - 2 * curve.error, curve.height + 2 * curve.error
        if floor is not None:
            band = (np.maximum(band[0], floor), band[1])
        ax.fill_between(curve.at, *band, color=TEAL, alpha=0.16, linewidth=0)
        ax.plot(curve.at, curve.height, color=TEAL, linewidth=2.0, zorder=3.5)
        names.append((*_last(curve), name, TEAL))
    if floor is not None:  # where rows are few a band may reach far beyond them
        highest = max([float(np.nanmax(y)), *(curve.height if curve is not None else ())])
        ax.set_ylim(floor, floor + (highest - floor) * (1 + HEADROOM))
    if names:
        low, high = ax.get_xlim()
        ax.set_xlim(low, high + 0.008 * max(len(n[2]) for n in names) * (high - low))
        for place in names:
            end_label(ax, *place)
    mark(ax, x, y, flags)
    return figure


def _last(curve: Smooth) -> tuple[float, float]:
    """Return where a smooth ends: it is not drawn where no points are."""
    drawn = np.flatnonzero(np.isfinite(curve.height))
    if len(drawn):
        last = drawn[-1]
    else:
        last = -1
    return float(curve.at[last]), float(curve.height[last])


def zero(x: np.ndarray) -> Guide:
    """Draw the zero line as far as the data, so that it strikes through no label."""
    return Guide((float(np.min(x)), float(np.max(x))), (0.0, 0.0))


def histogram(
    values: np.ndarray,
    curve: tuple[np.ndarray, np.ndarray],
    flags: Sequence[Flag],
    words: Words,
    ax: Axes | None,
) -> Figure:
    """Draw a histogram with the normal curve that has the same spread, remarkable rows under it."""
    figure, ax = sheet(ax, words)
    bins = int(np.clip(2 * len(values) ** (1 / 3) * 1.2, 8, 60))
    ax.hist(values, bins=bins, color=SLATE, alpha=0.55, linewidth=0, density=True)
    ax.plot(*curve, color=TEAL, linewidth=2.0)
    top = int(np.argmax(curve[1])) + len(curve[0]) // 12
    at = (float(curve[0][top]), float(curve[1][top]))
    ax.annotate("normal", at, xytext=(6, 4), textcoords="offset points", color=TEAL, fontsize=8.5)
    if flags:
        mark(ax, values, np.zeros(len(values)), flags)
    return figure


def quantiles(
    expected: np.ndarray,
    observed: np.ndarray,
    band: tuple[np.ndarray, np.ndarray],
    flags: Sequence[Flag],
    words: Words,
    ax: Axes | None,
    rows: np.ndarray | None = None,
) -> Figure:
    """Draw sorted residuals against normal quantiles, with the band that chance allows."""
    figure, ax = sheet(ax, words)
    # an outline needs no more corners
    some = np.unique(np.linspace(0, len(expected) - 1, 2000).astype(int))
    ax.fill_between(
        expected[some], band[0][some], band[1][some], color=MIST, alpha=0.8, linewidth=0, zorder=1
    )
    ends = np.array([expected[0], expected[-1]])
    ax.plot(ends, ends, color=SLATE, linewidth=1.2, zorder=2)
    points(ax, expected, observed, rows=rows)
    end_label(ax, float(expected[-1]), float(band[0][-1]), "95 % by chance")
    low, high = ax.get_xlim()
    ax.set_xlim(low, high + 0.09 * (high - low))
    mark(ax, expected, observed, flags)
    return figure


def calibrated(
    fitted: np.ndarray, share: np.ndarray, half_width: np.ndarray, words: Words, ax: Axes | None
) -> Figure:
    """Draw observed shares of groups against fitted ones, with what chance allows."""
    figure, ax = sheet(ax, words)
    ends = [
        min(float(fitted.min()), float(share.min()), 1.0),
        max(float(fitted.max()), float(share.max()), 0.0),
    ]
    ax.plot(ends, ends, color=SLATE, linewidth=1.0, zorder=2)
    end_label(ax, ends[1], ends[1], "equal")
    order = np.argsort(fitted)
    low, high = np.clip(fitted - half_width, 0, 1)[order], np.clip(fitted + half_width, 0, 1)[order]
    ax.fill_between(fitted[order], low, high, color=MIST, alpha=0.8, linewidth=0, zorder=1)
    ax.scatter(fitted, share, s=48, marker="D", color=TEAL, zorder=4)
    return figure


def observed_shares(
    fitted: np.ndarray,
    share: np.ndarray,
    ends: tuple[np.ndarray, np.ndarray],
    words: Words,
    ax: Axes | None,
) -> Figure:
    """Draw observed shares against fitted chances (m,), with intervals and the line of equality."""
    figure, ax = sheet(ax, words)
    ax.plot([0, 1], [0, 1], color=SLATE, linewidth=1.0, zorder=2)
    end_label(ax, 1.0, 1.0, "equal")
    reach = np.vstack([share - ends[0], ends[1] - share])
    style: dict[str, Any] = {"fmt": "D", "color": TEAL, "markersize": 6, "linewidth": 1.6}
    ax.errorbar(fitted, share, reach, zorder=4, **style)
    ax.set_xlim(-0.02, 1.02)
    ax.set_ylim(-0.02, 1.04)
    return figure


@dataclass(frozen=True)
class Band:
    """Forecasts (m,) at x, with both intervals."""

    x: np.ndarray
    fitted: np.ndarray
    mean: tuple[np.ndarray, np.ndarray]
    new: tuple[np.ndarray, np.ndarray]


def in_time(
    x: np.ndarray,
    observed: np.ndarray,
    fitted: tuple[np.ndarray, np.ndarray],
    ahead: Band | None,
    flags: Sequence[Flag],
    words: Words,
    ax: Axes | None,
) -> Figure:
    """Draw observed values joined thinly, the fitted ones in amber, forecasts with both bands."""
    figure, ax = sheet(ax, words)
    if len(x) <= 2000:
        ax.plot(x, observed, color=SLATE, linewidth=0.6, alpha=0.7, zorder=2)
    points(ax, x, observed, size=14)
    ax.plot(*fitted, color=AMBER, linewidth=1.8, zorder=3.5)
    if ahead is not None:
        ax.fill_between(ahead.x, *ahead.new, color=MIST, alpha=0.8, linewidth=0, zorder=1)
        ax.fill_between(ahead.x, *ahead.mean, color=AMBER, alpha=0.28, linewidth=0, zorder=1.5)
        ax.plot(
            ahead.x, ahead.fitted, color=AMBER, linewidth=1.8, linestyle=(0, (4, 3)), zorder=3.5
        )
        ax.scatter(ahead.x, ahead.fitted, s=18, color=AMBER, linewidths=0, zorder=4)
        if len(ahead.x) == 1:
            for ends, wide in ((ahead.new, 1.4), (ahead.mean, 4.0)):
                ax.vlines(ahead.x, *ends, color=AMBER, linewidth=wide, alpha=0.7)
    mark(ax, x, observed, flags)
    return figure
