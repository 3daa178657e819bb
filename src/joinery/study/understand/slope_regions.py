"""Regions in which the slope of one predictor differs from zero across another."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from itertools import pairwise
from typing import Any

import numpy as np

from joinery.data.written_dates import date_text
from joinery.design.learning import Piece
from joinery.show.appearance import Appearance
from joinery.show.numbers import level_words, percent
from joinery.show.table import Table
from joinery.study.fitted import Fitted, checked_level, fitted_rows
from joinery.study.forecast.memory import forecast_memory
from joinery.study.held import held_note
from joinery.study.read.coefficients import error_notes
from joinery.study.understand.crossings import crossings
from joinery.study.understand.moves import Move, Of
from joinery.study.understand.simple_slopes import (
    Hold,
    Slopes,
    SlopesAcross,
    check_columns,
    on_scale,
    shown_value,
)
from joinery.support.errors import CallError

GRID = 801  # places at which a region is looked for
ABOVE, BELOW, UNCERTAIN = "above zero", "below zero", "unclear"
STRAIGHT_ENOUGH = 1e-9  # how straight in the moderator, for its size, a slope is that has two roots


@dataclass(frozen=True)
class Region:
    """A stretch of the moderator in which the slope is one of the three."""

    start: float
    stop: float
    slope_is: str


def slope_regions(
    fit: Fitted,
    of: Of,
    across: str,
    *,
    hold: Hold = None,
    level: float | None = None,
    simultaneous: bool = True,
) -> Table:
    """Return where the slope differs from zero. See ``Fit.slope_regions``."""
    if level is None:
        level = fit.level
    else:
        level = checked_level(level)
    move = check_columns(fit, of, across)
    if across not in fit.design.seen:
        raise CallError(
            f"{across} is a category, and regions are of a number; simple_slopes gives the slope "
            "at each level",
            argument="across",
        )
    question = SlopesAcross(fit, of, across, hold, level, simultaneous)
    stretches = regions(question)
    shares = _shares(fit, across, stretches)
    shown: Callable[[float], Any] = (
        (lambda v: date_text(v)) if across in fit.design.dates else (lambda v: v)
    )
    result = question.at([stretches[0].start])
    notes = [sentence(move, across, stretches, shares), *held_note(fit, result.held)]
    notes += ["the stretches are cut at the ends of what was seen"]
    if question.joint is not None:
        notes.append(question.joint.words("all values"))
    notes += ["a loaded fit keeps no rows to count"] if shares is None else []
    return Table(
        {
            "from": [shown(r.start) for r in stretches],
            "to": [shown(r.stop) for r in stretches],
            "slope_is": [r.slope_is for r in stretches],
            "share_of_rows": np.full(len(stretches), np.nan) if shares is None else shares,
        },
        title=f"Where the {move.words} differs from zero across {fit.words(across)}, "
        f"at {level_words(level)}{on_scale(fit)}",
        notes=(*error_notes(fit), *notes),
        appearance=Appearance(
            kinds={"from": "own", "to": "own", "slope_is": "text", "share_of_rows": "share"},
            headings={"slope_is": "it is", "share_of_rows": "share of rows"},
        ),
    )


def regions(question: SlopesAcross) -> list[Region]:
    """Return the stretches from one end of the seen range to the other, or one a value where
    few."""
    fit, across, at = question.fit, question.across, question.at
    few = forecast_memory(fit).few.get(across)
    low, high = fit.design.seen[across]
    if few is not None or not high > low:
        values = list(few or (low,))
        return [Region(v, v, s) for v, s in zip(values, _verdicts(at(values)), strict=True)]
    ends = _roots(at, low, high)
    edges = [low, *ends, high]
    middles = [(a + b) / 2 for a, b in pairwise(edges)]
    out: list[Region] = []
    for (a, b), verdict in zip(pairwise(edges), _verdicts(at(middles)), strict=True):
        if out and out[-1].slope_is == verdict:
            out[-1] = Region(out[-1].start, b, verdict)
        elif b > a:
            out.append(Region(a, b, verdict))
    return out


def _verdicts(result: Slopes) -> list[str]:
    return [
        ABOVE if low > 0 else BELOW if high < 0 else UNCERTAIN
        for low, high in zip(result.lower, result.upper, strict=True)
    ]


def _roots(at: Callable[[Sequence[float]], Slopes], low: float, high: float) -> list[float]:
    """Return where an end of the interval is zero: by the quadratic (Johnson & Neyman 1936), else
    sought.

    A slope straight in the moderator, with the same degrees of freedom throughout, has
    b² = c²·var, of second degree, which gives both roots at once.
    """
    middle = (low + high) / 2
    three = at([low, middle, high])
    D, times = three.rows, three.times
    bend = np.abs(D[1] - (D[0] + D[2]) / 2)
    straight = (bend <= STRAIGHT_ENOUGH * (np.abs(D).max(axis=0) + 1e-300)).all()
    if straight and np.allclose(times, times[0], rtol=1e-14):
        return _quadratic_roots(at, low, high, float(times[0]))
    return _sought(at, low, high)


def _quadratic_roots(
    at: Callable[[Sequence[float]], Slopes], low: float, high: float, times: float
) -> list[float]:
    # b and the variance at three places settle b² − c²·var as a parabola in u from −1 to 1
    middle, half = (low + high) / 2, (high - low) / 2
    c = at([low, middle, high]).combination
    h = c.values**2 - (times * c.standard_errors) ** 2
    if not np.isfinite(h).all():
        return []
    a, b = (h[0] + h[2]) / 2 - h[1], (h[2] - h[0]) / 2
    roots = np.roots(np.trim_zeros(np.array([a, b, h[1]]), "f"))
    inside = sorted(float(r.real) for r in roots if abs(r.imag) < 1e-12 and -1 < r.real < 1)
    return [middle + half * u for u in inside]


def _sought(at: Callable[[Sequence[float]], Slopes], low: float, high: float) -> list[float]:
    """Return changes of verdict on a grid, each narrowed down by halving."""

    def verdicts(x: np.ndarray) -> np.ndarray:
        return np.array(_verdicts(at(x.tolist())))

    return [float(x) for x in crossings(verdicts, np.linspace(low, high, GRID))]


def _shares(fit: Fitted, across: str, stretches: Sequence[Region]) -> np.ndarray | None:
    """Return the share of the fitted rows whose moderator lies in each stretch."""
    if fit.origin is None:
        return None
    ends = [r.start for r in stretches], [r.stop for r in stretches]
    starts, stops = map(np.array, ends)
    last = (starts == stops) | (np.arange(len(starts)) == len(starts) - 1)

    def of_piece(piece: Piece) -> np.ndarray:
        """Return how many rows lie in each stretch, and how many have a moderator."""
        context, times = piece
        x = context.table.column(across).numbers(context.rows)
        times = np.isfinite(x) * (1.0 if times is None else times)
        from_start, to_stop = (
            x[:, None] >= starts,
            np.where(last, x[:, None] <= stops, x[:, None] < stops),
        )
        return np.append(times @ (from_start & to_stop), times.sum())

    result = sum(fitted_rows(fit).stretches.each(of_piece), np.zeros(len(starts) + 1))
    return np.asarray(result[:-1] / result[-1])


def sentence(
    move: Move, across: str, stretches: Sequence[Region], shares: np.ndarray | None
) -> str:
    """Return the regions in words."""
    fit, slope = move.fit, f"the {move.words} is"
    parts = []
    for verdict in (ABOVE, BELOW):
        indices = [i for i, r in enumerate(stretches) if r.slope_is == verdict]
        if not indices:
            continue
        where = " and ".join(_where(fit, across, stretches, i) for i in indices)
        if shares is None:
            share = ""
        else:
            share = f" ({percent(float(shares[indices].sum()))} of rows)"
        parts.append(f"{verdict} for {where}{share}")
    if not parts:
        return f"{slope} nowhere clearly different from zero"
    rest = any(r.slope_is == UNCERTAIN for r in stretches)
    if rest:
        tail = ", elsewhere not clearly different from zero"
    else:
        tail = ""
    return f"{slope} {', '.join(parts)}{tail}"


def _where(fit: Fitted, across: str, stretches: Sequence[Region], place: int) -> str:
    r, name = stretches[place], fit.words(across)
    first, last = place == 0, place == len(stretches) - 1
    start, stop = (shown_value(fit, across, v) for v in (r.start, r.stop))
    if r.start == r.stop:
        return f"{name} {start}"
    if first and last:
        return f"every {name} seen"
    if first:
        return f"{name} below {stop}"
    if last:
        return f"{name} above {start}"
    return f"{name} from {start} to {stop}"
