"""The response across one predictor: scatter, fitted line or curve, bands; one line a level of
another predictor, or other fits of the same response beside it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np

from joinery.show.numbers import short_of
from joinery.show.pictures.canvas import Words
from joinery.show.pictures.style import on_a_page
from joinery.study.fitted import Fitted, rows_at_hand
from joinery.study.held import (
    Held,
    averaged_rows,
    check_named,
    held_words,
    hold_rest,
    numeric_columns,
)
from joinery.study.picture_words import flags_of, worded
from joinery.study.rates import counted
from joinery.study.read.for_people import equation_for_people
from joinery.study.read.line_beside import curve_beside, fits_beside
from joinery.study.read.line_family import lines_across
from joinery.study.read.line_parts import curve_of, grid_along, rows_along, with_exposure
from joinery.study.rows.figures import linear_predictor, per_row
from joinery.study.thinned import smoothed
from joinery.support.errors import CallError, one_of

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

    from joinery.show.pictures.fit import Curve

SEED = 20260103  # of the little that yes-or-no rows are set apart by
FROM_ZERO = 0.3  # the share of the highest value above which an axis that leaves zero out is said
ABOVE = 104  # characters of an equation that stands over the picture; a longer one is under it
NARROW = 0.4  # range of chances below which they are drawn on their own range, not from 0 to 1


def line(
    fit: Fitted,
    *,
    label_rows: str | Sequence[Any],
    words: Mapping[str, str | None],
    ax: Axes | None,
    against: str | None = None,
    across: str | None = None,
    beside: Any = None,
    hold: Mapping[str, Any] | None = None,
) -> Figure:
    """Draw the fitted line or curve across one numeric predictor, the others held."""
    from joinery.show.pictures.fit import line

    name = _numeric(fit, against, "against")
    others = fits_beside(fit, beside, name)
    if across is not None:
        if others:
            raise CallError(
                "a line for each value, or other fits beside: not both", argument="across"
            )
        if hold:
            raise CallError(
                "a line for each value holds the rest at their average", argument="hold"
            )
        return lines_across(fit, name, across, label_rows, words, ax)
    table, chosen = rows_at_hand(fit)
    x = table.column(name).numbers(chosen.rows)
    grid = grid_along(fit, name, x)
    held = hold_rest(fit, rows_along(fit, name, grid), hold)
    curve = curve_of(fit, name, held)
    y, y_label, notes = _points(fit, name, held, x, hold)
    groups = in_groups(fit, x)
    if groups is not None and (ends := _narrow(curve, groups[1])) is not None:
        y = _at_the_edges(y, *ends)
        notes.finding.append(
            "rows that are yes stand at the top, no at the foot; 0 and 1 lie beyond"
        )
    if _leaves_zero_out(y, curve, bands_too=not others):
        notes.finding.append("the upright axis does not start at zero")
    caption = Words(
        f"How does {counted(fit, None).name} change with {fit.words(name)}?",
        "; ".join(notes.finding),
        fit.words(name),
        y_label,
        x_dates=name in fit.design.dates,
        under="; ".join(notes.under),
    )
    rows = np.arange(len(x))
    if fit.estimate.linear and not others:
        local = smoothed(fit, rows, x, y)
    else:
        local = None
    flags = flags_of(fit, label_rows)
    named = [curve_beside(fit, other, name, grid) for other in others]
    return line(x, y, curve, flags, worded(caption, words), ax, local, groups, named, rows)


def _numeric(fit: Fitted, given: str | None, argument: str) -> str:
    numeric = numeric_columns(fit)
    if given is not None:
        if given in fit.design.seen:
            check_named(fit, [given], f" ({argument}) in the model")
        return one_of(argument, given, tuple(numeric))
    if not numeric:
        raise CallError("the picture 'line' needs a numeric predictor, and the model has none")
    return numeric[0]


@dataclass
class _Notes:
    """The words above a picture, and under it."""

    finding: list[str]
    under: list[str]


def _points(
    fit: Fitted, name: str, held: Held, x: np.ndarray, hold: Mapping[str, Any] | None
) -> tuple[np.ndarray, str, _Notes]:
    """Return the points' heights, what they are, and what is said of them."""
    figures = per_row(fit)
    label = fit.words(fit.response.name)
    remarks = held_words(fit, with_exposure(fit, held))
    if not fit.estimate.linear:
        return _observed(fit, remarks)
    equation = equation_for_people(fit)
    r2 = []
    if fit.r_squared is not None:
        r2 = [f"R² {short_of(fit.r_squared, 1, 2)}"]
    if not remarks:
        return figures.observed, label, _equation_above([equation, *r2])
    at = with_exposure(fit, hold_rest(fit, rows_along(fit, name, x), hold))
    positions = np.arange(len(x))
    X = averaged_rows(fit, at, positions)
    y = linear_predictor(fit, fit.design.context(at.table, positions), X) + figures.residual
    notes = _Notes(
        ["the other predictors held; points are the fitted curve plus each row's residual"],
        [*_once([equation, *r2]), f"held: {', '.join(remarks)}"],
    )
    return y, f"{label}, adjusted to the values held", notes


def _equation_above(words: list[str]) -> _Notes:
    """Put an equation that is short over the picture, a longer one under it."""
    if len("; ".join(words)) <= ABOVE:
        return _Notes(words, [])
    return _Notes([], _once(words))


def _once(words: list[str]) -> list[str]:
    """Return an equation for a picture alone; a page has it in a section of its own."""
    if on_a_page():
        return []
    return words


def _observed(fit: Fitted, remarks: list[str]) -> tuple[np.ndarray, str, _Notes]:
    """Under a link points are the responses themselves, the curve that of a held case."""
    y = per_row(fit).observed
    if fit.family.shares:
        if fit.response.kind == "of":
            what = "share"
        else:
            what = "chance of"
        label = f"{what} {fit.words(fit.response.name)}"
    else:
        label = fit.words(str(fit.response.expression))
    if fit.response.kind == "per":
        label += f" (curve at the mean {fit.words(str(fit.response.total))})"
    notes = _equation_above([equation_for_people(fit)])
    if remarks:
        notes.finding.append("points are the rows as observed, the curve is for values held")
        notes.under.append(f"held: {', '.join(remarks)}")
    if set(np.unique(y)) <= {0.0, 1.0}:
        # a little apart, always the same, so that equal values do not hide one another
        apart = np.random.default_rng(SEED).uniform(0, 0.05, len(y))
        y = np.where(y > 0, 1 - apart, apart)
        if remarks:
            notes.finding.append("diamonds are shares in groups")
    return y, label, notes


def _narrow(curve: Curve, shares: np.ndarray) -> tuple[float, float] | None:
    """Return the range of a curve of chances and its groups, where it is a part of 0 to 1."""
    inside = (curve.x >= curve.seen[0]) & (curve.x <= curve.seen[1])
    of_curve = np.concatenate([curve.mean[0][inside], curve.mean[1][inside], shares])
    low, high = float(np.nanmin(of_curve)), float(np.nanmax(of_curve))
    if not 0 < high - low < NARROW:
        return None
    return low, high


def _at_the_edges(y: np.ndarray, low: float, high: float) -> np.ndarray:
    """Return where rows of yes and no are drawn: a little above and below the range of a curve."""
    wide = high - low
    apart = np.minimum(y, 1 - y) * wide  # as scattered as before
    return np.asarray(np.where(y > 0.5, high + 0.12 * wide + apart, low - 0.12 * wide - apart))


def _leaves_zero_out(y: np.ndarray, curve: Curve, *, bands_too: bool) -> bool:
    """Return True if the upright axis is cut above zero although the values are far from it."""
    lowest = [float(np.min(y)), float(np.nanmin(curve.fitted))]
    ends = curve.new[0][np.isfinite(curve.new[0])]
    lowest += [float(ends.min())] if bands_too and len(ends) else []
    return min(lowest) > 0 and float(np.min(y)) > FROM_ZERO * float(np.max(y))


def in_groups(fit: Fitted, x: np.ndarray) -> tuple[np.ndarray, np.ndarray] | None:
    """Return observed shares in groups of x, for yes or no rows, which alone show no curve."""
    observed = per_row(fit).observed
    if fit.estimate.linear or not set(np.unique(observed)) <= {0.0, 1.0}:
        return None
    many = min(8, max(len(x) // 8, 2))
    parts = [p for p in np.array_split(np.argsort(x, kind="stable"), many) if len(p)]
    return np.array([x[p].mean() for p in parts]), np.array([observed[p].mean() for p in parts])
