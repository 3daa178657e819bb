"""Whether the spread is even."""

from __future__ import annotations

from collections.abc import Iterator
from functools import reduce

import numpy as np

from joinery import advice as say
from joinery.core.inference import diagnostics
from joinery.core.least_squares.solve import least_squares
from joinery.design.curves import quantiles
from joinery.design.row_blocks import WithResponse
from joinery.show.numbers import figure
from joinery.study.check.check import NO_ADVICE, Line, cannot, nothing_left
from joinery.study.fitted import Fitted, working_rows
from joinery.study.rows.figures import per_row
from joinery.study.verdicts import FINE, judged

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
    figures = per_row(fit)
    squares = figures.influence.standardized**2 * (1 - figures.influence.leverage)
    times = figures.times if fit.asides.repeats is not None else None
    share, rows, columns = _explained(fit, squares, times)
    test = diagnostics.even_spread(share, rows, columns)
    ratio = spread_ratio(figures.terms, figures.influence.standardized, figures.times)
    size = abs(np.log(ratio)) if np.isfinite(ratio) else 0.0
    # unevenness that does not follow the fitted values shows in how much of the squares is
    # explained
    size = max(size, 4 * test.statistic / rows) if np.isfinite(test.statistic) else size
    verdict = judged(test.p, size, small=np.log(1.3), large=np.log(3.0))
    grows = ratio > 1
    words = "the spread changes with the predictors"
    if np.isfinite(ratio) and abs(np.log(ratio)) > np.log(1.3):
        turn = "grows" if grows else "shrinks"
        words = f"the spread {turn} with the fitted values (× {figure(ratio, 2)} from low to high)"
    advice = NO_ADVICE
    if verdict != FINE:
        log = not fit.response.transformed and float(np.min(figures.observed)) > 0 and grows
        way = f"{say.change(response=f'log({fit.response.expression})')}, or " if log else ""
        advice = f"try {way}{say.change(std_errors='robust')}; or {say.option('weights')}"
    yield Line("spread", "even spread", EVEN, check, test, verdict, advice, words)


def _explained(
    fit: Fitted, squares: np.ndarray, times: np.ndarray | None
) -> tuple[float, int, int]:
    """R² of squared residuals (n,) on the fit's columns, of how many rows and columns."""
    own, sound = fit.solution, np.isfinite(squares).all()
    plain = fit.asides.weights is None and times is None and own.has_intercept
    if plain and sound and fit.estimate.linear:  # the factor of the fit serves
        centred = squares - squares.mean()
        parts = working_rows(fit).row_blocks.each(
            lambda block: own.centred_sums(block.columns, centred[block.own, None])
        )
        total = float(centred @ centred)
        explained = float((own.sums_in_basis(reduce(np.add, parts))[1:] ** 2).sum())
        return explained / total if total > 0 else np.nan, len(squares), len(own.kept)
    rows = int(per_row(fit).times[np.isfinite(squares)].sum())
    solution = least_squares(WithResponse(working_rows(fit), squares, times), n=rows)
    share = 1 - solution.rss / solution.tss if solution.tss > 0 else np.nan
    return share, solution.n, len(solution.kept)


def spread_ratio(fitted: np.ndarray, residual: np.ndarray, times: np.ndarray) -> float:
    """The residuals' root mean square in the highest third of fitted values over the lowest."""
    sound = np.isfinite(residual)
    fitted, residual, times = fitted[sound], residual[sound], times[sound]
    if times.sum() < 9:
        return float("nan")
    low, high = quantiles(fitted, times, np.array([1 / 3, 2 / 3]))
    # fitted values that differ by rounding alone stand on the same side
    margin = 1e-9 * float(np.ptp(fitted))
    below, above = fitted <= low + margin, fitted >= high - margin
    if high - low <= margin or not below.any() or not above.any():
        return float("nan")
    with np.errstate(all="ignore"):
        upper, lower = (
            np.average(residual[side] ** 2, weights=times[side]) for side in (above, below)
        )
        return float(np.sqrt(upper / lower))
