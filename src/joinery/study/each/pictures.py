"""Pictures of a set of fits: intervals a group, and a line a group in small multiples."""

from __future__ import annotations

import os
from collections.abc import Callable
from typing import TYPE_CHECKING

import numpy as np

from joinery.core.inference import intervals
from joinery.data.any_table import records
from joinery.data.written_dates import stamps_of
from joinery.show.numbers import count, level_words, p_phrase
from joinery.study.each.differ import test
from joinery.study.each.groups import Groups
from joinery.study.each.tables import by_words
from joinery.study.fitted import rows_at_hand
from joinery.study.held import averaged_rows, held_words, hold_rest, numeric_columns
from joinery.study.picture_words import names_of
from joinery.study.understand.scale import Scale
from joinery.support import advice
from joinery.support.errors import CallError, one_of

if TYPE_CHECKING:
    from matplotlib.figure import Figure

MOST_GROUPS = 40  # groups whose intervals have room in one picture
MOST_TERMS = 6  # coefficients with a panel each
MOST_LINES_APART = 20  # groups with a panel each
LINE_POINTS = 61


def draw(
    groups: Groups,
    name: str,
    *,
    against: str | None,
    path: str | os.PathLike[str] | None,
    figsize: tuple[float, float] | None,
) -> Figure:
    """Draw a picture by name. See ``FitSet.draw``."""
    from joinery.show.pictures.canvas import finished

    if name != "lines" and against is not None:
        given = advice.option("against", against)
        raise CallError(f"{given} belongs to the picture 'lines'", argument="against")

    def make(_: object) -> Figure:
        return _lines(groups, against) if name == "lines" else _coefficients(groups)

    names = [*names_of(groups.common), *groups.labels]
    return finished(make, names, ax=None, figsize=figsize, path=path)


def _finding(groups: Groups) -> str:
    p = float(test(groups)["p"].iloc[0])
    if not np.isfinite(p):
        return "whether the groups differ cannot be tested"
    return f"do the groups differ at all? {p_phrase(p)}"


def _most_rows(groups: Groups, most: int) -> np.ndarray:
    """Return places of the groups that are drawn, in their order: of many those of the most
    rows."""
    fitted = np.flatnonzero(groups.fitted)
    if len(fitted) <= most:
        return fitted
    largest = fitted[np.argsort(-groups.n[fitted], kind="stable")[:most]]
    return np.sort(largest)


def _left_out(groups: Groups, shown: int) -> str:
    fitted = int(groups.fitted.sum())
    if shown == fitted:
        return ""
    return f"; the {shown} groups of the most rows, of {fitted:,}"


def _coefficients(groups: Groups) -> Figure:
    """Draw a panel a coefficient, an interval a group."""
    from joinery.show.pictures.groups import IntervalPanel, interval_panels

    fit = groups.common
    terms = [j for j, name in enumerate(groups.terms) if name != "intercept"] or [0]
    shown = _most_rows(groups, MOST_GROUPS)
    b, errors, df = (a[shown] for a in (groups.b, groups.errors, groups.df))
    lower, upper = intervals.around(b, errors, df, fit.level)
    panels = [
        IntervalPanel(fit.words(groups.terms[j]), b[:, j], lower[:, j], upper[:, j])
        for j in terms[:MOST_TERMS]
    ]
    finding = (
        f"{level_words(fit.level)} intervals; {_finding(groups)}{_left_out(groups, len(shown))}"
    )
    if len(terms) > MOST_TERMS:
        finding += f"; {count(len(terms) - MOST_TERMS, 'coefficient')} not shown"
    names = [groups.labels[i] for i in shown]
    title = f"How do coefficients differ by {by_words(groups)}?"
    return interval_panels(names, panels, title, finding)


def _lines(groups: Groups, against: str | None) -> Figure:
    """Draw a panel a group: its rows, its own line, and the line of all rows for comparison."""
    from joinery.show.pictures.groups import LinePanel, line_panels

    fit = groups.common
    table, used = rows_at_hand(fit)
    numeric = numeric_columns(fit)
    if not numeric:
        raise CallError("lines need a numeric predictor, and the model has none")
    name = numeric[0] if against is None else one_of("against", against, tuple(numeric))
    line = _line_of(groups, name)
    x = table.column(name).numbers(used.rows)
    y = _responses(groups)
    shown = _most_rows(groups, MOST_LINES_APART)
    panels = []
    for place in shown.tolist():
        here = groups.codes == place
        ends = float(x[here].min()), float(x[here].max())
        grid = np.linspace(*ends, LINE_POINTS)
        panels.append(LinePanel(groups.labels[place], x[here], y[here], grid, line(grid, place)))
    everywhere = np.linspace(float(x.min()), float(x.max()), LINE_POINTS)
    held = hold_rest(fit, records({name: _cells(groups, name, everywhere[:1])}))
    rest = ", ".join(held_words(fit, held))
    finding = _finding(groups) + _left_out(groups, len(shown))
    title = f"How does {Scale(fit).name} go with {fit.words(name)} in each {by_words(groups)}?"
    both = everywhere, line(everywhere, None)
    dates = name in fit.design.dates
    return line_panels(
        panels,
        both,
        title,
        finding,
        fit.words(name),
        fit.words(Scale(fit).name),
        dates=dates,
        under=f"held: {rest}" if rest else "",
    )


def _cells(groups: Groups, name: str, x: np.ndarray) -> np.ndarray:
    if name in groups.common.design.dates:
        return stamps_of(x)
    return x


def _line_of(groups: Groups, name: str) -> Callable[[np.ndarray, int | None], np.ndarray]:
    """Return the mean at values of a predictor by a group's coefficients, None for those of all
    rows."""
    fit, scale = groups.common, Scale(groups.common)

    def line(x: np.ndarray, place: int | None) -> np.ndarray:
        held = hold_rest(fit, records({name: _cells(groups, name, x)}))
        X = averaged_rows(fit, held, np.arange(len(x)))
        if place is None:
            eta = fit.solution.fitted(X)
        else:
            b = np.nan_to_num(groups.b[place])
            first = int(fit.design.intercept)
            eta = X @ b[first:] + (b[0] if first else 0.0)
        return scale.back(eta + scale.offsets(len(x)))

    return line


def _responses(groups: Groups) -> np.ndarray:
    """Return the response of each used row on the scale that people measure on."""
    fit = groups.common
    table, used = rows_at_hand(fit)
    context = fit.design.context(table, used.rows)
    values = fit.response.values(context)
    if fit.response.transformed:
        return fit.response.turn_back(values)
    return values
