"""Whether neighbouring rows are independent."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace
from typing import NamedTuple

import numpy as np

from joinery import advice as say
from joinery.core.blocks.products import inner
from joinery.core.inference import diagnostics
from joinery.notation.evaluate import EVERY_ROW
from joinery.show.numbers import figure
from joinery.study.check.check import NO_ADVICE, Line, cannot, nothing_left
from joinery.study.fitted import Fitted, rows_at_hand, working_rows
from joinery.study.rows.digest import Rows, pieces
from joinery.study.rows.figures import per_row, too_many
from joinery.study.verdicts import FINE, judged

LAGS = 4
MOST_BASIS = 2e7  # cells of the basis that order checks may hold

ORDER = "Are neighbouring rows independent?"


def in_order(fit: Fitted) -> np.ndarray:
    """Places of the fitted rows in the order of ``order=``, else of the table."""
    table, chosen = rows_at_hand(fit)
    order = fit.options.order
    if not order:
        return np.arange(chosen.used)
    codes = table.column(order).codes(EVERY_ROW)
    return np.argsort(codes[chosen.rows], kind="stable")


def order(fit: Fitted) -> Iterator[Line]:
    """Durbin and Watson's d with its true p, and lagged residuals added to the model."""
    why = nothing_left(fit)
    if not why and fit.asides.repeats is not None:
        why = "rows that stand for several have no neighbours"
    if why:
        yield cannot("durbin-watson", "order", ORDER, "Durbin–Watson", why)
        return
    if too_many(fit):
        yield from _durbin_watson_of_many(fit)
        return
    e, U = scaled_residuals(fit)
    yield _durbin_watson(fit, diagnostics.durbin_watson(e, U))
    if U is not None and fit.residual_df > 2 * LAGS + 2:
        yield _where_order_means_something(fit, _breusch_godfrey(e, U))


def _durbin_watson_of_many(fit: Fitted) -> Iterator[Line]:
    """The same of rows that are read as needed, in the table's own order."""
    if fit.options.order:
        why = "many rows are gone through in the table's own order alone; write them in that order"
        yield cannot("durbin-watson", "order", ORDER, "Durbin–Watson", why)
        return
    n, square, differences, last = 0, 0.0, 0.0, None
    for e in pieces(fit).each(_neighbours):
        if e.n:
            gap = 0.0 if last is None else (e.first - last) ** 2
            differences, last = differences + e.differences + gap, e.last
            n, square = n + e.n, square + e.square
    if n > 2 and square > 0:
        yield _durbin_watson(fit, diagnostics.durbin_watson_of_sums(n, differences / square))


class _Neighbours(NamedTuple):
    """Sums of some rows in their order: how many, Σe², Σ(eₜ − eₜ₋₁)², the ends."""

    n: int
    square: float
    differences: float
    first: float
    last: float


def _neighbours(rows: Rows) -> _Neighbours:
    w = rows.block.precisions
    e = (rows.working * np.sqrt(w))[w > 0]
    if not len(e):
        return _Neighbours(0, 0.0, 0.0, 0.0, 0.0)
    return _Neighbours(
        len(e), inner(e, e), float(np.sum(np.diff(e) ** 2)), float(e[0]), float(e[-1])
    )


def _durbin_watson(fit: Fitted, test: diagnostics.Test) -> Line:
    tail = "neighbours alike" if test.size > 0 else "neighbours opposed"
    verdict = judged(test.p, abs(test.size), small=0.1, large=0.4)
    advice = NO_ADVICE
    if verdict != FINE:
        lag = f"lag({fit.design.sentence.response.expression}, 1)"
        advice = f"try {say.change(std_errors='autocorrelated')}, or {say.change(add=lag)}"
    finding = f"{tail} (correlation {figure(test.size, 2)} one row apart)"
    check = f"Durbin–Watson ({tail}, both tails)"
    line = Line("durbin-watson", "order", ORDER, check, test, verdict, advice, finding)
    return _where_order_means_something(fit, line)


def _where_order_means_something(fit: Fitted, line: Line) -> Line:
    """A line about order; in the table's own order, which may mean nothing, it is told alone."""
    if fit.options.order:
        return line
    advice = line.advice
    if line.verdict != FINE:
        order = say.option("order")
        advice = f"if the table's order means something, name it with {order}; then {advice}"
    return replace(line, verdict=FINE, advice=advice, shares_rate=False)


def _breusch_godfrey(e: np.ndarray, U: np.ndarray) -> Line:
    test = diagnostics.breusch_godfrey(e, U, LAGS)
    verdict = judged(test.p, test.size, small=0.03, large=0.25)
    advice = f"rows up to four apart are alike: try {say.change(std_errors='autocorrelated')}"
    advice = NO_ADVICE if verdict == FINE else advice
    check, finding = f"Breusch–Godfrey, {LAGS} rows back (F)", "rows nearby are alike"
    return Line("breusch-godfrey", "order", ORDER, check, test, verdict, advice, finding)


def scaled_residuals(fit: Fitted) -> tuple[np.ndarray, np.ndarray | None]:
    """Residuals times √w in order, and the columns' basis, None where memory is too small."""
    figures, places = per_row(fit), in_order(fit)
    small = len(places) * fit.solution.rank <= MOST_BASIS
    w, parts = [], []
    for block in working_rows(fit).row_blocks:
        precisions = block.precisions
        w.append(precisions)
        if small:
            parts.append(fit.solution.in_basis(block.X) * np.sqrt(precisions)[:, None])
    root = np.sqrt(np.concatenate(w))
    places = places[root[places] > 0]
    e = (figures.residual * root)[places]
    return e / fit.solution.unit, np.concatenate(parts)[places] if small else None
