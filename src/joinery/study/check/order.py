"""Are neighbouring rows independent?"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace
from functools import partial
from typing import NamedTuple

import numpy as np

from joinery.core.blocks.columns import Columns, some_rows
from joinery.core.blocks.partition import joined
from joinery.core.blocks.products import inner
from joinery.core.inference import diagnostics
from joinery.core.least_squares.solution import Solution
from joinery.design.row_blocks import RowBlock
from joinery.notation.evaluate import EVERY_ROW, Context
from joinery.show.numbers import count, figure
from joinery.study.check.check import NO_ADVICE, Line, cannot, nothing_left
from joinery.study.fitted import Fitted, rows_at_hand, without_place, working_rows
from joinery.study.rows.digest import Rows, pieces
from joinery.study.rows.figures import per_row, too_many
from joinery.study.verdicts import FINE, judged
from joinery.support import advice as say

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
    if not why:
        table, chosen = rows_at_hand(fit)
        if lacking := without_place(table, chosen.rows, fit.options.order):
            why = f"{fit.options.order} is missing in {count(lacking, 'row')}"
    if why:
        yield cannot("durbin-watson", "order", ORDER, "Durbin–Watson", why)
        return
    if too_many(fit) and fit.options.order:
        why = "many rows are gone through in the table's own order alone; write them in that order"
        yield cannot("durbin-watson", "order", ORDER, "Durbin–Watson", why)
        return
    distances, lagged = _of_many(fit) if too_many(fit) else _of_few(fit)
    yield _durbin_watson(fit, distances)
    if fit.residual_df > 2 * LAGS + 2 and np.isfinite(lagged.statistic):
        yield _where_order_means_something(fit, _breusch_godfrey(lagged))


def _of_few(fit: Fitted) -> tuple[diagnostics.Test, diagnostics.Test]:
    """Durbin and Watson's test, and Breusch and Godfrey's, of rows whose figures are held."""
    e, places, root = _scaled_residuals(fit)
    solution = fit.solution
    if len(root) * solution.rank <= MOST_BASIS:
        basis = joined(working_rows(fit).row_blocks, lambda block: solution.in_basis(block.X))
        U = (basis * root[:, None])[places]
        return diagnostics.durbin_watson(e, U), diagnostics.breusch_godfrey(e, U, LAGS)
    Z = diagnostics.lagged(e, LAGS)
    weighted = np.zeros((len(root), LAGS))  # in the order of the table
    weighted[places] = Z * root[places, None]

    def of_block(block: RowBlock) -> np.ndarray:
        return solution.centred_sums(block.columns, weighted[block.span])

    raw = np.add.reduce(list(working_rows(fit).row_blocks.each(of_block)))
    of_lags = _of_sums(fit, len(e), raw, Z.T @ Z, Z.T @ e, float(e @ e))
    return diagnostics.durbin_watson(e, None), of_lags


def _of_sums(
    fit: Fitted, n: int, raw: np.ndarray, ZZ: np.ndarray, Ze: np.ndarray, ee: float
) -> diagnostics.Test:
    """Breusch and Godfrey's test from sums, the first the ``centred_sums`` of lagged residuals."""
    UZ, df = fit.solution.sums_in_basis(raw), n - fit.solution.rank - LAGS
    return diagnostics.breusch_godfrey_of_sums(ZZ, UZ, Ze, ee, df)


def _of_many(fit: Fitted) -> tuple[diagnostics.Test, diagnostics.Test]:
    """The same of rows that are read as needed, in the table's own order.

    The first rows of a block follow the last of the one before: they are added here."""
    solution, before = fit.solution, np.zeros(LAGS)
    raw, ZZ, Ze = np.zeros((1 + len(solution.kept), LAGS)), np.zeros((LAGS, LAGS)), np.zeros(LAGS)
    n, square, differences = 0, 0.0, 0.0
    for part in pieces(fit).each(partial(_neighbours, solution)):
        e = np.append(before, part.first)
        Z = diagnostics.lagged(e, LAGS)[LAGS:]
        gap = np.diff(e)[LAGS - 1 if n else LAGS :]  # nothing stands before the first row of all
        raw += part.raw + solution.centred_sums(part.columns, Z * part.root[:, None])
        ZZ, Ze = ZZ + part.ZZ + Z.T @ Z, Ze + part.Ze + Z.T @ part.first
        n, square = n + part.n, square + part.square
        differences += part.differences + float(gap @ gap)
        before = np.append(before, part.last)[-LAGS:]
    if n <= 2 or not square > 0:
        return diagnostics.NOTHING, diagnostics.NOTHING
    lagged = _of_sums(fit, n, raw, ZZ, Ze, square)
    return diagnostics.durbin_watson_of_sums(n, differences / square), lagged


class _Neighbours(NamedTuple):
    """Sums of some rows in their order, without the first few as followers, which stand beside.

    Z are the residuals one row back and so on; ``columns``, ``root`` and ``first`` the first rows,
    the roots of their weights and their residuals; ``last`` the residuals of the last."""

    n: int
    square: float
    differences: float
    raw: np.ndarray
    ZZ: np.ndarray
    Ze: np.ndarray
    columns: Columns
    root: np.ndarray
    first: np.ndarray
    last: np.ndarray


def _neighbours(solution: Solution, rows: Rows) -> _Neighbours:
    root, columns = np.sqrt(rows.block.precisions), rows.block.columns
    e = rows.working * root / solution.unit
    Z, gap = diagnostics.lagged(e, LAGS)[LAGS:], np.diff(e)[LAGS - 1 :]
    follow = some_rows(columns, slice(LAGS, None))
    return _Neighbours(
        len(e),
        inner(e, e),
        inner(gap, gap),
        solution.centred_sums(follow, Z * root[LAGS:, None]),
        Z.T @ Z,
        Z.T @ e[LAGS:],
        some_rows(columns, np.arange(min(LAGS, len(e)))),
        root[:LAGS],
        e[:LAGS],
        e[-LAGS:],
    )


def _durbin_watson(fit: Fitted, test: diagnostics.Test) -> Line:
    if test.size > 0:
        tail = "neighbours alike"
    else:
        tail = "neighbours opposed"
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


def _breusch_godfrey(test: diagnostics.Test) -> Line:
    verdict = judged(test.p, test.size, small=0.03, large=0.25)
    advice = f"rows up to four apart are alike: try {say.change(std_errors='autocorrelated')}"
    if verdict == FINE:
        advice = NO_ADVICE
    check, finding = f"Breusch–Godfrey, {LAGS} rows back (F)", "rows nearby are alike"
    return Line("breusch-godfrey", "order", ORDER, check, test, verdict, advice, finding)


def _scaled_residuals(fit: Fitted) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Residuals times √w in order, the places of their rows, and the √w of all rows (n,)."""
    figures, places = per_row(fit), in_order(fit)
    table, used = rows_at_hand(fit)
    w = fit.asides.values("weights", Context(table, used.rows))
    if w is None:
        root = np.ones(used.used)
    else:
        root = np.sqrt(w)
    return (figures.residual * root)[places] / fit.solution.unit, places, root
