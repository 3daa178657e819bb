"""Is the spread even?"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from functools import partial

import numpy as np

from joinery.core.blocks.blocks import Block
from joinery.core.blocks.order_statistics import Counted, quantiles
from joinery.core.blocks.partition import Partition
from joinery.core.inference import diagnostics
from joinery.core.least_squares.solution import Solution
from joinery.core.least_squares.solve import least_squares
from joinery.design.row_blocks import RowBlock, complete
from joinery.show.numbers import figure
from joinery.study.check.check import NO_ADVICE, Line, cannot, nothing_left
from joinery.study.fitted import Fitted, working_rows
from joinery.study.rows.digest import Rows, digest, pieces, squares_of, times_of
from joinery.study.verdicts import FINE, judged
from joinery.support import advice as say

EVEN = "Is the spread even?"


def even(fit: Fitted) -> Iterator[Line]:
    """Squared residuals on all predictors, and how much wider the spread is for high fits."""
    check = "Breusch–Pagan, studentized"
    if why := nothing_left(fit):
        yield cannot("spread", "even spread", EVEN, check, why)
        return
    if not fit.design.width:
        yield cannot(
            "spread",
            "even spread",
            EVEN,
            check,
            "there is no predictor for the spread to grow with",
        )
        return
    share, rows, columns = _explained(fit)
    test = diagnostics.even_spread(share, rows, columns)
    ratio = _ratio(fit)
    if np.isfinite(ratio):
        size = abs(np.log(ratio))
    else:
        size = 0.0
    # unevenness that does not follow the fitted values shows in how much of the squares is
    # explained
    if np.isfinite(test.statistic):
        size = max(size, 4 * test.statistic / rows)
    verdict = judged(test.p, size, small=np.log(1.3), large=np.log(3.0))
    grows = ratio > 1
    words = "the spread changes with the predictors"
    if np.isfinite(ratio) and abs(np.log(ratio)) > np.log(1.3):
        if grows:
            turn = "grows"
        else:
            turn = "shrinks"
        words = f"the spread {turn} with the fitted values (× {figure(ratio, 2)} from low to high)"
    advice = NO_ADVICE
    if verdict != FINE:
        log = not fit.response.transformed and digest(fit).lowest > 0 and grows
        if log:
            way = f"{say.change(response=f'log({fit.response.expression})')}, or "
        else:
            way = ""
        advice = f"try {way}{say.change(std_errors='robust')}; or {say.option('weights')}"
    yield Line("spread", "even spread", EVEN, check, test, verdict, advice, words)


def _explained(fit: Fitted) -> tuple[float, int, int]:
    """R² of squared residuals on the fit's columns, of how many rows and columns."""
    result, totals = fit.solution, digest(fit)
    if totals.spread is not None and totals.sound == totals.rows:  # the factor of the fit serves
        total = totals.spread.squares - totals.spread.total**2 / totals.rows
        explained = float((result.sums_in_basis(totals.spread.raw)[1:] ** 2).sum())
        return explained / total if total > 0 else np.nan, totals.rows, len(result.kept)
    counted = fit.asides.repeats is not None
    blocks = _Squares(fit.design.width, pieces(fit).map(partial(_squares, counted)))
    solution = least_squares(blocks, n=int(totals.moments.n))
    if solution.tss > 0:
        share = 1 - solution.rss / solution.tss
    else:
        share = np.nan
    return share, solution.n, len(solution.kept)


@dataclass(frozen=True)
class _Squares:
    """Squared residuals as the response, beside the fit's own columns."""

    width: int
    pieces: Partition[Block]


def _squares(counted: bool, rows: Rows) -> Block:
    return complete(rows.block.columns, squares_of(rows), rows.times if counted else None)


def _ratio(fit: Fitted) -> float:
    """``spread_ratio`` of the fitted rows, which are gone through again where they are many."""
    totals = digest(fit)
    low, high = totals.curved.low[-1], totals.curved.high[-1]
    margin = 1e-9 * float(high - low) * fit.solution.unit
    if (held := totals.held) is not None:
        judged: Partition[Judged] = Partition(1, lambda i, _: held)
        counted: Partition[Counted] = judged.map(lambda piece: _sound(piece)[::2])
    else:
        judged = pieces(fit).map(_judged)
        counted = judged.map(lambda piece: _sound(piece)[::2])
        if totals.sound == totals.rows:  # then the fitted values alone are wanted
            fitted = partial(_fitted, fit.solution)
            counted = working_rows(fit).row_blocks.map(fitted)
    return spread_ratio(judged, counted, totals.moments.n, margin)


Judged = tuple[np.ndarray, np.ndarray, np.ndarray | None]  # fitted, residual, times, each (m,)


def _judged(rows: Rows) -> Judged:
    return rows.terms, rows.standardized, times_of(rows)


def _fitted(solution: Solution, block: RowBlock) -> Counted:
    return solution.fitted(block.columns), block.repeats


def spread_ratio(
    rows: Partition[Judged], fitted: Partition[Counted], n: float, margin: float
) -> float:
    """The residuals' root mean square in the highest third of fitted values over the lowest.

    Parameters: the rows; their fitted values alone; how many rows they stand for; fitted values
    nearer than ``margin`` differ by rounding alone and stand on the same side."""
    if n < 9:
        return float("nan")
    low, high = quantiles(fitted, np.array([1 / 3, 2 / 3]), n).tolist()
    if high - low <= margin:
        return float("nan")
    upper, lower = np.add.reduce(
        list(rows.each(partial(_sides, low=low + margin, high=high - margin)))
    )
    with np.errstate(all="ignore"):
        return float(np.sqrt((upper[0] / upper[1]) / (lower[0] / lower[1])))


def _sides(piece: Judged, low: float, high: float) -> np.ndarray:
    """Σ times·e² and Σ times of the rows above and below."""
    fitted, residual, times = _sound(piece)
    out = []
    for side in (fitted >= high, fitted <= low):
        e2 = residual[side] ** 2
        if times is None:
            t = None
        else:
            t = times[side]
        out.append(
            [float(e2.sum()), float(len(e2))] if t is None else [float(t @ e2), float(t.sum())]
        )
    return np.array(out)


def _sound(piece: Judged) -> Judged:
    """The rows whose residual can be scaled."""
    here = np.isfinite(piece[1])
    if here.all():
        return piece
    return piece[0][here], piece[1][here], None if piece[2] is None else piece[2][here]
