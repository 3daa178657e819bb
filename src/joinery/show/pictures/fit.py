"""The pictures of a fit: handed arrays and words, they ask no statistical question."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from matplotlib.axes import Axes
from matplotlib.figure import Figure

from joinery.core.inference.smooth import Smooth
from joinery.show.palette import AMBER, INK, MIST, RUST, SLATE, TEAL
from joinery.show.pictures.canvas import DENSE, end_label, label_points, points, ring, sheet


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
    """A fitted curve with its two bands, at ``x``.

    ``seen`` is the range of the data, beyond it is drawn dashed.
    """

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


def line(
    x: np.ndarray,
    y: np.ndarray,
    curve: Curve,
    flags: Sequence[Flag],
    words: Words,
    ax: Axes | None,
    local: Smooth | None = None,
    groups: tuple[np.ndarray, np.ndarray] | None = None,
) -> Figure:
    """Scatter, fitted line or curve, both bands, and a thin smooth.

    ``groups`` are means of the response in groups of x, drawn as diamonds.
    """
    figure, ax = sheet(
        ax, title=words.title, finding=words.finding, x_label=words.x, y_label=words.y
    )
    ax.fill_between(curve.x, *curve.new, color=MIST, alpha=0.55, linewidth=0, zorder=1)
    ax.fill_between(curve.x, *curve.mean, color=AMBER, alpha=0.28, linewidth=0, zorder=2)
    points(ax, x, y)
    inside = (curve.x >= curve.seen[0]) & (curve.x <= curve.seen[1])
    ax.plot(curve.x[inside], curve.fitted[inside], color=AMBER, linewidth=2.2, zorder=3.5)
    for beyond in (curve.x <= curve.seen[0], curve.x >= curve.seen[1]):
        ax.plot(
            curve.x[beyond],
            curve.fitted[beyond],
            color=AMBER,
            linewidth=1.6,
            linestyle=(0, (4, 3)),
            zorder=3.5,
        )
    if groups is not None:
        ax.scatter(*groups, s=48, marker="D", color=TEAL, zorder=3.8)
    if local is not None:
        ax.plot(
            local.at, local.height, color=TEAL, linewidth=1.3, linestyle=(0, (1, 1.2)), zorder=3.4
        )
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
) -> Figure:
    """Points with lines to read them by, and a smooth with its band."""
    figure, ax = sheet(
        ax, title=words.title, finding=words.finding, x_label=words.x, y_label=words.y
    )
    for guide in guides:
        color, wide = (AMBER, 2.0) if guide.amber else (SLATE, 1.0)
        ax.plot(guide.x, guide.y, color=color, linewidth=wide, zorder=3.2 if guide.amber else 2)
    if joined and len(x) <= 2000:
        ax.plot(x, y, color=SLATE, linewidth=0.6, alpha=0.7, zorder=2.5)
    points(ax, x, y)
    names = [(g.x[1], g.y[1], g.name, SLATE) for g in guides if g.name]
    if curve is not None:
        band = curve.height - 2 * curve.error, curve.height + 2 * curve.error
        ax.fill_between(curve.at, *band, color=TEAL, alpha=0.16, linewidth=0)
        ax.plot(curve.at, curve.height, color=TEAL, linewidth=2.0, zorder=3.5)
        names.append((float(curve.at[-1]), float(curve.height[-1]), "smooth", TEAL))
    if names:
        low, high = ax.get_xlim()
        ax.set_xlim(low, high + 0.008 * max(len(n[2]) for n in names) * (high - low))
        for place in names:
            end_label(ax, *place)
    _mark(ax, x, y, flags)
    return figure


def zero(x: np.ndarray) -> Guide:
    """Draw the zero line as far as the data, so that it strikes through no label."""
    return Guide((float(np.min(x)), float(np.max(x))), (0.0, 0.0))


def histogram(
    values: np.ndarray, curve: tuple[np.ndarray, np.ndarray], words: Words, ax: Axes | None
) -> Figure:
    """A histogram with the normal curve that has the same spread."""
    figure, ax = sheet(
        ax, title=words.title, finding=words.finding, x_label=words.x, y_label=words.y
    )
    bins = int(np.clip(2 * len(values) ** (1 / 3) * 1.2, 8, 60))
    ax.hist(values, bins=bins, color=SLATE, alpha=0.55, linewidth=0, density=True)
    ax.plot(*curve, color=TEAL, linewidth=2.0)
    top = int(np.argmax(curve[1])) + len(curve[0]) // 12
    at = (float(curve[0][top]), float(curve[1][top]))
    ax.annotate("normal", at, xytext=(6, 4), textcoords="offset points", color=TEAL, fontsize=8.5)
    return figure


@dataclass(frozen=True)
class Regions:
    """From where on a row is far out, and badly fitted."""

    far: float
    badly: float


def leverage(
    h: np.ndarray,
    t: np.ndarray,
    at: Regions,
    verdicts: np.ndarray,
    flags: Sequence[Flag],
    words: Words,
    ax: Axes | None,
) -> Figure:
    """Leverage across, studentized residual up.

    Regions shaded and named, points filled by verdict.
    """
    figure, ax = sheet(
        ax, title=words.title, finding=words.finding, x_label=words.x, y_label=words.y
    )
    sound = np.isfinite(t)
    wide = max(float(np.nanmax(h)) * 1.12, at.far * 1.35)
    high = max(float(np.max(np.abs(t[sound]), initial=0.0)) * 1.15, at.badly * 1.3)
    ax.set_xlim(0, wide)
    ax.set_ylim(-high, high)
    for top, bottom in ((high, at.badly), (-at.badly, -high)):
        ax.fill_between([0, at.far], bottom, top, color=MIST, alpha=0.75, linewidth=0, zorder=0.5)
        ax.fill_between(
            [at.far, wide], bottom, top, color=RUST, alpha=0.16, linewidth=0, zorder=0.5
        )
    ax.fill_between(
        [at.far, wide], -at.badly, at.badly, color=TEAL, alpha=0.10, linewidth=0, zorder=0.5
    )
    for x, y, name, side in (
        (0.01 * wide, high * 0.98, "badly fitted", "left"),
        (wide * 0.99, high * 0.98, "far out and badly fitted", "right"),
        (wide * 0.99, at.badly * 0.96, "far out but well fitted", "right"),
    ):
        ax.text(x, y, name, ha=side, va="top", fontsize=8.5, color=SLATE, zorder=2)
    many = len(h) > DENSE
    if many:
        points(ax, h[sound], t[sound])
    for verdict, color in (("serious", RUST), ("caution", AMBER), ("fine", INK)):
        chosen = sound & (verdicts == verdict)
        if not many or verdict != "fine":
            ax.scatter(
                h[chosen],
                t[chosen],
                s=26,
                color=color,
                alpha=0.6 if verdict == "fine" else 0.85,
                linewidths=0,
                zorder=3,
            )
    ax.axhline(0, color=SLATE, linewidth=0.8, zorder=1)
    _mark(ax, h, np.where(sound, t, 0.0), flags)
    return figure


def stems(
    heights: np.ndarray,
    limits: Sequence[tuple[float, str]],
    flags: Sequence[Flag],
    words: Words,
    ax: Axes | None,
) -> Figure:
    """A stem for each row, with limits drawn and named."""
    figure, ax = sheet(
        ax, title=words.title, finding=words.finding, x_label=words.x, y_label=words.y
    )
    shown = np.where(np.isfinite(heights), heights, 0.0)
    places = np.arange(len(shown))
    if len(shown) > DENSE:  # of a great many rows the tallest stand for all
        places = np.sort(np.argpartition(-shown, DENSE)[:DENSE])
    ax.vlines(places, 0, shown[places], color=SLATE, linewidth=0.9, zorder=2)
    ax.scatter(places, shown[places], s=9, color=INK, linewidths=0, zorder=3)
    top = float(shown.max(initial=0.0))
    ax.set_xlim(-0.02 * len(shown) - 0.5, len(shown) * 1.02)
    ax.set_ylim(0, max(1.14 * top, 1e-12))
    above = []
    for limit, name in limits:
        if limit <= 1.6 * max(top, 1e-12):
            ax.set_ylim(0, max(ax.get_ylim()[1], limit * 1.12))
            ax.axhline(limit, color=RUST, linewidth=1.0, linestyle=(0, (5, 3)), zorder=1.5)
            ax.annotate(
                name,
                (0, limit),
                xytext=(4, 3),
                textcoords="offset points",
                fontsize=8.5,
                color=SLATE,
            )
        else:
            above.append(name)
    if above:
        note = f"beyond this picture: {'; '.join(above)}"
        ax.text(
            0.99,
            0.985,
            note,
            transform=ax.transAxes,
            fontsize=8.5,
            color=SLATE,
            ha="right",
            va="top",
        )
    _mark(ax, np.arange(len(shown), dtype=float), shown, flags)
    return figure


def quantiles(
    expected: np.ndarray,
    observed: np.ndarray,
    band: tuple[np.ndarray, np.ndarray],
    flags: Sequence[Flag],
    words: Words,
    ax: Axes | None,
) -> Figure:
    """Sorted residuals against normal quantiles, with the band that chance allows."""
    figure, ax = sheet(
        ax, title=words.title, finding=words.finding, x_label=words.x, y_label=words.y
    )
    some = np.unique(
        np.linspace(0, len(expected) - 1, 2000).astype(int)
    )  # an outline needs no more corners
    ax.fill_between(
        expected[some], band[0][some], band[1][some], color=MIST, alpha=0.8, linewidth=0, zorder=1
    )
    ends = np.array([expected[0], expected[-1]])
    ax.plot(ends, ends, color=SLATE, linewidth=1.2, zorder=2)
    points(ax, expected, observed)
    end_label(ax, float(expected[-1]), float(band[0][-1]), "95 % by chance")
    low, high = ax.get_xlim()
    ax.set_xlim(low, high + 0.09 * (high - low))
    _mark(ax, expected, observed, flags)
    return figure


def profile(
    x: np.ndarray,
    y: np.ndarray,
    ends: tuple[float, float, float],
    marks: Sequence[tuple[float, str]],
    chosen: float | None,
    words: Words,
    ax: Axes | None,
) -> Figure:
    """A likelihood curve with its best value, its interval, and simple values by name."""
    figure, ax = sheet(
        ax, title=words.title, finding=words.finding, x_label=words.x, y_label=words.y
    )
    low, best, high = ends
    ax.axvspan(max(low, float(x[0])), min(high, float(x[-1])), color=TEAL, alpha=0.13, linewidth=0)
    ax.plot(x, y, color=AMBER, linewidth=2.2, zorder=3)
    ax.axvline(best, color=SLATE, linewidth=1.0, zorder=2)
    for at, name in marks:
        bold = "bold" if at == chosen else "normal"
        height = float(np.interp(at, x, y))
        ax.scatter([at], [height], s=26, color=INK, zorder=4)
        ax.annotate(
            name,
            (at, height),
            xytext=(0, -15),
            textcoords="offset points",
            fontsize=8.5,
            color=INK,
            ha="center",
            fontweight=bold,
            zorder=5,
        )
    bottom, top = ax.get_ylim()
    ax.set_ylim(bottom - 0.08 * (top - bottom), top)
    return figure


@dataclass(frozen=True)
class Ahead:
    """Forecasts to draw, each (m,): fitted, both intervals, what came, what is far."""

    labels: Sequence[str]
    fitted: np.ndarray
    mean: tuple[np.ndarray, np.ndarray]
    new: tuple[np.ndarray, np.ndarray]
    observed: np.ndarray | None
    outside: np.ndarray


def forecasts(rows: Ahead, words: Words, ax: Axes | None) -> Figure:
    """Each row's forecast with its two intervals; dashed where it lies outside what was seen.

    Observed as diamonds.
    """
    figure, ax = sheet(
        ax, title=words.title, finding=words.finding, x_label=words.x, y_label=words.y
    )
    m = len(rows.fitted)
    places = np.arange(m)[::-1]
    ax.grid(visible=False)
    ax.grid(axis="x", color=MIST, linewidth=0.8)
    for i, place in enumerate(places):
        dashes = (0, (2, 1.6)) if rows.outside[i] else "solid"
        if np.isfinite(rows.new[0][i]):
            ax.plot(
                [rows.new[0][i], rows.new[1][i]],
                [place, place],
                color=SLATE,
                linewidth=1.4,
                linestyle=dashes,
            )
        if np.isfinite(rows.mean[0][i]):
            ax.plot(
                [rows.mean[0][i], rows.mean[1][i]],
                [place, place],
                color=AMBER,
                linewidth=5,
                solid_capstyle="butt",
                alpha=0.75,
                linestyle=dashes,
            )
    ax.scatter(rows.fitted, places, s=34, color=INK, zorder=4)
    if rows.observed is not None:
        ax.scatter(rows.observed, places, s=44, marker="D", color=TEAL, zorder=5)
    step = max(1, m // 24)
    ax.set_yticks(places[::step], [rows.labels[i] for i in range(0, m, step)])
    ax.set_ylim(-0.8, m - 0.2)
    names = [("● forecast", INK), ("▬ mean", SLATE), ("─ new row", SLATE)]
    names += [("◆ observed", TEAL)] if rows.observed is not None else []
    for place, (name, color) in enumerate(reversed(names)):
        at = (1 - 0.13 * place, 1.015)
        ax.text(
            *at, name, transform=ax.transAxes, fontsize=8.5, color=color, ha="right", va="bottom"
        )
    longest = max((len(label) for label in rows.labels), default=0)
    box = ax.get_position()
    left = max(box.x0, 0.03 + 0.0088 * longest)
    ax.set_position((left, box.y0, box.x1 - left, box.height))
    return figure


def calibrated(
    fitted: np.ndarray, share: np.ndarray, half_width: np.ndarray, words: Words, ax: Axes | None
) -> Figure:
    """Observed shares of groups against fitted ones, with what chance allows."""
    figure, ax = sheet(
        ax, title=words.title, finding=words.finding, x_label=words.x, y_label=words.y
    )
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
