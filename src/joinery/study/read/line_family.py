"""One line for each level of a category, or value of a number."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING, Any

import numpy as np

from joinery.data.columns import level_text
from joinery.data.written_dates import date_text
from joinery.design.factors import CategoryFactor
from joinery.notation.walk import names_in
from joinery.show.numbers import value
from joinery.show.pictures.canvas import Words
from joinery.study.fitted import Fitted, rows_at_hand
from joinery.study.held import (
    columns_of,
    held_words,
    hold_rest,
)
from joinery.study.picture_words import flags_of, worded
from joinery.study.rates import counted
from joinery.study.read.line_parts import curve_of, grid_along, rows_along, with_exposure
from joinery.study.rows.figures import per_row
from joinery.support.errors import CallError, one_of

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure


MOST_LINES = 7  # of one picture that can be told apart by their colours
LINES_BY_VALUE = 4  # of a number across which each value has a line of its own


def lines_across(
    fit: Fitted,
    name: str,
    across: str,
    label_rows: str | Sequence[Any],
    words: Mapping[str, str | None],
    ax: Axes | None,
) -> Figure:
    """Draw one curve for each level of a category, or for a few values of a number."""
    from joinery.show.pictures.fit import Named, lines

    others = tuple(n for n in columns_of(fit) if n != name)
    one_of("across", across, others)
    table, chosen = rows_at_hand(fit)
    x = table.column(name).numbers(chosen.rows)
    grid = grid_along(fit, name, x)
    values, result, group = _values(fit, across)
    named, held = [], None
    for place, at in enumerate(values):
        held = hold_rest(fit, rows_along(fit, name, grid, **{across: at}))
        if result:
            rows = x[group == place]
        else:
            rows = x
        if len(rows):
            seen = (float(rows.min()), float(rows.max()))
        else:
            seen = (np.inf, -np.inf)
        if isinstance(at, str):
            words_of = at
        else:
            words_of = _number(fit, across, at)
        named.append(Named(f"{fit.words(across)} {words_of}", curve_of(fit, name, held, seen)))
    assert held is not None
    remarks = held_words(fit, with_exposure(fit, held))
    y = per_row(fit).observed
    caption = Words(
        f"How does {fit.words(name)} act at each {fit.words(across)}?",
        "points are the rows as observed, dashed where no rows are",
        fit.words(name),
        counted(fit, None).name,
        x_dates=name in fit.design.dates,
        under=f"held: {', '.join(remarks)}" if remarks else "",
    )
    if result:
        colors = group
    else:
        colors = None
    return lines(x, y, named, colors, flags_of(fit, label_rows), worded(caption, words), ax)


def _values(fit: Fitted, across: str) -> tuple[list[Any], bool, np.ndarray]:
    """Return the levels or values with a curve each, whether rows belong to one, and to which
    (n,)."""
    table, chosen = rows_at_hand(fit)
    factors = [
        f
        for t in fit.design.terms
        for f in t.categories
        if across in {n.name for n in names_in(f.expression)} and f.label == across
    ]
    if factors:
        return _levels(fit, factors[0])
    column = table.column(across)
    if column.kind not in ("number", "date"):
        codes = column.codes(chosen.rows)
        levels = [level_text(v) for v in column.all_levels]
        return levels[:MOST_LINES], True, codes
    z = column.numbers(chosen.rows)
    distinct = np.unique(z)
    if len(distinct) <= LINES_BY_VALUE:
        return distinct.tolist(), True, np.searchsorted(distinct, z)
    return np.quantile(z, (0.1, 0.5, 0.9)).tolist(), False, np.zeros(len(z), int)


def _levels(fit: Fitted, factor: CategoryFactor) -> tuple[list[str], bool, np.ndarray]:
    table, chosen = rows_at_hand(fit)
    codes = factor.codes(fit.design.context(table, chosen.rows))
    levels = [level_text(v) for v in factor.levels]
    if len(levels) > MOST_LINES:
        raise CallError(
            f"{factor.label} has {len(levels)} levels, and more than {MOST_LINES} lines are hard "
            "to follow",
            argument="across",
        )
    return levels, True, codes


def _number(fit: Fitted, name: str, at: float) -> str:
    if name in fit.design.dates:
        return date_text(at)
    return value(at, 3)
