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
from joinery.core.inference.added import smallest_shift
from joinery.core.inference.diagnostics import NOTHING, Test
from joinery.core.inference.neighbours import (
    breusch_godfrey,
    breusch_godfrey_of_sums,
    durbin_watson,
    durbin_watson_of_sums,
    lagged,
)
from joinery.core.least_squares.solution import Solution
from joinery.design.row_blocks import RowBlock
from joinery.notation.context import Context
from joinery.show.numbers import count, figure
from joinery.study.check.added import with_residuals
from joinery.study.check.check import ORDER, Line, Seen, not_judged, nothing_left
from joinery.study.check.lagged import STEPS, differences, lagged_predictors, wandering
from joinery.study.check.rate import SHARES
from joinery.study.check.season import season
from joinery.study.check.sequence import in_order, order_option, sequence
from joinery.study.fitted import Fitted, rows_at_hand, without_place, working_rows
from joinery.study.rows.figures import figures_in_pieces, per_row, too_many
from joinery.study.rows.glm_figures import has_quantiles
from joinery.study.rows.per_row import PerRow
from joinery.study.rows.row_stream import Rows, pieces
from joinery.study.verdicts import NOT_JUDGED
from joinery.support import advice as say
from joinery.support.limits import ORDER_CELLS

LAGS = 4  # neighbours that Breusch and Godfrey's test goes back
MOST_TOLD = 2e5  # cells of a basis whose figures are told where no order is known


def order(fit: Fitted) -> Iterator[Line]:
    """Yield Durbin and Watson's d with its true p, lagged residuals added to the model, and
    seasons."""
    check = "Durbin–Watson"
    why = nothing_left(fit)
    if not why and fit.asides.repeats is not None:
        why = "rows that stand for several have no neighbours"
    if not why:
        table, chosen = rows_at_hand(fit)
        if lacking := without_place(table, chosen.rows, fit.options.order):
            why = f"{fit.options.order} is missing in {count(lacking, 'row')}"
    if not why and too_many(fit) and fit.options.order:
        why = "many rows are gone through in the table's own order alone; write them in that order"
    if why:
        yield not_judged("durbin-watson", "order", ORDER, check, why)
        return
    known = sequence(fit)
    way = f"name it: {say.option('order', 'COLUMN')}"
    # without an order the figures have no verdict: they are not worth a basis of all rows
    large = fit.n_rows * fit.solution.rank > MOST_TOLD
    if known is None and large and not too_many(fit):
        yield not_judged("durbin-watson", "order", ORDER, check, way)
        return
    distances, of_lags = _neighbour_tests(fit)
    # two series that wander are alike by chance; their steps from row to row are not
    wander = wandering(fit, distances)
    lines = [_durbin_watson(fit, distances, wander)]
    if fit.residual_df > 2 * LAGS + 2 and np.isfinite(of_lags.statistic):
        lines.append(_breusch_godfrey(fit, of_lags))
    if known is None:  # the table's own order, which may mean nothing: figures without a verdict
        for line in lines:
            yield replace(line, tested=False, verdict=NOT_JUDGED, advice=way)
        return
    lines = [replace(line, check=f"{line.check}, {known.words}") for line in lines]
    lines += [*season(fit, known), *lagged_predictors(fit, known)]
    if wander:  # what else is found comes of it
        yield from lines
    else:  # the surest is the cause, and its advice comes first
        yield from sorted(lines, key=lambda line: line.test.p)


def _neighbour_tests(fit: Fitted) -> tuple[Test, Test]:
    """Return Durbin and Watson's test, and Breusch and Godfrey's, which is for least squares
    alone."""
    if not fit.estimate.linear:
        return _of_family(fit), NOTHING
    if too_many(fit):
        return _of_many(fit)
    return _of_few(fit)


def _of_family(fit: Fitted) -> Test:
    """Return Durbin and Watson's test of quantile residuals (Dunn & Smyth 1996), else of
    Pearson's."""
    if too_many(fit):
        return _of_many_by_family(fit)
    e, places = _family_residuals(per_row(fit)), in_order(fit)
    if len(e) * fit.solution.rank > ORDER_CELLS:
        return durbin_watson(e[places], None)
    parts = [_basis(fit.solution, block) for block, _ in with_residuals(fit)]
    return durbin_watson(e[places], np.concatenate(parts)[places])


def _of_many_by_family(fit: Fitted) -> Test:
    """Return the same of rows that are read as needed, in the table's own order."""
    n, square, steps, last = 0, 0.0, 0.0, np.empty(0)
    for e in figures_in_pieces(fit).each(_family_residuals):
        gap = np.diff(np.append(last, e))
        n, square, steps = n + len(e), square + inner(e, e), steps + inner(gap, gap)
        last = e[-1:]
    if n <= 2 or not square > 0:
        return NOTHING
    return durbin_watson_of_sums(n, steps / square)


def _family_residuals(figures: PerRow) -> np.ndarray:
    """Return quantile residuals, Pearson's where the family has no law; 0 where there is none."""
    e = figures.extras.get("quantile_residual", figures.extras["pearson_residual"])
    return np.where(np.isfinite(e), e, 0.0)


def _basis(solution: Solution, block: RowBlock) -> np.ndarray:
    """Return the rows of a block in an orthonormal basis of the weighted columns (m, rank)."""
    return np.asarray(solution.in_basis(block.X) * np.sqrt(block.precisions)[:, None])


# ------------------------------------------------------------------ neighbours


def _of_few(fit: Fitted) -> tuple[Test, Test]:
    """Return Durbin and Watson's test, and Breusch and Godfrey's, of rows whose figures are
    held."""
    e, places, root = _scaled_residuals(fit)
    solution = fit.solution
    # the exact law of d needs the basis; of so many rows the normal one is as good
    if len(root) * solution.rank <= ORDER_CELLS:
        basis = joined(working_rows(fit).row_blocks, lambda block: solution.in_basis(block.X))
        U = (basis * root[:, None])[places]
        return durbin_watson(e, U), breusch_godfrey(e, U, LAGS)
    Z = lagged(e, LAGS)
    weighted = np.zeros((len(root), LAGS))  # in the order of the table
    weighted[places] = Z * root[places, None]

    def of_block(block: RowBlock) -> np.ndarray:
        return solution.centred_sums(block.columns, weighted[block.span])

    raw = np.add.reduce(list(working_rows(fit).row_blocks.each(of_block)))
    of_lags = _of_sums(fit, len(e), raw, Z.T @ Z, Z.T @ e, float(e @ e))
    return durbin_watson(e, None), of_lags


def _of_sums(
    fit: Fitted, n: int, raw: np.ndarray, ZZ: np.ndarray, Ze: np.ndarray, ee: float
) -> Test:
    """Return Breusch and Godfrey's test from sums, the first the ``centred_sums`` of lagged
    residuals."""
    UZ, df = fit.solution.sums_in_basis(raw), n - fit.solution.rank - LAGS
    return breusch_godfrey_of_sums(ZZ, UZ, Ze, ee, df)


def _of_many(fit: Fitted) -> tuple[Test, Test]:
    """Return the same of rows that are read as needed, in the table's own order.

    The first rows of a block follow the last of the one before: they are added here."""
    solution, before = fit.solution, np.zeros(LAGS)
    raw, ZZ, Ze = np.zeros((1 + len(solution.kept), LAGS)), np.zeros((LAGS, LAGS)), np.zeros(LAGS)
    n, square, differences = 0, 0.0, 0.0
    for part in pieces(fit).each(partial(_neighbours, solution)):
        e = np.append(before, part.first)
        Z = lagged(e, LAGS)[LAGS:]
        gap = np.diff(e)[LAGS - 1 if n else LAGS :]  # nothing stands before the first row of all
        raw += part.raw + solution.centred_sums(part.columns, Z * part.root[:, None])
        ZZ, Ze = ZZ + part.ZZ + Z.T @ Z, Ze + part.Ze + Z.T @ part.first
        n, square = n + part.n, square + part.square
        differences += part.differences + float(gap @ gap)
        before = np.append(before, part.last)[-LAGS:]
    if n <= 2 or not square > 0:
        return NOTHING, NOTHING
    of_lags = _of_sums(fit, n, raw, ZZ, Ze, square)
    return durbin_watson_of_sums(n, differences / square), of_lags


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
    Z, gap = lagged(e, LAGS)[LAGS:], np.diff(e)[LAGS - 1 :]
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


def _durbin_watson(fit: Fitted, test: Test, wander: bool) -> Line:
    if test.size > 0:
        tail = "neighbours alike"
    else:
        tail = "neighbours opposed"
    of = ""
    if not fit.estimate.linear:
        of = " of quantile residuals" if has_quantiles(fit.estimate) else " of Pearson residuals"
    more = ""
    if wander:
        more = "; series that wander like these are correlated by chance alone"
    seen = smallest_shift(SHARES["order"] / 2) / np.sqrt(max(fit.n_rows, 1))
    return Line(
        "durbin-watson",
        "order",
        ORDER,
        f"Durbin–Watson{of} ({tail}, both tails)",
        replace(test, size=abs(test.size)),
        finding=f"{tail} (correlation {figure(test.size, 2)} one row apart){more}",
        advise=partial(_advice, fit, wander),
        small=0.1,
        large=0.4,
        would_see=Seen("neighbours alike", float(seen)) if seen < 1 else None,
        allowed_by=_allowed(fit),
    )


def _allowed(fit: Fitted) -> str:
    if fit.options.std_errors != "autocorrelated":
        return ""
    return "autocorrelated standard errors take care of the coefficients, not of forecasts"


def _advice(fit: Fitted, wander: bool = False) -> str:
    """Return standard errors that hold; a lagged response alone would bend the coefficients."""
    known = sequence(fit)
    steps = ""
    if wander:
        steps = differences(fit, known)
    if steps:
        return f"{STEPS}: {steps}"
    order = {}
    if known is not None:
        order = order_option(fit, known)
    return f"try {say.change(std_errors='autocorrelated', **order)}"


def _breusch_godfrey(fit: Fitted, test: Test) -> Line:
    return Line(
        "breusch-godfrey",
        "order",
        ORDER,
        f"Breusch–Godfrey, {LAGS} rows back (F)",
        test,
        finding="rows nearby are alike",
        advise=partial(_advice, fit),
        small=0.03,
        large=0.25,
        allowed_by=_allowed(fit),
    )


def _scaled_residuals(fit: Fitted) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Return residuals times √w in order, the places of their rows, and the √w of all rows (n,)."""
    figures, places = per_row(fit), in_order(fit)
    table, used = rows_at_hand(fit)
    w = fit.asides.values("weights", Context(table, used.rows))
    if w is None:
        root = np.ones(used.used)
    else:
        root = np.sqrt(w)
    return (figures.residual * root)[places] / fit.solution.unit, places, root
