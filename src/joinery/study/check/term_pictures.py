"""Pictures of single terms: what one adds to the rest, and how its part is shaped."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from itertools import pairwise
from typing import TYPE_CHECKING, Any

import numpy as np

from joinery.core.blocks.partition import joined
from joinery.core.inference.smooth import Smooth
from joinery.notation.walk import names_in
from joinery.show.names import coefficient_named
from joinery.show.numbers import figure
from joinery.show.pictures.canvas import Words
from joinery.show.pictures.fit import Guide
from joinery.study.check.residual_pictures import TOO_FEW, bend_found, departs
from joinery.study.fitted import Fitted, rows_at_hand, working_rows
from joinery.study.picture_words import flags_of, worded
from joinery.study.read.estimates import estimates
from joinery.study.rows.figures import per_row
from joinery.study.thinned import smoothed
from joinery.support.errors import CallError, one_of

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

Given = Mapping[str, str | None]
MOST_PIECES = 2000  # points of a component's curve


def added_variable(
    fit: Fitted,
    *,
    label_rows: str | Sequence[Any],
    words: Given,
    ax: Axes | None,
    term: str | None = None,
) -> Figure:
    """Draw the response against one column, the other columns taken off both."""
    from joinery.show.pictures.fit import cloud

    solution, coefficients = fit.solution, estimates(fit)
    names = [
        name
        for name, b in zip(coefficients.names, coefficients.values)
        if name != "intercept" and np.isfinite(b)
    ]
    if not names:
        raise CallError("the model has no term to draw")
    if term is not None:
        chosen = coefficient_named("term", term, names)
    else:
        chosen = names[0]
    column = coefficients.names.index(chosen)
    direction = solution.root[int(np.flatnonzero(solution.places == column)[0])]
    # the part of a column that the others leave is X(XᵀWX)⁻¹ over its own diagonal (Frisch & Waugh
    # 1933)
    x = joined(working_rows(fit).row_blocks, lambda b: solution.in_basis(b.X) @ direction) / float(
        direction @ direction
    )
    slope = float(coefficients.values[column])
    y = per_row(fit).working + slope * x
    ends = float(x.min()), float(x.max())
    guide = Guide(ends, (slope * ends[0], slope * ends[1]), "slope", amber=True)
    finding = f"the slope is the coefficient, {figure(slope, 3)}; rows far to a side decide it"
    beyond = "beyond the other terms"
    x_label, y_label = f"{chosen}, {beyond}", f"{fit.words(fit.response.name)}, {beyond}"
    caption = Words(f"What does {chosen} add to the rest?", finding, x_label, y_label)
    flags, rows = flags_of(fit, label_rows), np.arange(len(x))
    return cloud(x, y, flags, worded(caption, words), ax, guides=[guide], rows=rows)


def component_residual(
    fit: Fitted,
    *,
    label_rows: str | Sequence[Any],
    words: Given,
    ax: Axes | None,
    against: str | None = None,
) -> Figure:
    """Draw one predictor's part of the fit plus residuals: a bend shows what the term misses."""
    from joinery.show.pictures.fit import cloud

    table, chosen = rows_at_hand(fit)
    numeric = list(fit.design.seen)
    if not numeric:
        raise CallError(
            "the picture 'component_residual' needs a numeric predictor, and the model has none"
        )
    if against is not None:
        across = one_of("against", against, tuple(numeric))
    else:
        across = numeric[0]
    columns = _columns_of(fit, across)
    if not columns:
        raise CallError(
            f"no term is of {across} alone; its part stands in products", argument="against"
        )
    b = fit.solution.coefficients[columns]
    part = joined(working_rows(fit).row_blocks, lambda block: np.asarray(block.X[:, columns] @ b))
    x = table.column(across).numbers(chosen.rows)
    part = part - part.mean()
    y = part + per_row(fit).working
    order = np.argsort(x, kind="stable")
    rows = np.arange(len(x))
    curve = smoothed(fit, rows, x, y)
    finding = _shape(curve, x[order], part[order], bend_found(fit))
    words_own = f"part of {across} + residual"
    caption = Words(
        f"Is the part of {fit.words(across)} shaped right?",
        finding,
        fit.words(across),
        words_own,
        x_dates=across in fit.design.dates,
    )
    guides = _along(x[order], part[order])
    flags = flags_of(fit, label_rows)
    caption = worded(caption, words)
    return cloud(x, y, flags, caption, ax, curve=curve, guides=guides, rows=rows)


def _columns_of(fit: Fitted, across: str) -> list[int]:
    """Return columns of the terms that are made of this one predictor."""
    return [
        c
        for t in fit.design.terms
        if {n.name for f in t.factors for n in names_in(f.expression)} == {across}
        for c in range(t.columns.start, t.columns.stop)
        if np.isfinite(fit.solution.coefficients[c])
    ]


def _shape(curve: Smooth | None, x: np.ndarray, part: np.ndarray, bend: str) -> str:
    """Return where a smooth leaves the fitted part, both in order of x, beside a ``bend`` found."""
    if curve is None:
        return TOO_FEW
    if departure := departs(curve, np.interp(curve.at, x, part), bend):
        return f"the smooth leaves the fitted part {departure}"
    return "the smooth stays with the fitted part"


def _along(x: np.ndarray, part: np.ndarray) -> list[Guide]:
    """Return the fitted part as pieces of line from point to point."""
    distinct = np.flatnonzero(np.append(True, x[1:] > x[:-1]))
    distinct = distinct[:: max(1, len(distinct) // MOST_PIECES)]
    return [
        Guide((float(x[i]), float(x[j])), (float(part[i]), float(part[j])), "", True)
        for i, j in pairwise(distinct.tolist())
    ]
