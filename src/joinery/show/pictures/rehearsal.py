"""Clouds of estimates about their truth, with strips of intervals."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from matplotlib.figure import Figure

from joinery.show.palette import AMBER, CATEGORIES, DARK_AMBER, INK, RUST, SLATE
from joinery.show.pictures.canvas import HIGH, end_label, panels, paper


@dataclass(frozen=True)
class Estimates:
    """One term: its truth, its estimates (times,), and the ends of the first intervals."""

    name: str
    truth: float
    values: np.ndarray
    lower: np.ndarray
    upper: np.ndarray


def estimates(terms: Sequence[Estimates], title: str, finding: str) -> Figure:
    """Draw a row a term: at the left where estimates fall, at the right the first intervals."""
    rows = max(len(terms), 1)
    figure, top = paper(title, finding, max(HIGH, 1.25 * rows + 1.0))
    axes = panels(figure, top, rows, 2, gap=(0.03, 0.05))
    for place, term in enumerate(terms):
        cloud, strip = axes[2 * place], axes[2 * place + 1]
        for ax in (cloud, strip):
            ax.grid(visible=False)
            ax.set_yticks([])
            ax.spines["left"].set_visible(False)
            ax.axvline(term.truth, color=AMBER, linewidth=1.8, zorder=3)
        cloud.set_title(term.name, loc="left", fontsize=9, color=INK, pad=3)
        cloud.hist(term.values, bins=40, color=SLATE, alpha=0.7, linewidth=0)
        up = np.arange(len(term.lower))
        missed = (term.lower > term.truth) | (term.upper < term.truth)
        for chosen, color, wide in ((~missed, SLATE, 1.0), (missed, RUST, 1.8)):
            strip.hlines(
                up[chosen], term.lower[chosen], term.upper[chosen], color=color, linewidth=wide
            )
    return figure


@dataclass(frozen=True)
class Planned:
    """One term: its power and the width of its interval at each number of rows."""

    name: str
    rows: np.ndarray
    power: np.ndarray
    width: np.ndarray


ENOUGH = 0.8  # the power that a study is often planned for


def planned(terms: Sequence[Planned], title: str, finding: str) -> Figure:
    """Power at the left, the line of four times out of five drawn, interval width at the right."""
    figure, top = paper(title, finding)
    power, width = panels(figure, top, 1, 2, gap=(0.06, 0.1))
    power.axhline(ENOUGH, color=SLATE, linewidth=1.0)
    power.set_ylim(0, 1.02)
    colors = (AMBER, *CATEGORIES[:4], SLATE)
    for place, term in enumerate(terms):
        color = colors[place % len(colors)]
        for ax, values in ((power, term.power), (width, term.width)):
            ax.plot(term.rows, values, color=color, linewidth=2, marker="o", markersize=4)
            shade = DARK_AMBER if color == AMBER else color
            end_label(ax, float(term.rows[-1]), float(values[-1]), term.name, shade)
    for ax, words in ((power, "power"), (width, "mean width of the interval")):
        ax.set_title(words, loc="left", fontsize=9, color=INK)
        ax.set_xlabel("rows", fontsize=9, color=INK)
        low, high = terms[0].rows.min(), terms[0].rows.max()
        ax.set_xlim(low - 0.03 * (high - low), high + 0.25 * (high - low))
    width.set_ylim(0, None)
    return figure


@dataclass(frozen=True)
class Cloud:
    """One figure: the estimate, the draws (resamples,), and the interval."""

    name: str
    estimate: float
    draws: np.ndarray
    ends: tuple[float, float]


def clouds(of: Sequence[Cloud], title: str, finding: str) -> Figure:
    """Return how each figure spreads over resamples, its interval under it."""
    rows, wide = -(-len(of) // 2), min(len(of), 2)
    figure, top = paper(title, finding, max(HIGH, 1.5 * rows + 1.0))
    axes = panels(figure, top, rows, wide, gap=(0.03, 0.06))
    for ax, one in zip(axes, of, strict=False):
        ax.grid(visible=False)
        ax.set_yticks([])
        ax.spines["left"].set_visible(False)
        ax.set_title(one.name, loc="left", fontsize=9, color=INK, pad=3)
        ax.hist(one.draws, bins=40, color=SLATE, alpha=0.7, linewidth=0)
        high = ax.get_ylim()[1]
        ax.axvline(one.estimate, color=AMBER, linewidth=1.8, zorder=3)
        ax.hlines(-0.06 * high, *one.ends, color=AMBER, linewidth=3)
        ax.set_ylim(-0.14 * high, high)
    for ax in axes[len(of) :]:
        ax.remove()
    return figure
