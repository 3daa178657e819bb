"""Pictures of single rows: leverage, influence, and forecasts."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from matplotlib.axes import Axes
from matplotlib.figure import Figure
from matplotlib.patheffects import withStroke

from joinery.show.palette import AMBER, INK, MIST, PAPER, RUST, SLATE, TEAL
from joinery.show.pictures.canvas import DENSE, Words, points, sheet
from joinery.show.pictures.flags import Flag, mark
from joinery.show.pictures.layout import END


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
    """Draw leverage across, studentized residual up.

    Regions shaded and named, points filled by verdict.
    """
    figure, ax = sheet(ax, words)
    sound = np.isfinite(t)
    # a leverage is 1 at most; a little beyond it there is room for its ring
    wide = min(max(float(np.nanmax(h)) * 1.12, at.far * 1.35), 1.03)
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
        (wide * 0.99, at.badly * 0.96, "far out", "right"),
    ):
        ax.text(x, y, name, ha=side, va="top", fontsize=8.5, color=SLATE, zorder=2)
    many = len(h) > DENSE
    if many:
        points(ax, h[sound], t[sound])
    for verdict, color in (("serious", RUST), ("caution", AMBER), ("", INK)):
        chosen = sound & (verdicts == verdict)
        if not many or verdict:
            if not verdict:
                alpha = 0.6
            else:
                alpha = 0.85
            indices = np.flatnonzero(chosen)
            points(ax, h[indices], t[indices], 26, rows=indices, color=color, alpha=alpha)
    ax.axhline(0, color=SLATE, linewidth=0.8, zorder=1)
    mark(ax, h, np.where(sound, t, 0.0), flags)
    return figure


@dataclass(frozen=True)
class Bar:
    """One row: its label, its height, what it moves, and whether it is over the limit."""

    label: str
    size: float
    moves: str
    over: bool


def ranked(
    bars: Sequence[Bar], limits: Sequence[tuple[float, str]], words: Words, ax: Axes | None
) -> Figure:
    """Draw bars from the longest down, limits drawn, or named where they are far off."""
    figure, ax = sheet(ax, words)
    ax.grid(visible=False)
    ax.grid(axis="x", color=MIST, linewidth=0.8)
    places = list(range(len(bars)))[::-1]
    top = max((bar.size for bar in bars), default=0.0) or 1.0
    for place, bar in zip(places, bars, strict=True):
        ax.barh(place, bar.size, height=0.6, color=RUST if bar.over else SLATE, zorder=2)
        at = (bar.size, place)
        moves = ax.annotate(bar.moves, at, xytext=(5, 0), textcoords="offset points", **_BESIDE)
        moves.set_path_effects([withStroke(linewidth=3, foreground=PAPER)])  # over a limit's line
    near = [limit for limit, _ in limits if limit <= 1.6 * top]
    ax.set_xlim(0, 1.06 * max(top, *near, 0.0))
    ax.set_ylim(-0.6, len(bars) + 0.1)
    for limit, name in limits:
        if limit in near:
            ax.axvline(limit, color=RUST, linewidth=1.0, linestyle=(0, (5, 3)), zorder=1.5)
            ax.annotate(
                f"limit: {name}",
                (limit, len(bars) - 0.35),
                xytext=(4 if limit < 0.6 * top else -4, 0),
                textcoords="offset points",
                **_BESIDE | {"ha": "left" if limit < 0.6 * top else "right"},
            )
    far = [name for limit, name in limits if limit not in near]
    if far:
        ax.set_xlabel(f"{words.x}  (limits far to the right: {'; '.join(far)})")
    ax.set_yticks(places, [bar.label for bar in bars])
    ax.tick_params(axis="y", length=0, colors=INK)
    return figure


_BESIDE: dict[str, Any] = {"fontsize": 8.5, "color": INK, "va": "center", "ha": "left", "gid": END}


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
    """Draw each row's forecast with its two intervals; dashed where it lies outside what was seen.

    Observed as diamonds.
    """
    figure, ax = sheet(ax, words)
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
                alpha=0.4 if rows.outside[i] else 0.75,
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
