"""A sheet of strips: words at the left, a small picture in the middle, what to do at the right."""

from __future__ import annotations

import textwrap
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any

from matplotlib.axes import Axes
from matplotlib.figure import Figure
from matplotlib.patches import Rectangle
from matplotlib.patheffects import withStroke

from joinery.show.numbers import figure as number
from joinery.show.palette import AMBER, DARK_AMBER, INK, MIST, PAPER, RUST, SLATE, TEAL
from joinery.show.pictures.canvas import dress, paper
from joinery.show.pictures.folding import fold
from joinery.show.pictures.layout import END, outermost
from joinery.show.pictures.short_names import brief

STRIP = 1.02  # inches
MOST_BARS = 5  # more would touch one another in a strip
NAME_ROOM = 22  # letters of a bar's name
LETTER = 0.06  # inches of a letter beside a bar
LEAST_BAR = 0.3  # share of the width that the longest bar keeps
MARKS = {
    "serious": ("■", RUST),
    "caution": ("▲", DARK_AMBER),
    "slight": ("△", INK),
    "allowed for": ("◐", TEAL),
    "no sign": ("○", TEAL),
    "not judged": ("–", SLATE),
}


@dataclass(frozen=True)
class Strip:
    """One question: its verdict, what was found, what to do, and what draws its picture."""

    question: str
    verdict: str
    finding: str
    advice: str
    picture: Callable[[Axes], object] | None


def strips(title: str, finding: str, rows: Sequence[Strip]) -> Figure:
    """Draw all strips, one under the other."""
    figure, top = paper(title, finding, STRIP * len(rows) + 0.85)
    high = (top - 0.01) / max(len(rows), 1)
    for place, strip in enumerate(rows):
        low = top - (place + 1) * high
        rule = Rectangle(
            (0.045, low + high), 0.91, 0.0, transform=figure.transSubfigure, color=MIST, linewidth=1
        )
        figure.add_artist(rule)
        mark, color = MARKS[strip.verdict]
        question = textwrap.wrap(strip.question, 26)
        _words(figure, 0.045, low + 0.86 * high, "\n".join(question), 9.5, INK, bold=True)
        at = low + (0.84 - 0.19 * len(question)) * high
        _words(figure, 0.045, at, f"{mark} {strip.verdict}", 9, color, bold=True)
        lines = fold(figure, "found", strip.finding).split("\n")
        most = 4 - len(question)
        if len(lines) > most:
            lines = [*lines[: most - 1], lines[most - 1].rstrip(" …") + " …"]
        result = "\n".join(lines)
        _words(figure, 0.045, at - 0.18 * high, result, 7.5, SLATE, gid="found")
        advice = fold(figure, "advice", strip.advice)
        _words(figure, 0.665, low + 0.86 * high, advice, 8, INK, gid="advice")
        if strip.picture is not None:
            ax = figure.add_axes((0.34, low + 0.12 * high, 0.295, 0.78 * high))
            strip.picture(ax)
            _made_small(ax)
    return figure


def _words(
    figure: Figure,
    x: float,
    y: float,
    words: str,
    size: float,
    color: str,
    *,
    bold: bool = False,
    gid: str | None = None,
) -> None:
    if bold:
        weight = "bold"
    else:
        weight = "normal"
    figure.text(
        x,
        y,
        words,
        fontsize=size,
        color=color,
        fontweight=weight,
        va="top",
        linespacing=1.25,
        gid=gid,
    )


def _made_small(ax: Axes) -> None:
    """Leaves the picture alone: no title, labels or numbers, small marks."""
    ax.set_title("", loc="left")
    ax.set_xlabel("")
    ax.set_ylabel("")
    ax.set_xticks([])
    ax.set_yticks([])
    for text in list(ax.texts):
        text.set_fontsize(6.5)
        if text.get_gid() == END:
            text.remove()
    for marks in ax.collections:
        target: Any = marks
        sizes: list[float] = list(getattr(target, "get_sizes", list)())
        if sizes:
            target.set_sizes([min(float(s), 40.0) * 0.3 for s in sizes])


def _left_beside(ax: Axes, label: str) -> float:
    """Return the share of the axes' width that a label beside a bar leaves to it."""
    wide = ax.get_position().width * outermost(ax.figure).get_figwidth()
    return max(1 - (len(label) + 1) * LETTER / wide, LEAST_BAR)


def bars(ax: Axes, sizes: Sequence[tuple[str, float]], limit: float) -> None:
    """A bar for each of the five largest, with its name, against a limit."""
    dress(ax)
    ax.grid(visible=False)
    shown = sorted(sizes, key=lambda item: -item[1])[:MOST_BARS][::-1]
    most = 3 * limit  # longer bars are cut there; their figure stands beside them
    lengths = [min(size, most) for _, size in shown]
    labels = [f"{brief(name, NAME_ROOM)}  {number(size, 3)}" for name, size in shown]
    colors = [RUST if size > limit else AMBER for _, size in shown]
    ax.barh(range(len(shown)), lengths, color=colors, height=0.55)
    ends = [length / _left_beside(ax, label) for length, label in zip(lengths, labels, strict=True)]
    ax.set_xlim(0, max(limit * 1.25, *ends, 0.0))
    ax.set_ylim(-0.7, max(len(shown), 3) - 0.3)
    ax.axvline(limit, color=RUST, linewidth=1, linestyle=(0, (5, 3)))
    for place, words in enumerate(labels):
        at = (lengths[place], place)
        beside: dict[str, Any] = {"textcoords": "offset points", "fontsize": 7, "color": INK}
        beside["path_effects"] = [withStroke(linewidth=2, foreground=PAPER)]
        ax.annotate(words, at, (4, 0), va="center", **beside)
